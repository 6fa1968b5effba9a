package lab

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/web/apitype"
)

// authenticator is the phone of somebody of the demo that shows one-time codes.
type authenticator struct{ person, label, seed string }

// CodeUser has a phone, and signs in to nothing by herself: anybody may try with her codes.
const CodeUser = "s.lodge"

// DeskAddress and DeskSecret are of the gateway of remote desktops, which asks for codes by challenge.
const (
	DeskAddress = "127.0.10.45"
	DeskSecret  = "quay-light-dk-2Vf8"
)

// phones are known here, so that anybody may look at them. Not everybody of the Network Team has one: the refusal is to
// be seen.
var phones = []authenticator{
	{"n.pryce", "phone of Nerys", "LANTERNFERRYHARBOURHOUSENERYQUAY"},
	{CodeUser, "phone of Sunniva", "LANTERNFERRYHARBOURHOUSESUNNIVAX"},
}

// PhoneCode is the code that the phone of somebody shows, and for how long.
func PhoneCode(person string, now time.Time) (code string, left time.Duration, err error) {
	var names []string
	for _, p := range phones {
		if p.person == strings.ToLower(person) {
			code, err = factor.Code(p.seed, now)
			return code, now.Truncate(30 * time.Second).Add(30 * time.Second).Sub(now), err
		}
		names = append(names, p.person)
	}
	slices.Sort(names)
	return "", 0, fmt.Errorf("%s has no phone in the demo; these have: %s", person, strings.Join(names, ", "))
}

// phones enrols those who have one, with the code before the present one, so that the present one can be used at once.
func (s *setup) phones() {
	for _, p := range phones {
		if s.err != nil {
			return
		}
		var offer apitype.FactorOffer
		if err := s.c.Do(s.ctx, http.MethodPost, "/factors", apitype.FactorInput{Store: NetBIOS, Person: p.person,
			Label: p.label, Seed: p.seed}, &offer); err != nil {
			s.err = fmt.Errorf("enrolling %s: %w", p.person, err)
			return
		}
		code, err := factor.Code(p.seed, time.Now().Add(-30*time.Second))
		if err != nil {
			s.err = err
			return
		}
		s.add("/factors/"+offer.Factor.ID+"/confirm", apitype.FactorCode{Code: code})
	}
}
