package config

import (
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net/url"
	"slices"
	"strings"
)

// Authority is a certificate authority of our own.
type Authority struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// Certificate is PEM; Key the sealed private key.
	Certificate string `json:"certificate"`
	Key         Secret `json:"key"`
	Note        string `json:"note,omitempty"`
}

// Certificate is a server certificate, which the server shows inside EAP.
type Certificate struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// Chain is PEM with what lies between the certificate and its authority; empty while Request waits to be signed.
	Chain   string `json:"chain,omitempty"`
	Request string `json:"request,omitempty"`
	Key     Secret `json:"key"`
	Note    string `json:"note,omitempty"`
}

// Trust is a list of authorities whose client certificates are taken, and how.
type Trust struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// Authorities are our own by name, PEM holds others.
	Authorities []string `json:"authorities"`
	PEM         string   `json:"pem,omitempty"`
	// Identity is where the name is read from, in order.
	Identity []string `json:"identity"`
	// CRLs are URLs or files; Listed also asks the lists that certificates name.
	CRLs   []string `json:"crls"`
	Listed bool     `json:"listed,omitempty"`
	// OCSP is a responder's URL; Responder also asks the one that a certificate names.
	OCSP      string `json:"ocsp,omitempty"`
	Responder bool   `json:"responder,omitempty"`
	// Unanswered is what happens if nobody can say whether a certificate is revoked: refuse or take.
	Unanswered string `json:"unanswered"`
	Note       string `json:"note,omitempty"`
}

// Values of Trust.Unanswered.
const (
	RefuseUnanswered = "refuse"
	TakeUnanswered   = "take"
)

// IdentitySources are where the name of a certificate may be read from.
var IdentitySources = []string{"upn", "dns", "email", "uri", "subject"}

// LaneTLS is what a lane says about TLS inside EAP.
type LaneTLS struct {
	// Certificate is the server certificate; empty takes the first one.
	Certificate string `json:"certificate,omitempty"`
	// Trust is the trust list for client certificates; empty is the only one there is.
	Trust string `json:"trust,omitempty"`
	// Minimum is the lowest version of TLS: 1.0, 1.1, 1.2 or 1.3.
	Minimum string `json:"minimum" required:"false"`
	// Older are allowances for older peers, by name.
	Older []string `json:"older" required:"false"`
	// Binding is the crypto-binding of PEAP: off, optional or require.
	Binding string `json:"binding" required:"false"`
	// ResumeMinutes is how long a session may be resumed; 0 is never.
	ResumeMinutes int `json:"resumeMinutes" required:"false"`
	// Prove is what TEAP proves: user, machine, or both.
	Prove string `json:"prove" required:"false"`
}

// Allowances for older peers.
const (
	NoExtendedMasterSecret = "no-extended-master-secret"
	OldCiphers             = "old-ciphers"
)

// Allowance is one switch for older peers with what it exposes.
type Allowance struct {
	Name    string `json:"name"`
	Exposed string `json:"exposed"`
}

// Allowances lists the switches for older peers.
var Allowances = []Allowance{
	{NoExtendedMasterSecret, "an attacker who lures a device into a tunnel of his own can make it share keys with " +
		"ours and relay the sign-in"},
	{OldCiphers, "RSA key exchange and CBC ciphers with SHA-1: anyone who records a tunnel and later obtains the " +
		"server's key can read the passwords in it"},
}

// Versions are the TLS versions that a lane may start from.
var Versions = []string{"1.0", "1.1", "1.2", "1.3"}

func (a *Authority) Ident() string        { return a.ID }
func (a *Authority) Label() string        { return a.Name }
func (a *Authority) Identify(id string)   { a.ID = id }
func (c *Certificate) Ident() string      { return c.ID }
func (c *Certificate) Label() string      { return c.Name }
func (c *Certificate) Identify(id string) { c.ID = id }
func (t *Trust) Ident() string            { return t.ID }
func (t *Trust) Label() string            { return t.Name }
func (t *Trust) Identify(id string)       { t.ID = id }

func (t *Trust) normalise() {
	trim(&t.Name, &t.PEM, &t.OCSP, &t.Note)
	for i := range t.Identity {
		t.Identity[i] = strings.ToLower(strings.TrimSpace(t.Identity[i]))
	}
	t.Identity, t.Authorities, t.CRLs = unique(t.Identity), unique(t.Authorities), unique(t.CRLs)
	if len(t.Identity) == 0 {
		t.Identity = []string{"upn", "dns", "email", "subject"}
	}
	if t.Unanswered == "" {
		t.Unanswered = RefuseUnanswered
	}
}

