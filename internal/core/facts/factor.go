package facts

import (
	"strconv"

	"tollgate.example/key/internal/core/reason"
)

// Ways by which a second factor was shown.
const (
	ByCode     = "code"
	ByRecovery = "recovery"
	// ByApproval is an approval on the person's phone.
	ByApproval = "approval"
	// ByTemporary is a code that an operator gave for a while.
	ByTemporary = "temporary"
	// ByRest is one that was shown a while ago, from the same place.
	ByRest = "earlier"
)

// Factor is what a second factor came to.
type Factor struct {
	// Outcome is reason.OK, or why it does not count.
	Outcome reason.Code `json:"outcome"`
	// By is how it was shown: ByCode, ByRecovery or ByRest; "" where it was not.
	By     string `json:"by,omitempty"`
	Detail string `json:"detail,omitempty"`
	Micros int64  `json:"micros"`
	// Supposed tells that the person has a device for codes and was not asked, SupposedPhone that it is a phone that
	// approves: a rehearsal supposes that it would have been shown where the lane asks. They are never recorded.
	Supposed      bool `json:"-"`
	SupposedPhone bool `json:"-"`
}

func (x *Factor) append(b []byte) []byte {
	b = appendText(append(b, `,"factor":{"outcome":`...), string(x.Outcome))
	b = appendOptional(b, "by", x.By)
	b = appendOptional(b, "detail", x.Detail)
	b = strconv.AppendInt(append(b, `,"micros":`...), x.Micros, 10)
	return append(b, '}')
}
