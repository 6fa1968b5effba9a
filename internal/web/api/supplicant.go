package api

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/certificate"
	"tollgate.example/key/internal/web/apitype"
)

// supplicants registers the settings text for devices.
func (s *server) supplicants() {
	huma.Register(s.api, operation("GET", "/lanes/{ref}/supplicant", "supplicant-settings",
		"What to set on a device for a lane of the draft"), func(_ context.Context,
		in *OneInput) (*body[apitype.SupplicantText], error) {
		c := s.Revisions.Draft()
		lane, at := config.Find(c.Lanes, in.Ref)
		if at < 0 {
			return nil, problem(http.StatusNotFound, fmt.Sprintf("there is no lane %q in the draft", in.Ref), "")
		}
		name := serverOf(c, lane)
		server, at := config.Find(c.Certificates, name)
		if name == "" || at < 0 || server.Chain == "" {
			return nil, problem(http.StatusConflict, fmt.Sprintf("lane %s shows devices no certificate", lane.Name),
				"Choose a method that runs in TLS, and a certificate.")
		}
		out, err := supplicantText(lane, server)
		if err != nil {
			return nil, err
		}
		return ok(*out), nil
	})
}

// supplicantText writes the settings for every EAP method of a lane.
func supplicantText(lane *config.Lane, server *config.Certificate) (*apitype.SupplicantText, error) {
	chain, err := certificate.ParsePEM(server.Chain)
	if err != nil {
		return nil, err
	}
	leaf, last := certificate.Describe(chain[0]), chain[len(chain)-1]
	names := strings.Join(leaf.DNS, ";")
	out := &apitype.SupplicantText{Files: map[string]string{}, CA: []results.Certificate{}}
	var text strings.Builder
	fmt.Fprintf(&text, "Settings for lane %s\n\n", lane.Name)
	authority := last.Issuer.String()
	if last.IsCA || bytes.Equal(last.RawIssuer, last.RawSubject) {
		out.CA = append(out.CA, certificate.Describe(last))
		authority = out.CA[0].Subject
		fmt.Fprintf(&text, "Trusted authority:  %s\n", authority)
		fmt.Fprintf(&text, "  SHA-256:          %s\n", out.CA[0].SHA256)
	} else { // a certificate that stands alone is no authority
		fmt.Fprintf(&text, "Trusted authority:  %s\n", authority)
		fmt.Fprintf(&text, "  Get its certificate from whoever runs it: it is not kept here.\n")
	}
	fmt.Fprintf(&text, "Server name:        %s\n", names)
	fmt.Fprintf(&text, "TLS:                %s or newer\n\nMethods, the preferred first:\n", lane.TLS.Minimum)
	for _, method := range lane.Methods {
		m := config.FindMethod(method)
		if m == nil || !m.TLS {
			continue
		}
		fmt.Fprintf(&text, "  %s: %s\n", m.Title, inWords(m))
		out.Files[method] = supplicantFile(method, m, names, authority)
	}
	text.WriteString("\nInstall the authority before the first sign-in, and let nobody accept a certificate by " +
		"hand:\na device that trusts whatever it is shown gives its password to the first stranger.\n")
	out.Text = text.String()
	return out, nil
}

func inWords(m *config.Method) string {
	switch m.Needs {
	case config.NeedsCertificate:
		return "a client certificate on the device, no password"
	case config.NeedsNTHash, config.NeedsClear:
		return "name and password; only for people whose password is kept so that it can be checked this way"
	}
	return "name and password, inside the tunnel"
}

// supplicantFile is a network block as common open-source supplicants read it.
func supplicantFile(name string, m *config.Method, names, subject string) string {
	outer, inner, _ := strings.Cut(name, "-")
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, "  "+format+"\n", args...) }
	fmt.Fprintf(&b, "# %s; authority: %s\nnetwork={\n", m.Title, subject)
	line("key_mgmt=WPA-EAP IEEE8021X")
	line("eap=%s", map[string]string{"eap": "TLS", "peap": "PEAP", "ttls": "TTLS", "teap": "TEAP"}[outer])
	line(`identity="NAME"`)
	if outer != "eap" {
		line(`anonymous_identity="anonymous"`)
	}
	line(`ca_cert="authority.pem"`)
	line(`domain_match="%s"`, names)
	if m.Needs == config.NeedsCertificate {
		line(`client_cert="device.pem"`)
		line(`private_key="device.key"`)
	} else {
		line(`password="PASSWORD"`)
	}
	switch {
	case outer == "ttls" && (inner == "md5" || inner == "gtc" || inner == "tls"):
		line(`phase2="autheap=%s"`, strings.ToUpper(inner))
	case outer != "eap" && inner != "pap" || outer == "ttls":
		line(`phase2="auth=%s"`, strings.ToUpper(inner))
	}
	b.WriteString("}\n")
	return b.String()
}
