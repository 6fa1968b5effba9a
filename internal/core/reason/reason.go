// Package reason lists why an attempt was admitted or refused: a stable code, one plain sentence and one remedy
// each. Codes never change their meaning; new ones may be added.
package reason

import (
	"slices"
	"strings"
)

// Code is a stable reason, such as password.wrong.
type Code string

const (
	// OK is the reason of an admission, and the outcome of each step that went well.
	OK Code = "ok"

	NameMissing Code = "name.missing"
	NameInvalid Code = "name.invalid"

	LaneNone         Code = "lane.none"
	MethodNotAllowed Code = "method.not-allowed"
	MethodMissing    Code = "method.missing"

	MethodUnusable Code = "method.unusable"

	EAPNoCommonMethod Code = "eap.no-common-method"
	EAPAbandoned      Code = "eap.abandoned"
	EAPLost           Code = "eap.lost"
	EAPMixed          Code = "eap.mixed"
	EAPMalformed      Code = "eap.malformed"
	EAPTooLong        Code = "eap.too-long"
	EAPBinding        Code = "eap.crypto-binding"
	EAPDeclined       Code = "eap.declined"

	TLSNoCertificate Code = "tls.no-server-certificate"
	TLSDistrust      Code = "tls.peer-distrusts"
	TLSNoCommon      Code = "tls.no-common-version"
	TLSAlert         Code = "tls.alert"
	TLSFailed        Code = "tls.failed"
	TLSMasterSecret  Code = "tls.no-extended-master-secret"

	CertificateMissing    Code = "certificate.missing"
	CertificateUntrusted  Code = "certificate.untrusted"
	CertificateExpired    Code = "certificate.expired"
	CertificateEarly      Code = "certificate.not-yet-valid"
	CertificateRevoked    Code = "certificate.revoked"
	CertificateUnchecked  Code = "certificate.revocation-unknown"
	CertificatePurpose    Code = "certificate.purpose"
	CertificateNoIdentity Code = "certificate.no-identity"

	DeviceUnknown  Code = "device.unknown"
	DeviceExpired  Code = "device.expired"
	DeviceDisabled Code = "device.disabled"
	DeviceMismatch Code = "device.mismatch"

	RealmNone  Code = "realm.none"
	RealmOther Code = "realm.other"

	PersonUnknown   Code = "person.unknown"
	PersonAmbiguous Code = "person.ambiguous"
	PersonDisabled  Code = "person.disabled"
	PersonExpired   Code = "person.expired"
	PersonLocked    Code = "person.locked"
	// PersonUnreadable is an account of which the directory does not show whether it is enabled.
	PersonUnreadable Code = "person.state-unreadable"

	// PasswordGuarded is a password that was not passed on, so that the directory does not lock the account.
	PasswordGuarded Code = "password.guarded"
	// PasswordRejected is a new password that was not taken.
	PasswordRejected Code = "password.rejected"
	// ClockSkew is a clock that differs so much that a domain refuses everything.
	ClockSkew Code = "domain.clock"

	PersonHours   Code = "person.hours"
	PersonStation Code = "person.workstation"

	DirectoryUnreachable Code = "directory.unreachable"
	DirectoryBind        Code = "directory.bind"
	DirectoryFailed      Code = "directory.failed"

	DomainUnreachable Code = "domain.unreachable"
	DomainRefuses     Code = "domain.refuses"

	// ProofUnfinished is a method that was begun for somebody and did not finish.
	ProofUnfinished Code = "proof.unfinished"

	PasswordWrong      Code = "password.wrong"
	PasswordEmpty      Code = "password.empty"
	PasswordUnreadable Code = "password.unreadable"
	// PasswordMalformed is a response of CHAP or MS-CHAP that is cut short.
	PasswordMalformed  Code = "password.malformed"
	PasswordExpired    Code = "password.expired"
	PasswordMustChange Code = "password.must-change"

	// FactorNotEnrolled is somebody who has no second factor where one is asked for, FactorMissing a sign-in without a
	// code.
	FactorNotEnrolled Code = "factor.not-enrolled"
	FactorMissing     Code = "factor.code-missing"
	FactorWrong       Code = "factor.code-wrong"
	// FactorUsed is a code that was taken before, FactorLocked a person who gave too many wrong ones.
	FactorUsed   Code = "factor.code-used"
	FactorLocked Code = "factor.locked"
	// FactorUnanswered is somebody who was asked for a code and gave none in time; FactorLost is an answer to a
	// question that is over or was never asked here, FactorMixed one from another client, or of another person or
	// device.
	FactorUnanswered Code = "factor.unanswered"
	FactorLost       Code = "factor.lost"
	// FactorNoPhone is somebody without a phone that could approve; FactorRefused is one who refused there, FactorAlarm
	// one who did not sign in, FactorNumber one who entered another number, and FactorTired one who is not asked, since
	// too many sign-ins were not approved.
	FactorNoPhone Code = "factor.no-phone"
	FactorRefused Code = "factor.refused"
	FactorAlarm   Code = "factor.not-me"
	FactorNumber  Code = "factor.number-wrong"
	FactorTired   Code = "factor.too-many-asks"
	FactorMixed   Code = "factor.mixed"
	// FactorFailed is a code that fits and could not be noted as used.
	FactorFailed Code = "factor.failed"

	PolicyNone    Code = "policy.none"
	PolicyRefused Code = "policy.refused"

	PassValueMissing Code = "pass.value-missing"
	PoolExhausted    Code = "pool.exhausted"
	SessionsLimit    Code = "sessions.limit"

	// CommandRefused is a command that a line of the command list refuses, CommandNone one that no line fits.
	CommandRefused Code = "command.refused"
	CommandNone    Code = "command.none"
	CommandNoList  Code = "command.no-list"
	// LevelTooHigh is a privilege level above that of the pass.
	LevelTooHigh Code = "level.too-high"
	// ServiceNotGranted is a service for which the pass holds nothing.
	ServiceNotGranted Code = "service.not-granted"
	// DialogueAborted is a sign-in on gear that was broken off.
	DialogueAborted Code = "dialogue.aborted"
	// ArgumentMalformed is a request of gear with arguments that are none.
	ArgumentMalformed Code = "argument.malformed"
	// EmergencySealed is an emergency account that may not be used now, or not here.
	EmergencySealed Code = "emergency.sealed"

	RemoteRefused     Code = "remote.refused"
	RemoteUnreachable Code = "remote.unreachable"
	RemoteUnknown     Code = "remote.unknown"
	RemoteRADIUSOnly  Code = "remote.radius-only"

	Busy Code = "service.busy"
	// ServiceFault is an attempt that hit a fault of ours.
	ServiceFault Code = "service.fault"
	// PasswordBraked is a password of a local account that was not looked at, since too many wrong ones came before.
	PasswordBraked Code = "password.braked"
)