func (l *LaneTLS) normalise() {
	trim(&l.Certificate, &l.Trust, &l.Minimum, &l.Binding, &l.Prove)
	if l.Minimum == "" {
		l.Minimum = "1.2"
	}
	if l.Binding == "" {
		l.Binding = "optional"
	}
	if l.Prove == "" {
		l.Prove = "user"
	}
	l.Older = unique(l.Older)
}

// blocks counts the certificates of a PEM text.
func blocks(text string) (n int, err error) {
	for rest := []byte(text); ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			return n, nil
		}
		if block.Type == "CERTIFICATE" {
			if _, err := x509.ParseCertificate(block.Bytes); err != nil {
				return n, fmt.Errorf("certificate %d cannot be read: %w", n+1, err)
			}
			n++
		}
	}
}

const maxPEM = 256 << 10

func (c *Config) checkCertificates(k *checker) {
	for i := range c.Authorities {
		a := c.Authorities[i]
		k.on("authority", a.Name, a.ID)
		if n, err := blocks(a.Certificate); err != nil || n != 1 || !a.Key.Set() {
			k.fail("certificate", Required, "Make it here, or import both.",
				"an authority is one certificate and its key")
		}
	}
	for i := range c.Certificates {
		s := c.Certificates[i]
		k.on("certificate", s.Name, s.ID)
		n, err := blocks(s.Chain)
		switch {
		case err != nil:
			k.fail("chain", Malformed, "Give the certificate in PEM form.", "%s", err)
		case n == 0 && s.Request == "":
			k.fail("chain", NotFound, "Make one with an authority of your own, make a signing request, or import one.",
				"there is no certificate")
		case n == 0:
			k.warn("chain", RequestPending, "Have it signed, then enter the certificate here.",
				"the signing request has not been answered yet")
		case len(s.Chain) > maxPEM || n > 20:
			k.fail("chain", TooMany, "Give only what lies between the certificate and its authority.",
				"a chain of more than 20 certificates")
		case n == 1:
			c.checkLeaf(k, s)
		}
		if !s.Key.Set() {
			k.fail("key", NotFound, "Give the key that belongs to the certificate.", "there is no private key")
		}
	}
	for i := range c.Trusts {
		c.checkTrust(k, c.Trusts[i])
	}
}

func (c *Config) checkTrust(k *checker, t *Trust) {
	k.on("trust", t.Name, t.ID)
	n, err := blocks(t.PEM)
	switch {
	case err != nil:
		k.fail("pem", Malformed, "Give the authorities in PEM form.", "%s", err)
	case len(t.PEM) > maxPEM || n > 100:
		k.fail("pem", TooMany, "Give only those that issue certificates to your devices.", "more than 100 authorities")
	case n == 0 && len(t.Authorities) == 0:
		k.fail("authorities", Required, "Choose an authority of your own, or paste others.", "the list is empty")
	}
	for j, name := range t.Authorities {
		if _, at := Find(c.Authorities, name); at < 0 {
			k.fail(fmt.Sprintf("authorities[%d]", j), NotFound, "Choose one of the authorities.",
				"there is no authority %q", name)
		}
	}
	for j, source := range t.Identity {
		if !slices.Contains(IdentitySources, source) {
			k.fail(fmt.Sprintf("identity[%d]", j), Unknown, "Use "+strings.Join(IdentitySources, ", ")+".",
				"%q is not a field of a certificate", source)
		}
	}
	if t.Unanswered != RefuseUnanswered && t.Unanswered != TakeUnanswered {
		k.fail("unanswered", Unknown, "Use refuse or take.", "%q is neither refuse nor take", t.Unanswered)
	}
	for j, where := range t.CRLs {
		if !strings.HasPrefix(where, "/") && !strings.HasPrefix(where, "file:") && !webAddress(where) {
			k.fail(fmt.Sprintf("crls[%d]", j), Malformed, "Write http://… or a path that begins with /.",
				"%q is neither an http address nor a file", where)
		}
	}
	if len(t.CRLs) > 8 {
		k.fail("crls", TooMany, "Remove some.", "more than 8 lists")
	}
	if t.OCSP != "" && !webAddress(t.OCSP) {
		k.fail("ocsp", Malformed, "Write the address of the responder, http://…", "%q is not an http address", t.OCSP)
	}
	if n > 0 && len(t.CRLs) == 0 && t.OCSP == "" && !t.Listed && !t.Responder {
		remedy := "Give a list or a responder, or use those that the certificates name."
		if t.Unanswered == RefuseUnanswered {
			k.warn("crls", RevocationUnknown, remedy, "there is no revocation source for certificates of these "+
				"authorities, so all of them are refused")
		} else {
			k.warn("crls", RevocationUnknown, remedy, "there is no revocation source for certificates of these "+
				"authorities")
		}
	}
}

