package proof

import (
	"testing"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
)

func person(kind string, state reason.Code) *facts.Person {
	return &facts.Person{Store: "local", Name: "ann" + kind, Kind: kind, State: state}
}

func TestOnlyARightClaimOfSomebodyIsFinished(t *testing.T) {
	for name, c := range map[string]struct {
		claim *Claim
		right bool
		want  bool
	}{
		"right":                    {&Claim{Person: person("", reason.OK)}, true, true},
		"not checked":              {&Claim{Person: person("", reason.OK)}, false, false},
		"of nobody":                {&Claim{}, true, false},
		"of somebody disabled":     {&Claim{Person: person("", reason.PersonDisabled)}, true, false},
		"no claim":                 {nil, false, false},
		"a computer as the user":   {&Claim{Person: person(facts.Computer, reason.OK), Subject: User}, true, false},
		"a person as the computer": {&Claim{Person: person("", reason.OK), Subject: Machine}, true, false},
		"a computer as the computer": {&Claim{Person: person(facts.Computer, reason.OK), Subject: Machine}, true,
			true},
		"a computer where all may be": {&Claim{Person: person(facts.Computer, reason.OK)}, true, true},
	} {
		if c.right {
			c.claim.Right()
		}
		p := c.claim.Finish("pap")
		var f facts.Facts
		if Into(&f, p); p.Finished() != c.want || (f.Person != nil) != c.want {
			t.Errorf("%s: finished %v, person %+v", name, p.Finished(), f.Person)
		}
	}
}

func TestFactsComeFromProofsAlone(t *testing.T) {
	certificate := &facts.Certificate{Subject: "CN=victim"}
	f := facts.Facts{Claimed: person("", reason.OK), Certificate: certificate, Credential: reason.PasswordWrong,
		CredentialDetail: "x", Method: "teap-tls"}
	Into(&f, Proof{})
	if f.Person != nil || f.Claimed == nil || f.Credential != reason.PasswordWrong {
		t.Errorf("the zero proof made %+v", f)
	}
	machine, user := &Claim{Person: person(facts.Computer, reason.OK), Inner: "host/pc01", Subject: Machine},
		&Claim{Person: person("", reason.OK), Inner: "ann", Subject: User}
	machine.Right()
	user.Right()
	Into(&f, Proof{}, machine.Finish("teap-tls"), user.Finish("teap-mschapv2"))
	if f.Person != user.Person || f.Machine != machine.Person || f.Claimed != nil || f.Certificate != nil ||
		f.Inner != "ann" || f.Method != "teap-mschapv2" || f.Credential != reason.OK || f.CredentialDetail != "" {
		t.Errorf("two proofs made %+v", f)
	}
}
