package facts

import (
	"strconv"

	"tollgate.example/key/internal/core/reason"
)

// Factor is what a second factor came to.
type Factor struct {
	// Outcome is reason.OK, or why it does not count.
	Outcome reason.Code `json:"outcome"`
	Detail  string      `json:"detail,omitempty"`
	Micros  int64       `json:"micros"`
}

func (x *Factor) append(b []byte) []byte {
	b = appendText(append(b, `,"factor":{"outcome":`...), string(x.Outcome))
	b = appendOptional(b, "detail", x.Detail)
	b = strconv.AppendInt(append(b, `,"micros":`...), x.Micros, 10)
	return append(b, '}')
}
