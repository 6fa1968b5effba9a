package tacacs

import "encoding/binary"

// Action is what an authentication is for (RFC 8907 section 5.1).
type Action byte

const (
	Login          Action = 1
	ChangePassword Action = 2
	SendAuth       Action = 4 // deprecated; never answered
)

// Kind is the type of an authentication (section 5.1).
type Kind byte

const (
	ASCII    Kind = 1
	PAP      Kind = 2
	CHAP     Kind = 3
	MSCHAP   Kind = 5
	MSCHAPv2 Kind = 6
)

// Service is what is being authenticated for (section 5.1).
type Service byte

const (
	ServiceNone   Service = 0
	ServiceLogin  Service = 1
	ServiceEnable Service = 2
	ServicePPP    Service = 3
)

// Start begins an authentication (section 5.1).
type Start struct {
	Action  Action
	Level   byte
	Kind    Kind
	Service Service
	// User, Port and Remote are text; Data belongs to the kind.
	User, Port, Remote, Data []byte
}

// ParseStart reads the body of an authentication START. The fields are parts of the body.
func ParseStart(body []byte) (Start, error) {
	r := reader{b: body}
	s := Start{Action: Action(r.octet()), Level: r.octet(), Kind: Kind(r.octet()), Service: Service(r.octet())}
	user, port, remote, data := int(r.octet()), int(r.octet()), int(r.octet()), int(r.octet())
	s.User, s.Port, s.Remote, s.Data = r.octets(user), r.octets(port), r.octets(remote), r.octets(data)
	return s, r.end()
}

// Append appends the body. Fields longer than 255 octets are cut.
func (s *Start) Append(b []byte) []byte {
	user, port, remote, data := cut(s.User), cut(s.Port), cut(s.Remote), cut(s.Data)
	b = append(b, byte(s.Action), s.Level, byte(s.Kind), byte(s.Service), byte(len(user)), byte(len(port)),
		byte(len(remote)), byte(len(data)))
	return append(append(append(append(b, user...), port...), remote...), data...)
}

func cut(b []byte) []byte { return b[:min(len(b), 255)] }

// AuthenStatus is the status of an authentication REPLY (section 5.2).
type AuthenStatus byte

const (
	AuthenPass    AuthenStatus = 1
	AuthenFail    AuthenStatus = 2
	AuthenGetData AuthenStatus = 3
	AuthenGetUser AuthenStatus = 4
	AuthenGetPass AuthenStatus = 5
	AuthenRestart AuthenStatus = 6
	AuthenError   AuthenStatus = 7
	AuthenFollow  AuthenStatus = 0x21
)

func (s AuthenStatus) String() string {
	if name := map[AuthenStatus]string{AuthenPass: "PASS", AuthenFail: "FAIL", AuthenGetData: "GETDATA",
		AuthenGetUser: "GETUSER", AuthenGetPass: "GETPASS", AuthenRestart: "RESTART", AuthenError: "ERROR",
		AuthenFollow: "FOLLOW"}[s]; name != "" {
		return name
	}
	return "unknown status"
}

// NoEcho asks the client not to show what is typed.
const NoEcho byte = 1

// AuthenReply answers a START or a CONTINUE (section 5.2).
type AuthenReply struct {
	Status AuthenStatus
	Flags  byte
	// Message is for the person; Data belongs to the status.
	Message, Data []byte
}

// ParseAuthenReply reads the body of an authentication REPLY.
func ParseAuthenReply(body []byte) (AuthenReply, error) {
	r := reader{b: body}
	a := AuthenReply{Status: AuthenStatus(r.octet()), Flags: r.octet()}
	message, data := r.number(), r.number()
	a.Message, a.Data = r.octets(message), r.octets(data)
	return a, r.end()
}

// Append appends the body.
func (a *AuthenReply) Append(b []byte) []byte {
	b = append(b, byte(a.Status), a.Flags)
	b = binary.BigEndian.AppendUint16(b, uint16(len(a.Message)))
	b = binary.BigEndian.AppendUint16(b, uint16(len(a.Data)))
	return append(append(b, a.Message...), a.Data...)
}

// Abort in a CONTINUE ends the dialogue.
const Abort byte = 1

// Continue is what the person typed (section 5.3).
type Continue struct {
	Flags         byte
	Message, Data []byte
}

// ParseContinue reads the body of an authentication CONTINUE.
func ParseContinue(body []byte) (Continue, error) {
	r := reader{b: body}
	message, data := r.number(), r.number()
	c := Continue{Flags: r.octet()}
	c.Message, c.Data = r.octets(message), r.octets(data)
	return c, r.end()
}

// Append appends the body.
func (c *Continue) Append(b []byte) []byte {
	b = binary.BigEndian.AppendUint16(b, uint16(len(c.Message)))
	b = binary.BigEndian.AppendUint16(b, uint16(len(c.Data)))
	return append(append(append(b, c.Flags), c.Message...), c.Data...)
}
