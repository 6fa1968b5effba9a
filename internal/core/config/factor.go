package config

import "fmt"

// OneTimeCode is the second factor of lanes that ask for a code that is used once (RFC 6238), beside the password.
const OneTimeCode = "code"

// maxFactorRest bounds for how many minutes a code is not asked for again.
const maxFactorRest = 24 * 60

// checkFactor checks the second factor of a lane. Only PAP and the dialogue of TACACS+, which hand over what is typed,
// carry a code.
func checkFactor(k *checker, l *Lane) {
	if l.FactorRestMinutes < 0 || l.FactorRestMinutes > maxFactorRest {
		k.fail("factorRestMinutes", OutOfRange, fmt.Sprintf("Use 0 (a code each time) to %d.", maxFactorRest),
			"%d minutes are out of range", l.FactorRestMinutes)
	}
	switch l.SecondFactor {
	case "":
		return
	case OneTimeCode:
	default:
		k.fail("secondFactor", Unknown, "Use code, or leave it empty for none.", "%q is not a second factor",
			l.SecondFactor)
		return
	}
	if len(l.Forward) > 0 {
		k.fail("secondFactor", Conflict, "Have the remote server ask for it, or decide here.",
			"a lane that forwards asks for no code, since the remote server decides")
	}
	for j, name := range l.Methods {
		if name != "pap" {
			k.fail(fmt.Sprintf("methods[%d]", j), Conflict, "Allow PAP only in a lane that asks for a code; TACACS+ "+
				"dialogues count as PAP.", "%s cannot carry a one-time code", Title(name))
		}
	}
}
