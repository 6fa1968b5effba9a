package config

import (
	"crypto/x509"
	"fmt"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Feed sends records on to another system while they are made: as syslog (RFC 5424), or as a file of JSON lines.
type Feed struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Enabled bool   `json:"enabled"`
	// Records are what is sent on.
	Records []string `json:"records"`
	// To is how: FeedUDP, FeedTCP, FeedTLS or FeedFile.
	To string `json:"to"`
	// Address is host:port of the receiver of syslog.
	Address string `json:"address,omitempty"`
	// CA is PEM of the authority of its certificate, empty for those of the system; ServerName the name in it, empty
	// for the host; Certificate one of ours to show, empty for none.
	CA          string `json:"ca,omitempty"`
	ServerName  string `json:"serverName,omitempty"`
	Certificate string `json:"certificate,omitempty"`
	// Facility is that of RFC 5424 section 6.2.1.
	Facility int `json:"facility"`
	// File is the name of the file in the directory for feeds. It is continued as another one after Megabytes, and of
	// those Keep are kept.
	File      string `json:"file,omitempty"`
	Megabytes int    `json:"megabytes,omitempty"`
	Keep      int    `json:"keep,omitempty"`
	// Verdict, Client, Who and Lane select records, empty for all; * stands for any characters.
	Verdict string `json:"verdict,omitempty"`
	Client  string `json:"client,omitempty"`
	Who     string `json:"who,omitempty"`
	Lane    string `json:"lane,omitempty"`
	Note    string `json:"note,omitempty"`
}

// Ways to send records on.
const (
	FeedUDP  = "syslog-udp"
	FeedTCP  = "syslog-tcp"
	FeedTLS  = "syslog-tls"
	FeedFile = "file"
)

// Records that can be sent on.
const (
	FeedAttempts   = "attempts"
	FeedAccounting = "accounting"
	FeedJournal    = "journal"
	FeedAudit      = "audit"
)

// FeedRecords are all records that can be sent on.
var FeedRecords = []string{FeedAttempts, FeedAccounting, FeedJournal, FeedAudit}

// securityFacility is "security/authorization messages (private)".
const securityFacility = 10

func (f *Feed) Ident() string      { return f.ID }
func (f *Feed) Label() string      { return f.Name }
func (f *Feed) Identify(id string) { f.ID = id }

func (f *Feed) normalise() {
	orEmpty(&f.Records)
	trim(&f.Name, &f.Address, &f.CA, &f.ServerName, &f.Certificate, &f.File, &f.Client, &f.Who, &f.Lane, &f.Note)
	if len(f.Records) == 0 {
		f.Records = []string{FeedAttempts}
	}
	f.Records = unique(f.Records)
	if f.To == FeedFile {
		f.Address, f.Facility = "", 0
		if f.File == "" {
			f.File = fileName.ReplaceAllString(strings.ToLower(f.Name), "-")
		}
		if f.Megabytes == 0 {
			f.Megabytes = 100
		}
		if f.Keep == 0 {
			f.Keep = 10
		}
		return
	}
	f.File, f.Megabytes, f.Keep = "", 0, 0
	if f.Facility == 0 {
		f.Facility = securityFacility
	}
	if _, _, err := net.SplitHostPort(f.Address); err != nil && f.Address != "" && !strings.Contains(f.Address, "]:") {
		f.Address = net.JoinHostPort(strings.Trim(f.Address, "[]"), map[bool]string{true: "6514", false: "514"}[f.To ==
			FeedTLS])
	}
}

// fileName is what the name of a file is not made of.
var fileName = regexp.MustCompile(`[^a-z0-9._-]+`)

func (c *Config) checkFeeds(k *checker) {
	files := map[string]string{}
	for _, f := range c.Feeds {
		k.on("feed", f.Name, f.ID)
		for i, name := range f.Records {
			if !slices.Contains(FeedRecords, name) {
				k.fail(fmt.Sprintf("records[%d]", i), Unknown, "Use "+strings.Join(FeedRecords, ", ")+".",
					"%q is not what can be sent on", name)
			}
		}
		if f.Verdict != "" && f.Verdict != "admitted" && f.Verdict != "refused" {
			k.fail("verdict", Unknown, "Use admitted or refused, or leave it empty.", "%q is not a verdict", f.Verdict)
		}
		switch f.To {
		case FeedFile:
			f.checkFile(k, files)
		case FeedUDP, FeedTCP, FeedTLS:
			c.checkSyslog(k, f)
		default:
			k.fail("to", Unknown, "Use "+strings.Join([]string{FeedUDP, FeedTCP, FeedTLS, FeedFile}, ", ")+".",
				"%q is not a way to send records on", f.To)
		}
	}
}

func (f *Feed) checkFile(k *checker, files map[string]string) {
	if fileName.MatchString(f.File) || strings.Trim(f.File, ".") == "" || len(f.File) > 100 {
		k.fail("file", Malformed, "Use up to 100 small letters, digits, -, _ and .", "%q is not a name of a file",
			f.File)
	}
	if other, taken := files[f.File]; taken {
		k.fail("file", Taken, "Choose another name.", "feed %q writes into %s already", other, f.File)
	}
	files[f.File] = f.Name
	if f.Megabytes < 1 || f.Megabytes > 10_000 {
		k.fail("megabytes", OutOfRange, "Use 1 to 10000.", "%d MB is out of range", f.Megabytes)
	}
	if f.Keep < 1 || f.Keep > 1000 {
		k.fail("keep", OutOfRange, "Use 1 to 1000.", "%d files are out of range", f.Keep)
	}
}

func (c *Config) checkSyslog(k *checker, f *Feed) {
	host, port, err := net.SplitHostPort(f.Address)
	if n, bad := strconv.Atoi(port); err != nil || bad != nil || host == "" || n < 1 || n > 65535 ||
		strings.ContainsAny(host, " /") {
		k.fail("address", Malformed, "Write for instance 192.0.2.5:514 or logs.example:6514.",
			"%q is not a host with a port", f.Address)
	}
	if f.Facility < 0 || f.Facility > 23 {
		k.fail("facility", OutOfRange, "Use 0 to 23; 10 is security, 16 to 23 are for local use.",
			"facility %d does not exist", f.Facility)
	}
	if f.To != FeedTLS {
		k.warn("to", PlainConnection, "Use TLS where the receiver can.",
			"records go over the network in clear: names, addresses and devices")
		return
	}
	if f.CA != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(f.CA)) {
		k.fail("ca", Malformed, "Paste the certificate of its authority, from BEGIN to END.", "it holds no certificate")
	}
	if own, at := Find(c.Certificates, f.Certificate); f.Certificate != "" && (at < 0 || own.Chain == "") {
		k.fail("certificate", NotFound, "Choose one of the server certificates.",
			"there is no certificate %q that is signed", f.Certificate)
	}
}
