package factor

import (
	"crypto/subtle"
	"fmt"
	"strings"
	"time"
	"unicode"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/hotp"

	"tollgate.example/key/internal/core/reason"
)

// plain is a code as it is shown, whatever was typed around it: without spaces, hyphens and marks that change the
// direction of writing, and with the digits of any script as ASCII has them. Recovery codes keep their hyphen.
func plain(typed string) string {
	digits := 0
	text := strings.Map(func(r rune) rune {
		switch {
		case unicode.IsSpace(r), unicode.Is(unicode.Cf, r): // also U+200F and the like
			return -1
		case unicode.Is(unicode.Nd, r):
			digits++
			return rune('0' + digitOf(r))
		}
		return unicode.ToLower(r)
	}, typed)
	if bare := strings.ReplaceAll(text, "-", ""); len(bare) == digits { // 123-456
		return bare
	}
	return text
}

// digitOf is the value of a decimal digit: those of each script stand in a row of ten, from zero on (Unicode, section
// 4.6).
func digitOf(r rune) int {
	if r >= '0' && r <= '9' {
		return int(r - '0')
	}
	n := 0
	for unicode.Is(unicode.Nd, r-1-rune(n)) {
		n++
	}
	return n % 10
}

// shows reports whether the token shows a code at a step.
func (t *kept) shows(step int64, typed string) bool {
	if step < 0 || len(typed) != t.Digits {
		return false
	}
	code, err := t.code(step)
	return err == nil && same(code, typed)
}

// same compares without telling by its time how far two texts agree.
func same(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

// sameLetters compares a code that was made with a hyphen, which may be left out.
func sameLetters(made, typed string) bool {
	return same(strings.ReplaceAll(made, "-", ""), strings.ReplaceAll(typed, "-", ""))
}

// Counted tells that the codes follow a counter, and not the time.
func (t *Token) Counted() bool { return t.Period == 0 }

// takeCounted decides about a code of a token that counts (RFC 4226 section 7.4): each press is another one, and those
// that were not used are passed over for good.
func (t *kept) takeCounted(typed string) (reason.Code, string) {
	for step := t.step + 1; step <= t.step+ahead; step++ {
		if t.shows(step, typed) {
			t.claim(step)
			return reason.OK, ""
		}
	}
	for step := t.step; step > t.step-ahead; step-- {
		if t.shows(step, typed) {
			return reason.FactorUsed, ""
		}
	}
	detail := ""
	for step := t.step + ahead + 1; step <= t.step+farAhead; step++ {
		if !t.shows(step, typed) {
			continue
		}
		presses := step - t.step - 1
		if t.far != 0 && step == t.far+1 {
			t.claim(step)
			return reason.OK, fmt.Sprintf("the second code in a row after %d presses that were not used", presses)
		}
		t.far = step
		detail = fmt.Sprintf("it fits after %d presses that were not used; the next code sets that right. ", presses)
		break
	}
	return reason.FactorWrong, detail
}

func (t *kept) code(step int64) (string, error) {
	return hotp.GenerateCodeCustom(t.Seed, uint64(step), hotp.ValidateOpts{Digits: otp.Digits(t.Digits),
		Algorithm: algorithms[t.Algorithm]})
}

var algorithms = map[string]otp.Algorithm{"SHA1": otp.AlgorithmSHA1, "SHA256": otp.AlgorithmSHA256,
	"SHA512": otp.AlgorithmSHA512}

// Code is the code that a seed (base32) shows at a moment, by the usual SHA-1, six digits and 30 seconds; for phones of
// the lab.
func Code(seed string, at time.Time) (string, error) {
	t := kept{Token: Token{Algorithm: "SHA1", Digits: 6}, secrets: secrets{Seed: seed}}
	return t.code(at.Unix() / 30)
}

// lockTimes are for how long no code is looked at after too many wrong ones, the first time, the next ones, and from
// then on.
var lockTimes = []time.Duration{5 * time.Minute, 15 * time.Minute, time.Hour, 8 * time.Hour}

func lockTime(before int) time.Duration { return lockTimes[max(0, min(before, len(lockTimes)-1))] }