func webAddress(text string) bool {
	u, err := url.Parse(text)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != ""
}

// showPEM names certificates so that two of one subject can be told apart.
func showPEM(text string) string {
	var out []string
	for rest := []byte(text); len(out) < 5; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if c, err := x509.ParseCertificate(block.Bytes); err == nil {
			out = append(out, fmt.Sprintf("%s (serial %x, until %s)", c.Subject, c.SerialNumber,
				c.NotAfter.UTC().Format("2006-01-02")))
		} else {
			out = append(out, strings.ToLower(block.Type))
		}
	}
	return strings.Join(out, ", ")
}

// String writes what differs from the usual.
func (l LaneTLS) String() string {
	var out []string
	add := func(when bool, text string) {
		if when {
			out = append(out, text)
		}
	}
	add(l.Certificate != "", "certificate "+l.Certificate)
	add(l.Trust != "", "trust list "+l.Trust)
	add(l.Minimum != "" && l.Minimum != "1.2", "minimum "+l.Minimum)
	add(len(l.Older) > 0, "older peers "+strings.Join(l.Older, ", "))
	add(l.Binding != "" && l.Binding != "optional", "crypto-binding "+l.Binding)
	add(l.ResumeMinutes > 0, fmt.Sprintf("resume %d min", l.ResumeMinutes))
	add(l.Prove != "" && l.Prove != "user", "prove "+l.Prove)
	return strings.Join(out, "; ")
}

// TrustList is the trust list of a name; without a name the only one there is. It is nil if there is none, or if it
// would have to be chosen from several: who may sign in is never left to the order of a list.
func (c *Config) TrustList(name string) *Trust {
	if name == "" && len(c.Trusts) == 1 {
		return c.Trusts[0]
	}
	if t, at := Find(c.Trusts, name); name != "" && at >= 0 {
		return t
	}
	return nil
}

// needsTLS reports whether the methods of a lane show a server certificate, and whether they take client certificates.
func (l *Lane) needsTLS() (server, trust bool) {
	for _, name := range l.Methods {
		if m := FindMethod(name); m != nil {
			server = server || m.TLS
			trust = trust || m.Needs == NeedsCertificate
		}
	}
	teap := slices.ContainsFunc(l.Methods, func(m string) bool { return strings.HasPrefix(m, "teap-") })
	return server, trust || teap && l.TLS.Prove != "" && l.TLS.Prove != "user"
}

// settleTrust writes down which trust list configurations meant that were made when an empty name was the first one.
func (c *Config) settleTrust() {
	if len(c.Trusts) < 2 {
		return
	}
	for i, lane := range c.Lanes {
		if _, trust := lane.needsTLS(); trust && lane.TLS.Trust == "" {
			Own(c.Lanes, i).TLS.Trust = c.Trusts[0].Name
		}
	}
	for i, client := range c.Clients {
		if len(client.TLSNames) > 0 && client.TLSTrust == "" {
			Own(c.Clients, i).TLSTrust = c.Trusts[0].Name
		}
	}
}