// Entry is what is said about a code.
type Entry struct {
	Code Code `json:"code"`
	// Station is the part of the road that this code ends at.
	Station string `json:"station"`
	// Sentence and Remedy may hold {placeholders} filled by Explain.
	Sentence string `json:"sentence"`
	Remedy   string `json:"remedy"`
}

// The stations of the road, in order.
const (
	Client       = "client"
	Name         = "name"
	Lane         = "lane"
	Directory    = "directory"
	Credential   = "credential"
	SecondFactor = "second-factor"
	Policy       = "policy"
	Pass         = "pass"
)

// Stations is the road from end to end.
var Stations = []string{Client, Name, Lane, Directory, Credential, SecondFactor, Policy, Pass}

var byCode = func() map[Code]*Entry {
	m := make(map[Code]*Entry, len(entries))
	for i := range entries {
		m[entries[i].Code] = &entries[i]
	}
	return m
}()

// All lists every code.
func All() []Entry { return slices.Clone(entries) }

// Lookup returns the entry of a code; an unknown code, from a newer version, has its own name as sentence.
func Lookup(c Code) Entry {
	if e := byCode[c]; e != nil {
		return *e
	}
	return Entry{Code: c, Station: Policy, Sentence: string(c)}
}

// Explain fills the placeholders of a code's sentence and remedy. Placeholders without a value read "?".
func Explain(c Code, values map[string]string) (sentence, remedy string) {
	e := Lookup(c)
	return fill(e.Sentence, values), fill(e.Remedy, values)
}

func fill(text string, values map[string]string) string {
	var out strings.Builder
	for {
		open := strings.IndexByte(text, '{')
		if open < 0 {
			break
		}
		end := strings.IndexByte(text[open:], '}')
		if end < 0 {
			break
		}
		out.WriteString(text[:open])
		if v := values[text[open+1:open+end]]; v != "" {
			out.WriteString(v)
		} else {
			out.WriteString("?")
		}
		text = text[open+end+1:]
	}
	out.WriteString(text)
	return out.String()
}
