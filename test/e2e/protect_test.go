package e2e

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// raw asks the console for something with a Host of its own, and returns the status and the headers.
func (w *world) raw(host, path string, header http.Header) (int, http.Header, string) {
	w.t.Helper()
	request, err := http.NewRequest(http.MethodGet, w.api.URL+path, nil)
	if err != nil {
		w.t.Fatal(err)
	}
	request.Host = host
	for name, values := range header {
		request.Header[name] = values
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		w.t.Fatal(err)
	}
	defer response.Body.Close()
	body, _ := io.ReadAll(response.Body)
	return response.StatusCode, response.Header, string(body)
}

// A page from elsewhere whose name was made to point at loopback does not get to talk to the console as its own.
func TestTheConsoleAnswersToItsOwnNames(t *testing.T) {
	t.Parallel()
	w := start(t)
	u, _ := url.Parse(w.api.URL)
	for host, want := range map[string]int{u.Host: 200, "localhost:" + u.Port(): 200, "[::1]:" + u.Port(): 200,
		"127.0.0.9": 200, "LOCALHOST.": 200,
		"rebound.example": 421, "rebound.example:" + u.Port(): 421, "127.0.0.1.rebound.example": 421, "192.0.2.7": 421,
		"localhost.rebound.example": 421} {
		for _, path := range []string{"/", "/api/v1/about", "/lists/x.crl", "/assets/none.js"} {
			got, _, _ := w.raw(host, path, nil)
			if (got == 421) != (want == 421) {
				t.Errorf("Host %s is answered %d at %s", host, got, path)
			}
		}
	}
}

func TestEveryAnswerCarriesTheSecurityHeaders(t *testing.T) {
	t.Parallel()
	w := start(t)
	for _, path := range []string{"/", "/api/v1/about", "/api/v1/clients", "/nothing", "/assets/none.js",
		"/lists/none.crl"} {
		_, h, _ := w.raw("localhost", path, nil)
		for name, want := range map[string]string{"X-Content-Type-Options": "nosniff", "X-Frame-Options": "DENY",
			"Referrer-Policy": "same-origin", "Cross-Origin-Opener-Policy": "same-origin",
			"Cross-Origin-Resource-Policy": "same-origin", "Permissions-Policy": "camera=(), geolocation=(), " +
				"microphone=()"} {
			if h.Get(name) != want {
				t.Errorf("%s: %s is %q", path, name, h.Get(name))
			}
		}
		if csp := h.Get("Content-Security-Policy"); !strings.Contains(csp, "default-src 'none'") ||
			strings.Contains(csp, "unsafe") {
			t.Errorf("%s: policy %q", path, csp)
		}
	}
	status, _, _ := w.raw("localhost", "/api/v1/about", http.Header{"X-Padding": {strings.Repeat("x", 100_000)}})
	if status != http.StatusRequestHeaderFieldsTooLarge {
		t.Errorf("100 kB of headers are answered %d", status)
	}
	big := strings.NewReader(`{"name":"` + strings.Repeat("x", 20<<20) + `"}`)
	request, _ := http.NewRequest(http.MethodPost, w.api.URL+"/api/v1/sign-in", big)
	request.Header.Set("Content-Type", "application/json")
	if response, err := http.DefaultClient.Do(request); err == nil {
		response.Body.Close()
		if response.StatusCode != http.StatusRequestEntityTooLarge {
			t.Errorf("20 MB are answered %d", response.StatusCode)
		}
	}
}

// Whoever asks and does not take the answer loses the connection; whoever begins to ask and does not go on, too.
func TestSlowWebClientsAreLeft(t *testing.T) {
	t.Parallel()
	w := start(t)
	u, _ := url.Parse(w.api.URL)
	c, err := net.Dial("tcp", u.Host)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	fmt.Fprintf(c, "POST /api/v1/sign-in HTTP/1.1\r\nHost: localhost\r\nContent-Type: "+
		"application/json\r\nContent-Length: 1000\r\n\r\n{")
	c.SetReadDeadline(time.Now().Add(25 * time.Second))
	begun := time.Now()
	if line, err := bufio.NewReader(c).ReadString('\n'); err != nil && strings.Contains(err.Error(), "timeout") {
		t.Errorf("a body that never comes is waited for after %v: %q %v", time.Since(begun), line, err)
	}
}

