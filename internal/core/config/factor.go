package config

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Second factors that a lane may ask for, beside the credential.
const (
	// OneTimeCode is a code that is used once (RFC 4226, RFC 6238), a recovery code or a temporary one.
	OneTimeCode = "code"
	// Approval is that the person approves the sign-in on a phone.
	Approval = "approval"
	// AnyFactor is either of the two.
	AnyFactor = "any"
)

// SecondFactors are all of them.
var SecondFactors = []string{OneTimeCode, Approval, AnyFactor}

// TakesCode tells that a one-time code will do as second factor.
func (l *Lane) TakesCode() bool { return l.SecondFactor == OneTimeCode || l.SecondFactor == AnyFactor }

// TakesApproval tells that an approval on a phone will do as second factor.
func (l *Lane) TakesApproval() bool { return l.SecondFactor == Approval || l.SecondFactor == AnyFactor }

const (
	// usualWait is how long a request waits for an approval, in seconds; usualWaitAgain where the device can be asked
	// again.
	usualWait      = 30
	usualWaitAgain = 10
	maxWait        = 100
)

// ApprovalWait is how long a request waits for an approval. again tells that the device can be asked again then.
func (l *Lane) ApprovalWait(again bool) time.Duration {
	seconds := l.Factor.Wait
	if seconds == 0 && again {
		seconds = usualWaitAgain
	} else if seconds == 0 {
		seconds = usualWait
	}
	return time.Duration(seconds) * time.Second
}

// LaneFactor says how a lane asks for its second factor.
type LaneFactor struct {
	// Ask is one of FactorAsks; empty for either.
	Ask string `json:"ask,omitempty" enum:"either,challenge,append" required:"false" doc:"either takes a code behind the password, and asks for it by Access-Challenge where there is none; challenge always asks; append never does"`
	// Text is what the person reads when asked; {number} in it is the number to enter on the phone.
	Text string `json:"text,omitempty" required:"false" maxLength:"200" doc:"What the person reads when asked by challenge; {number} is the number to enter on the phone" example:"Code from your phone:"`
	// Wait is how long a request waits for an approval, in seconds; 0 is usual.
	Wait int `json:"wait,omitempty" required:"false" minimum:"0" maximum:"100" doc:"Seconds that a request waits for an approval; the device has to wait longer. 0: 30, or 10 where it can be asked again"`
	// When limits who is asked, by a condition as policies have it; empty for everybody.
	When string `json:"when,omitempty" required:"false" doc:"Who is asked, as a condition over the request and the person; empty for everybody" example:"group is Contractors"`
	// Until is until when people who have none are admitted without, zero for not at all.
	Until time.Time `json:"until,omitzero" required:"false" doc:"Until when people who have no second factor are admitted without"`
	// Pass is what people get who have none, afterwards; empty refuses them.
	Pass string `json:"pass,omitempty" required:"false" doc:"Pass of people who have no second factor, once the time is over; empty refuses them"`
}

// Ways to ask for a code over RADIUS.
const (
	// AskEither takes a code right behind the password, and asks for it by Access-Challenge where none is there.
	AskEither = "either"
	// AskChallenge always asks by Access-Challenge; what is typed first is the password, whatever it ends in.
	AskChallenge = "challenge"
	// AskAppend never asks: the code stands behind the password.
	AskAppend = "append"
)

// FactorAsks are all of them.
var FactorAsks = []string{AskEither, AskChallenge, AskAppend}

// NumberPlace stands in a text for the number to enter on the phone.
const NumberPlace = "{number}"

// maxFactorRest bounds for how many minutes a code is not asked for again.
const maxFactorRest = 24 * 60

func (f *LaneFactor) normalise() {
	trim(&f.Text, &f.When, &f.Pass)
	if f.Ask == AskEither {
		f.Ask = ""
	}
	if f.When == "always" {
		f.When = ""
	}
	f.Until = f.Until.UTC()
}

