package tacacs

import (
	"bytes"
	"encoding/binary"
)

// AuthenMethod is how the client says that the person was authenticated (RFC 8907 section 6.1).
type AuthenMethod byte

// The values of AuthenMethod in words.
var methodNames = map[AuthenMethod]string{1: "none", 2: "krb5", 3: "line", 4: "enable", 5: "local", 6: "tacacs",
	8: "guest", 16: "radius", 17: "krb4", 32: "rcmd"}

// MethodTACACS says that this protocol did it.
const MethodTACACS AuthenMethod = 6

// String is the method in one lower-case word, "" for not set and other values.
func (m AuthenMethod) String() string { return methodNames[m] }

// Request asks for an authorization (section 6.1), and is the greater part of an accounting record (section 7.1).
type Request struct {
	Method  AuthenMethod
	Level   byte
	Kind    Kind
	Service Service
	// User, Port and Remote are text.
	User, Port, Remote []byte
	Args               [][]byte
}

// ParseRequest reads the body of an authorization REQUEST.
func ParseRequest(body []byte) (Request, error) {
	r := reader{b: body}
	q := r.request()
	return q, r.end()
}

func (r *reader) request() Request {
	q := Request{Method: AuthenMethod(r.octet()), Level: r.octet(), Kind: Kind(r.octet()), Service: Service(r.octet())}
	user, port, remote, count := int(r.octet()), int(r.octet()), int(r.octet()), int(r.octet())
	sizes := r.octets(count)
	q.User, q.Port, q.Remote = r.octets(user), r.octets(port), r.octets(remote)
	q.Args = r.args(sizes)
	return q
}

func (r *reader) args(sizes []byte) [][]byte {
	if len(sizes) == 0 {
		return nil
	}
	out := make([][]byte, len(sizes))
	for i, n := range sizes {
		out[i] = r.octets(int(n))
	}
	return out
}

// Append appends the body.
func (q *Request) Append(b []byte) []byte {
	user, port, remote := cut(q.User), cut(q.Port), cut(q.Remote)
	args := q.Args[:min(len(q.Args), 255)]
	b = append(b, byte(q.Method), q.Level, byte(q.Kind), byte(q.Service), byte(len(user)), byte(len(port)),
		byte(len(remote)), byte(len(args)))
	for _, a := range args {
		b = append(b, byte(len(cut(a))))
	}
	b = append(append(append(b, user...), port...), remote...)
	for _, a := range args {
		b = append(b, cut(a)...)
	}
	return b
}

// AuthorStatus is the status of an authorization REPLY (section 6.2).
type AuthorStatus byte

const (
	AuthorAdd     AuthorStatus = 0x01
	AuthorReplace AuthorStatus = 0x02
	AuthorFail    AuthorStatus = 0x10
	AuthorError   AuthorStatus = 0x11
	AuthorFollow  AuthorStatus = 0x21
)

func (s AuthorStatus) String() string {
	if name := map[AuthorStatus]string{AuthorAdd: "PASS_ADD", AuthorReplace: "PASS_REPL", AuthorFail: "FAIL",
		AuthorError: "ERROR", AuthorFollow: "FOLLOW"}[s]; name != "" {
		return name
	}
	return "unknown status"
}

// AuthorReply answers an authorization REQUEST (section 6.2).
type AuthorReply struct {
	Status AuthorStatus
	// Message is for the person, Data for the log of the client.
	Message, Data []byte
	Args          [][]byte
}

// ParseAuthorReply reads the body of an authorization REPLY.
func ParseAuthorReply(body []byte) (AuthorReply, error) {
	r := reader{b: body}
	a := AuthorReply{Status: AuthorStatus(r.octet())}
	count, message, data := int(r.octet()), r.number(), r.number()
	sizes := r.octets(count)
	a.Message, a.Data = r.octets(message), r.octets(data)
	a.Args = r.args(sizes)
	return a, r.end()
}

// Append appends the body.
func (a *AuthorReply) Append(b []byte) []byte {
	args := a.Args[:min(len(a.Args), 255)]
	b = append(b, byte(a.Status), byte(len(args)))
	b = binary.BigEndian.AppendUint16(b, uint16(len(a.Message)))
	b = binary.BigEndian.AppendUint16(b, uint16(len(a.Data)))
	for _, arg := range args {
		b = append(b, byte(len(cut(arg))))
	}
	b = append(append(b, a.Message...), a.Data...)
	for _, arg := range args {
		b = append(b, cut(arg)...)
	}
	return b
}

// Flags of an accounting REQUEST (section 7.1).
const (
	FlagStart    byte = 0x02
	FlagStop     byte = 0x04
	FlagWatchdog byte = 0x08
)

// Record is an accounting REQUEST (section 7.1).
type Record struct {
	Flags byte
	Request
}

// ParseRecord reads the body of an accounting REQUEST.
func ParseRecord(body []byte) (Record, error) {
	r := reader{b: body}
	out := Record{Flags: r.octet()}
	out.Request = r.request()
	return out, r.end()
}

// Append appends the body.
func (a *Record) Append(b []byte) []byte { return a.Request.Append(append(b, a.Flags)) }

// Event is what the flags say: start, stop, update (a watchdog), "" for combinations that section 7.2 does not allow.
func (a *Record) Event() string {
	switch a.Flags {
	case FlagStart:
		return "start"
	case FlagStop:
		return "stop"
	case FlagWatchdog, FlagWatchdog | FlagStart:
		return "update"
	}
	return ""
}

// AcctStatus is the status of an accounting REPLY (section 7.2).
type AcctStatus byte

const (
	AcctSuccess AcctStatus = 1
	AcctError   AcctStatus = 2
	AcctFollow  AcctStatus = 0x21
)

func (s AcctStatus) String() string {
	if name := map[AcctStatus]string{AcctSuccess: "SUCCESS", AcctError: "ERROR", AcctFollow: "FOLLOW"}[s]; name != "" {
		return name
	}
	return "unknown status"
}

// AcctReply answers an accounting REQUEST (section 7.2).
type AcctReply struct {
	Status        AcctStatus
	Message, Data []byte
}

// ParseAcctReply reads the body of an accounting REPLY.
func ParseAcctReply(body []byte) (AcctReply, error) {
	r := reader{b: body}
	message, data := r.number(), r.number()
	a := AcctReply{Status: AcctStatus(r.octet())}
	a.Message, a.Data = r.octets(message), r.octets(data)
	return a, r.end()
}

// Append appends the body.
func (a *AcctReply) Append(b []byte) []byte {
	b = binary.BigEndian.AppendUint16(b, uint16(len(a.Message)))
	b = binary.BigEndian.AppendUint16(b, uint16(len(a.Data)))
	return append(append(append(b, byte(a.Status)), a.Message...), a.Data...)
}

// SplitArg takes an argument apart at the first = (mandatory) or * (optional), as section 6.1 says. ok is false if it
// has neither, no name, or control characters.
func SplitArg(arg []byte) (name, value []byte, optional, ok bool) {
	at := bytes.IndexAny(arg, "=*")
	if at < 1 {
		return nil, nil, false, false
	}
	for _, c := range arg {
		if c < 0x20 || c == 0x7f {
			return nil, nil, false, false
		}
	}
	return arg[:at], arg[at+1:], arg[at] == '*', true
}
