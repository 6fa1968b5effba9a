package main

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"tollgate.example/key/internal/web/apitype"
)

// Each command has a name of its own, says in one line what it does, and lists its flags.
func TestEveryCommandExplainsItself(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range commands() {
		if seen[c.name()] || c.noun == "" || c.short == "" || strings.HasSuffix(c.short, ".") {
			t.Errorf("%q: %q", c.name(), c.short)
		}
		seen[c.name()] = true
		var out, errOut bytes.Buffer
		if code := run(context.Background(), append(strings.Fields(c.name()), "-h"), nil, &out,
			&errOut); code != exitDone {
			t.Errorf("%s -h ends with %d: %s", c.name(), code, errOut.String())
		}
		if help := out.String() + errOut.String(); !strings.Contains(help, "Usage: tollgate "+c.name()) ||
			!strings.Contains(help, c.short[1:]) {
			t.Errorf("%s -h says %q", c.name(), help)
		}
	}
	if len(seen) < 80 {
		t.Errorf("only %d commands", len(seen))
	}
}

// Mistakes on the command line are told apart from refusals of the service, and what the service says is shown.
func TestExitCodesAndFaults(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		if r.Header.Get("Authorization") == "" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		w.WriteHeader(http.StatusUnprocessableEntity)
		json.NewEncoder(w).Encode(apitype.Problem{Status: 422, Detail: "Not saved.", Remedy: "Correct the fields.",
			Errors: []apitype.Fault{{Field: "vlan", Message: "VLAN 5000 does not exist", Remedy: "Use 1 to 4094."}}})
	}))
	defer server.Close()
	t.Setenv("TOLLGATE_URL", server.URL)
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	t.Setenv("HOME", t.TempDir())
	for _, c := range []struct {
		args  []string
		token string
		code  int
		wants []string
	}{
		{[]string{"boat"}, "x", exitUsage, []string{`there is no "boat"`}},
		{[]string{"client", "sink"}, "x", exitUsage, []string{`no verb "sink"`}},
		{[]string{"client", "list", "-nonsense"}, "x", exitUsage, []string{"nonsense"}},
		{[]string{"client", "list"}, "", exitRefused, []string{"not signed in", "tollgate sign-in"}},
		{[]string{"pass", "add", "crew", "-vlan", "5000"}, "x", exitRefused, []string{"Not saved.", "vlan",
			"VLAN 5000 does not exist", "Use 1 to 4094."}},
	} {
		t.Setenv("TOLLGATE_TOKEN", c.token)
		var out, errOut bytes.Buffer
		if code := run(context.Background(), c.args, strings.NewReader(""), &out, &errOut); code != c.code {
			t.Errorf("%v ends with %d, wanted %d", c.args, code, c.code)
		}
		for _, want := range c.wants {
			if !strings.Contains(errOut.String(), want) {
				t.Errorf("%v: %q is missing in %q", c.args, want, errOut.String())
			}
		}
	}
}