// factorMethods are the methods that carry a code: they hand over what is typed, as does the dialogue of TACACS+.
var factorMethods = []string{"pap", "ttls-pap", "peap-gtc", "ttls-gtc", "eap-gtc"}

// CarriesCode tells that a code will do, and that some method of the lane can carry one.
func (l *Lane) CarriesCode() bool {
	return l.TakesCode() && slices.ContainsFunc(l.Methods, func(name string) bool {
		return slices.Contains(factorMethods, name)
	})
}

// checkFactor checks the second factor of a lane.
func (c *Config) checkFactor(k *checker, l *Lane) {
	if l.FactorRestMinutes < 0 || l.FactorRestMinutes > maxFactorRest {
		k.fail("factorRestMinutes", OutOfRange, fmt.Sprintf("Use 0 (a code each time) to %d.", maxFactorRest),
			"%d minutes are out of range", l.FactorRestMinutes)
	}
	switch l.SecondFactor {
	case "":
		return
	case OneTimeCode, Approval, AnyFactor:
	default:
		k.fail("secondFactor", Unknown, "Use "+strings.Join(SecondFactors, ", ")+", or leave it empty for none.",
			"%q is not a second factor", l.SecondFactor)
		return
	}
	if l.Factor.Wait < 0 || l.Factor.Wait > maxWait {
		k.fail("factor.wait", OutOfRange, fmt.Sprintf("Use 0 (usual) to %d seconds.", maxWait),
			"%d seconds are out of range", l.Factor.Wait)
	}
	if l.TakesApproval() && l.Factor.Text != "" && l.Factor.Ask != AskAppend &&
		!strings.Contains(l.Factor.Text, NumberPlace) {
		k.fail("factor.text", Malformed, "Write "+NumberPlace+" where the number is to stand.",
			"the text does not show the number that the phone asks for")
	}
	if l.Factor.Ask != "" && !slices.Contains(FactorAsks, l.Factor.Ask) {
		k.fail(
			"factor.ask",
			Unknown,
			"Use "+strings.Join(FactorAsks, ", ")+".",
			"%q is not a way to ask",
			l.Factor.Ask,
		)
	}
	if len(l.Factor.Text) > 200 || strings.ContainsFunc(l.Factor.Text, func(r rune) bool { return r < ' ' }) {
		k.fail("factor.text", Malformed, "Shorten it to one line of at most 200 octets.",
			"the text does not fit into a Reply-Message")
	}
	if l.Factor.Pass != "" {
		c.checkPassName(k, "factor.pass", l.Factor.Pass)
	}
	if len(l.Forward) > 0 {
		k.fail("secondFactor", Conflict, "Have the remote server ask for it, or decide here.",
			"a lane that forwards asks for no code, since the remote server decides")
	}
	inTLS := false
	for j, name := range l.Methods {
		if name == "mac" && l.SecondFactor != OneTimeCode {
			k.fail(fmt.Sprintf("methods[%d]", j), Conflict, "Have a lane of its own for devices.",
				"there is nobody to ask for an approval with %s", Title(name))
		} else if !slices.Contains(factorMethods, name) && l.SecondFactor == OneTimeCode {
			titles := make([]string, len(factorMethods))
			for i, other := range factorMethods {
				titles[i] = Title(other)
			}
			k.fail(fmt.Sprintf("methods[%d]", j), Conflict, "Allow only "+strings.Join(titles, ", ")+" in a lane that "+
				"asks for a code; TACACS+ dialogues count as PAP.", "%s cannot carry a one-time code", Title(name))
		} else if m := FindMethod(name); m != nil && m.TLS {
			inTLS = true
		}
	}
	if inTLS && l.TLS.ResumeMinutes > 0 && l.TakesCode() {
		k.fail("tls.resumeMinutes", Conflict, "Set it to 0: a code is to be shown each time.",
			"who resumes a TLS session shows no code")
	}
}
