package config

import "strings"

// Needs is what a method needs to be kept of a person to be checked.
type Needs string

const (
	// NeedsPassword takes anything that a clear password can be checked with: a hash here, or a bind to a directory.
	NeedsPassword Needs = "password"
	// NeedsNTHash takes the NT hash, or the password itself.
	NeedsNTHash Needs = "nt-hash"
	// NeedsClear takes only the password itself.
	NeedsClear Needs = "clear"
	// NeedsCertificate and NeedsAddress need nothing of it.
	NeedsCertificate Needs = "certificate"
	NeedsAddress     Needs = "address"
)

// Tunnels are the methods that run another one inside; an attempt has such a name as long as that is not agreed.
const (
	PEAP = "peap"
	TTLS = "ttls"
	TEAP = "teap"
)

// Method is one way to prove an identity.
type Method struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	Needs Needs  `json:"needs"`
	// EAP methods run in EAP; TLS ones need a server certificate.
	EAP bool `json:"eap"`
	TLS bool `json:"tls"`
	// Exposed says what a weak method exposes and to whom; "" for a sound one.
	Exposed string `json:"exposed,omitempty"`
}

// methods are in the order in which they are shown: the strongest first.
var methods = []Method{
	{Name: "eap-tls", Title: "EAP-TLS", Needs: NeedsCertificate, EAP: true, TLS: true},
	{Name: "teap-tls", Title: "TEAP with EAP-TLS", Needs: NeedsCertificate, EAP: true, TLS: true},
	{Name: "teap-mschapv2", Title: "TEAP with EAP-MSCHAPv2", Needs: NeedsNTHash, EAP: true, TLS: true},
	{Name: "teap-pap", Title: "TEAP with a password", Needs: NeedsPassword, EAP: true, TLS: true},
	{Name: "peap-tls", Title: "PEAP with EAP-TLS", Needs: NeedsCertificate, EAP: true, TLS: true},
	{Name: "peap-mschapv2", Title: "PEAP with EAP-MSCHAPv2", Needs: NeedsNTHash, EAP: true, TLS: true},
	{Name: "peap-gtc", Title: "PEAP with EAP-GTC", Needs: NeedsPassword, EAP: true, TLS: true},
	{Name: "ttls-tls", Title: "EAP-TTLS with EAP-TLS", Needs: NeedsCertificate, EAP: true, TLS: true},
	{Name: "ttls-pap", Title: "EAP-TTLS with PAP", Needs: NeedsPassword, EAP: true, TLS: true},
	{Name: "ttls-mschapv2", Title: "EAP-TTLS with MS-CHAPv2", Needs: NeedsNTHash, EAP: true, TLS: true},
	{Name: "ttls-gtc", Title: "EAP-TTLS with EAP-GTC", Needs: NeedsPassword, EAP: true, TLS: true},
	{Name: "ttls-mschap", Title: "EAP-TTLS with MS-CHAP", Needs: NeedsNTHash, EAP: true, TLS: true},
	{Name: "ttls-chap", Title: "EAP-TTLS with CHAP", Needs: NeedsClear, EAP: true, TLS: true},
	{Name: "ttls-md5", Title: "EAP-TTLS with EAP-MD5", Needs: NeedsClear, EAP: true, TLS: true},
	{Name: "pap", Title: "PAP", Needs: NeedsPassword,
		Exposed: "the client sees every password, and so does anyone who knows the shared secret and captures its " +
			"requests: only MD5 hides them on that path"},
	{Name: "mschapv2", Title: "MS-CHAPv2", Needs: NeedsNTHash,
		Exposed: "anyone who captures one sign-in between the device and this server can compute the NT hash from " +
			"it, for any password, and sign in with it"},
	{Name: "chap", Title: "CHAP", Needs: NeedsClear,
		Exposed: "anyone who captures one sign-in can guess the password offline, and the password itself must be " +
			"stored here"},
	{Name: "mschap", Title: "MS-CHAP version 1", Needs: NeedsNTHash,
		Exposed: "anyone who captures one sign-in can compute the NT hash from it, and the server does not prove its " +
			"identity"},
	{Name: "eap-mschapv2", Title: "EAP-MSCHAPv2 without a tunnel", Needs: NeedsNTHash, EAP: true,
		Exposed: "inside IKEv2 the gateway sees each sign-in, elsewhere anyone on the path does, and can compute " +
			"the NT " +
			"hash from it, for any password, and sign in with it"},
	{Name: "eap-gtc", Title: "EAP-GTC without a tunnel", Needs: NeedsPassword, EAP: true,
		Exposed: "inside IKEv2 the gateway sees every password, elsewhere anyone on the path does"},
	{Name: "eap-md5", Title: "EAP-MD5", Needs: NeedsClear, EAP: true,
		Exposed: "anyone who captures one sign-in can guess the password offline; the server does not prove its " +
			"identity, and a wireless network gets no keys"},
	{Name: "mac", Title: "MAC bypass", Needs: NeedsAddress,
		Exposed: "a MAC address is not secret: anyone who reads it from a label or over the air can use it and is " +
			"accepted as the device"},
}

// Methods are the names of all ways to prove an identity that a lane can allow.
var Methods = func() []string {
	out := make([]string, len(methods))
	for i := range methods {
		out[i] = methods[i].Name
	}
	return out
}()

// AllMethods lists the methods.
func AllMethods() []Method { return append([]Method(nil), methods...) }

// FindMethod returns a method by name, nil if there is none.
func FindMethod(name string) *Method {
	for i := range methods {
		if methods[i].Name == name {
			return &methods[i]
		}
	}
	return nil
}

// Title is how a method is written for people.
func Title(name string) string {
	if m := FindMethod(name); m != nil {
		return m.Title
	}
	if name == TTLS {
		return "EAP-TTLS"
	}
	return strings.ToUpper(name)
}

// Keeps is what a store keeps of a person's password.
type Keeps string

const (
	// KeepsHash is a hash that only a clear password can be compared with; a directory counts as that too.
	KeepsHash Keeps = "hash"
	// KeepsNTHash keeps the NT hash beside it, KeepsPassword the password itself, both sealed.
	KeepsNTHash   Keeps = "nt-hash"
	KeepsPassword Keeps = "password"
)

// Serves reports whether what is kept is enough for a method.
func (k Keeps) Serves(n Needs) bool {
	switch n {
	case NeedsNTHash:
		return k == KeepsNTHash || k == KeepsPassword
	case NeedsClear:
		return k == KeepsPassword
	}
	return true
}

// Usable lists the methods that work with what a store keeps, by title.
func (k Keeps) Usable() string {
	var out []string
	for i := range methods {
		if m := &methods[i]; m.Needs != NeedsAddress && m.Needs != NeedsCertificate && k.Serves(m.Needs) {
			out = append(out, m.Title)
		}
	}
	return strings.Join(out, ", ")
}
