package mschap

import (
	"encoding/hex"
	"fmt"
	"strings"
)

// Error codes of MS-CHAP-Error and of the failure packet (RFC 2759 section 6).
const (
	ErrorHours    = 646
	ErrorDisabled = 647
	ErrorExpired  = 648
	ErrorNoAccess = 649
	ErrorWrong    = 691
	ErrorChange   = 709
)

// Failure is the message of an MS-CHAPv2 failure packet (RFC 2759 section 6): the error, no retry, the challenge that a
// retry would use, version 3, and a text for the person.
func Failure(code int, challenge [16]byte, message string) string {
	return fmt.Sprintf("E=%d R=0 C=%s V=3 M=%s", code, strings.ToUpper(hex.EncodeToString(challenge[:])), message)
}

// ParseFailure reads the error code of a failure message, 0 if there is none.
func ParseFailure(text string) int {
	code := 0
	fmt.Sscanf(text, "E=%d", &code)
	return code
}

// FailureChallenge is the challenge of a failure message, for the change of an expired password; ok is false if there
// is none.
func FailureChallenge(text string) (challenge [16]byte, ok bool) {
	_, rest, found := strings.Cut(text, "C=")
	if !found || len(rest) < 32 {
		return challenge, false
	}
	raw, err := hex.DecodeString(rest[:32])
	if err != nil {
		return challenge, false
	}
	return [16]byte(raw), true
}
