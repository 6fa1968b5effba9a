package feed

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/presence"
)

// HostReport is what a host says of itself: everybody who is signed in, and so who no longer is.
type HostReport struct {
	Host   string       `json:"host"`
	People []HostPerson `json:"people"`
}

// HostPerson is one of them. Seconds is how long ago the person signed in, so that clocks do not matter.
type HostPerson struct {
	Who     string `json:"who"`
	Display string `json:"display,omitempty"`
	Ports   string `json:"ports,omitempty"`
	Seconds int64  `json:"seconds"`
}

// HostAnswer is what became of it. Every is after how many seconds the next report is due at the latest.
type HostAnswer struct {
	Taken   int       `json:"taken"`
	Refused []refusal `json:"refused"`
	Address string    `json:"address"`
	Every   int       `json:"every"`
}

// host takes the report of a host, about the address that it comes from and no other: whoever has the token of a host
// cannot put people anywhere else.
func (s *server) host(w http.ResponseWriter, r *http.Request, source *presence.Source) {
	var in HostReport
	d := json.NewDecoder(r.Body)
	d.DisallowUnknownFields()
	if err := d.Decode(&in); err != nil {
		s.Refuse(source, "a report cannot be read: "+err.Error())
		refuse(w, http.StatusBadRequest, "the report cannot be read: "+err.Error())
		return
	}
	h := presence.Host{Address: from(r), Name: in.Host}
	out := HostAnswer{Refused: []refusal{}, Address: h.Address.String(), Every: max(10, source.Minutes*60/4)}
	index := []int{}
	for i, p := range in.People {
		one := presence.HostPerson{Who: p.Who, Display: p.Display, For: seconds(p.Seconds)}
		var err error
		if p.Ports != "" {
			one.Ports, err = core.ParsePorts(p.Ports)
		}
		if err != nil {
			s.Refuse(source, "ports: "+err.Error())
			out.Refused = append(out.Refused, refusal{i, "ports: " + err.Error()})
			continue
		}
		h.People, index = append(h.People, one), append(index, i)
	}
	refused, err := s.TakeHost(source, h)
	switch {
	case errors.Is(err, presence.ErrFlood):
		w.Header().Set("Retry-After", "1")
		refuse(w, http.StatusTooManyRequests, err.Error())
		return
	case errors.Is(err, core.ErrCrowded):
		refuse(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("at most %d people are taken of one host",
			presence.MaxPeople))
		return
	case err != nil:
		refuse(w, http.StatusForbidden, err.Error())
		return
	}
	for _, one := range refused {
		out.Refused = append(out.Refused, refusal{index[one.Index], one.Err.Error()})
	}
	out.Taken = len(in.People) - len(out.Refused)
	answer(w, out)
}

// seconds is a duration that fits.
func seconds(n int64) time.Duration { return time.Duration(min(max(0, n), 365*24*3600)) * time.Second }