// A stored password goes to the servers it was typed for, and to no others, by whatever road they are changed.
func TestAStoredPasswordGoesNowhereElse(t *testing.T) {
	t.Parallel()
	w := lantern(t)
	var d apitype.Directory
	w.do(http.MethodGet, "/directories/LANTERN", nil, &d)
	other := func(change func(*apitype.DirectoryFields)) apitype.DirectoryInput {
		fields := d.DirectoryFields
		fields.Servers = append([]string(nil), fields.Servers...)
		change(&fields)
		return apitype.DirectoryInput{DirectoryFields: fields}
	}
	for name, change := range map[string]func(*apitype.DirectoryFields){
		"another server":  func(f *apitype.DirectoryFields) { f.Servers = []string{"192.0.2.66:636"} },
		"one server more": func(f *apitype.DirectoryFields) { f.Servers = append(f.Servers, "192.0.2.66:636") },
		"no TLS": func(f *apitype.DirectoryFields) {
			f.TLS, f.Servers = "plain", []string{"127.0.0.1:389"}
		},
		"another authority":      func(f *apitype.DirectoryFields) { f.CA = "" },
		"another DNS server":     func(f *apitype.DirectoryFields) { f.DNS = "192.0.2.66:53" },
		"another name in its CA": func(f *apitype.DirectoryFields) { f.ServerName = "evil.example" },
	} {
		err := w.api.Do(t.Context(), http.MethodPut, "/directories/"+d.ID, other(change), nil, client.IfMatch("*"))
		if p, ok := err.(*apitype.Problem); !ok || p.Status != 422 || len(p.Errors) != 1 ||
			p.Errors[0].Field != "bindPassword" || !strings.Contains(p.Errors[0].Remedy, "Type the password") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := w.api.Do(t.Context(), http.MethodPut, "/directories/"+d.ID, other(func(f *apitype.DirectoryFields) {
		f.Note = "others"
	}), nil, client.IfMatch("*")); err != nil {
		t.Errorf("a note cannot be changed without the password: %v", err)
	}
	file := filepath.Join(w.dir, "config.yaml")
	text, code := w.run("", "tollgate", "config", "export")
	if code != 0 {
		t.Fatal(text)
	}
	moved := strings.Replace(text, d.Servers[0], "192.0.2.66:636", 1)
	if moved == text {
		t.Fatalf("%s does not stand in the file", d.Servers[0])
	}
	os.WriteFile(file, []byte(moved), 0o600)
	w.wants(1, []string{"config", "apply", file, "-yes"}, "stored password was given for", "clear:")
	// A sealed secret that is written over another one in the file opens nowhere.
	sealed, _ := w.run("", "tollgate", "config", "export", "-secrets")
	lines := strings.Split(sealed, "\n")
	var bind, secret int
	for i, line := range lines {
		if strings.Contains(line, "bindPassword: ") {
			bind = i
		}
		if secret == 0 && strings.HasPrefix(strings.TrimSpace(line), "secret: ") {
			secret = i
		}
	}
	_, value, _ := strings.Cut(lines[bind], ": ")
	lines[secret] = lines[secret][:strings.Index(lines[secret], ": ")+2] + value
	os.WriteFile(file, []byte(strings.Join(lines, "\n")), 0o600)
	w.wants(1, []string{"config", "apply", file, "-yes"}, "for another object")
	os.WriteFile(file, []byte(sealed), 0o600)
	if d2, _ := w.running(); len(d2.Changes) != 1 {
		t.Errorf("refused edits left %+v", d2.Changes)
	}
}

// Both secrets of a client are kept when one is made and the other typed.
func TestTwoSecretsAtOnce(t *testing.T) {
	t.Parallel()
	w := start(t)
	var out apitype.Saved[apitype.Client]
	w.do(http.MethodPost, "/clients", apitype.ClientInput{Secret: secret, GenerateTACACSSecret: true,
		ClientFields: apitype.ClientFields{Name: "np-switch-1", Enabled: true, Addresses: []string{"127.0.0.1"},
			MessageAuthenticator: "require"}}, &out)
	if out.Secret == "" || !out.Object.SecretSet || !out.Object.TACACSSecretSet {
		t.Errorf("%+v", out)
	}
	w.do(http.MethodPut, "/clients/np-switch-1", apitype.ClientInput{GenerateSecret: true,
		TACACSSecret: "mooring-and-measure", ClientFields: out.Object.ClientFields}, &out, matchAny)
	if out.Secret == "" || out.Secret == secret || !out.Object.TACACSSecretSet {
		t.Errorf("%+v", out)
	}
	w.publish()
	reply, err := w.ask(func(q *trial.Request) { q.Secret = out.Secret })
	if err != nil || reply.Accepted { // there is no lane, and the answer proves the secret
		t.Errorf("the secret that was made: %+v %v", reply, err)
	}
}

// What a remote server grants is what it may grant, with our pass over it.
func TestARemoteServerGrantsWhatItMay(t *testing.T) {
	t.Parallel()
	near, far := forwarding(t)
	far.wants(0, []string{"pass", "change", "crew", "-vlan", "77", "-role", "everything", "-publish"}, "published")
	check := func(what, vlan, filter, timeout string) {
		t.Helper()
		reply, err := near.ask(nil)
		if err != nil || !reply.Accepted || values(reply, "Tunnel-Private-Group-ID") != vlan || values(reply,
			"Filter-Id") != filter || values(reply, "Session-Timeout") != timeout {
			t.Errorf("%s: %+v %v", what, reply, err)
		}
	}
	check("everything", "77", "everything", "3600")
	near.wants(0, []string{"remote", "change", "port-authority", "-grant", "none", "-publish"}, "published")
	check("nothing", "", "", "3600")
	if a := near.newest(2); !strings.Contains(a.Facts.Forwarded.Detail, "not passed on: ") ||
		!strings.Contains(a.Facts.Forwarded.Detail, "Filter-Id") || a.VLAN != "" {
		t.Errorf("%+v", a.Facts.Forwarded)
	}
	near.wants(0, []string{"remote", "change", "port-authority", "-grant", "Filter-Id", "-publish"}, "published")
	check("one attribute", "", "everything", "3600")
	near.wants(0, []string{"pass", "add", "guests", "-vlan", "99", "-publish"}, "added")
	near.wants(0, []string{"remote", "change", "port-authority", "-grant", "*", "-pass", "guests", "-publish"},
		"everything that this server grants is passed on", "published")
	check("a pass over everything", "99", "everything", "3600")
	near.wants(0, []string{"remote", "show", "port-authority"}, "may grant", "everything", "guests")
	near.wants(1, []string{"remote", "change", "port-authority", "-grant", "No-Such-Attribute"}, "no attribute")
}