// checkTLS checks what a lane says about TLS against its methods.
func (c *Config) checkTLS(k *checker, l *Lane) {
	needsServer, needsTrust := l.needsTLS()
	if _, at := Find(c.Certificates, l.TLS.Certificate); l.TLS.Certificate != "" && at < 0 {
		k.fail("tls.certificate", NotFound, "Choose one of the certificates.", "there is no certificate %q",
			l.TLS.Certificate)
	} else if needsServer && len(c.Certificates) == 0 {
		k.fail("tls.certificate", Required, "Make or import one under Certificates.",
			"its methods need a server certificate, and there is none")
	}
	if _, at := Find(c.Trusts, l.TLS.Trust); l.TLS.Trust != "" && at < 0 {
		k.fail("tls.trust", NotFound, "Choose one of the trust lists.", "there is no trust list %q", l.TLS.Trust)
	} else if needsTrust && len(c.Trusts) == 0 {
		k.fail("tls.trust", Required, "Add a trust list under Certificates.",
			"its methods accept client certificates, and there is no trust list for them")
	} else if needsTrust && c.TrustList(l.TLS.Trust) == nil {
		k.fail("tls.trust", Required, "Select the trust list whose devices may sign in here.",
			"its methods accept client certificates, there are several trust lists, and none is selected")
	}
	oneOf(k, "tls.minimum", l.TLS.Minimum, Versions)
	oneOf(k, "tls.binding", l.TLS.Binding, []string{"off", "optional", "require"})
	oneOf(k, "tls.prove", l.TLS.Prove, []string{"user", "machine", "both"})
	if l.TLS.ResumeMinutes < 0 || l.TLS.ResumeMinutes > 7*24*60 {
		k.fail("tls.resumeMinutes", OutOfRange, "Use 0 (never) to 10080 minutes (7 days).",
			"%d minutes is out of range", l.TLS.ResumeMinutes)
	}
	if needsServer && (l.TLS.Minimum == "1.0" || l.TLS.Minimum == "1.1") {
		k.warn("tls.minimum", OldTLS, "Raise the minimum to 1.2 once no device needs an older version; each attempt "+
			"shows the version used.", "TLS %s is allowed: its hash functions are broken, and an attacker on the "+
			"path can force its use", l.TLS.Minimum)
	}
	for j, name := range l.TLS.Older {
		i := slices.IndexFunc(Allowances, func(a Allowance) bool { return a.Name == name })
		if i < 0 {
			k.fail(fmt.Sprintf("tls.older[%d]", j), Unknown, "Use "+NoExtendedMasterSecret+" or "+OldCiphers+".",
				"%q is not an allowance for older peers", name)
			continue
		}
		k.warn(fmt.Sprintf("tls.older[%d]", j), OldPeers, "Remove it once no device needs it.", "%s is allowed: %s",
			name, Allowances[i].Exposed)
	}
}

func oneOf(k *checker, field, value string, list []string) {
	if !slices.Contains(list, value) {
		k.fail(field, Unknown, "Use "+strings.Join(list, ", ")+".", "%q is not known here", value)
	}
}

// checkMethods warns of weak methods, and of methods that cannot work where the lane's people are kept.
func (c *Config) checkMethods(k *checker, l *Lane) {
	realms := c.Realms
	if realm, at := Find(c.Realms, l.Realm); l.Realm != "" && at >= 0 {
		realms = []*Realm{realm}
	}
	for j, name := range l.Methods {
		m := FindMethod(name)
		if m == nil {
			continue
		}
		field := fmt.Sprintf("methods[%d]", j)
		if m.Exposed != "" {
			k.warn(field, WeakMethod, "Allow it only for devices that support nothing better, in a lane of their own.",
				"%s is weak: %s", m.Title, m.Exposed)
		}
		if m.Needs != NeedsNTHash && m.Needs != NeedsClear || len(l.Forward) > 0 { // others look those people up
			continue
		}
		for i := range realms {
			for _, step := range realms[i].Lookup {
				d, at := Find(c.Directories, step.Store)
				switch {
				case at < 0 || m.Needs == NeedsNTHash && d.Member():
				case m.Needs == NeedsNTHash && d.Kind == ActiveDirectory:
					k.warn(field, MethodUnusable, "Join the domain, or use methods that send the password inside a "+
						"tunnel, such as EAP-TTLS with PAP, or certificates.",
						"%s cannot be checked for people of directory %s (realm %s): not joined to its domain",
						m.Title, d.Name, realms[i].Name)
				default:
					k.warn(field, MethodUnusable, "Use methods that send the password inside a tunnel, such as "+
						"EAP-TTLS with PAP, or certificates.", "%s cannot be checked for people of directory "+
						"%s (realm %s): a directory does not hand out password hashes", m.Title, d.Name, realms[i].Name)
				}
			}
		}
	}
}
