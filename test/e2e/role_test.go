package e2e

import (
	"context"
	"io"
	"net/http"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// operator adds an operator with a role, and returns a token of theirs.
func (w *world) operator(name, role string) string {
	w.t.Helper()
	w.do(
		http.MethodPost,
		"/operators",
		apitype.OperatorInput{Name: name, Password: "lantern-demo-2026", Role: role},
		nil,
	)
	var signed apitype.SignedIn
	w.do(http.MethodPost, "/sign-in", apitype.SignInInput{Name: name, Password: "lantern-demo-2026",
		TokenName: "of " + name}, &signed)
	return signed.Token
}

// as is the world for another operator.
func (w *world) as(token string) *world {
	other := *w
	other.api = &client.Client{URL: w.api.URL, Token: token}
	return &other
}

// mine are the calls about oneself.
var mine = regexp.MustCompile(`-own-|-provider-sign-in$|-operator-sessions?$|^ask-for-key$`)

var placeholder = regexp.MustCompile(`\{[a-z]+\}`)

// Every role over every call: what it does not allow is refused before anything is looked at, with who may.
func TestEveryRoleOverEveryCall(t *testing.T) {
	t.Parallel()
	w := start(t)
	doc := w.openAPI()
	// by the beginning of what a call is named, which is not how the table is written
	may := map[string]func(id string) bool{
		"engineer": func(id string) bool {
			return mine.MatchString(id) || !strings.Contains(id, "-operator") && !strings.Contains(id, "-node") &&
				id != "make-backup" || reads(id)
		},
		"auditor":  func(id string) bool { return mine.MatchString(id) || reads(id) },
		"helpdesk": func(id string) bool { return mine.MatchString(id) || help.MatchString(id) },
		"reception": func(id string) bool {
			return mine.MatchString(id) || id == "sign-out" || id == "about" || id == "set-up" || id == "sign-in" ||
				strings.HasSuffix(id, "-token") || id == "list-tokens"
		},
	}
	for role, allowed := range may {
		token := w.operator("a-"+role, role)
		var all sync.WaitGroup
		places := make(chan bool, 16)
		for path, methods := range doc.Paths {
			for method, call := range methods {
				if call.OperationID == "sign-out" { // it would end the token
					continue
				}
				places <- true
				all.Go(func() {
					defer func() { <-places }()
					status, text := w.bare(token, strings.ToUpper(method), placeholder.ReplaceAllString(path, "0"))
					if got := status != http.StatusForbidden; got != allowed(call.OperationID) {
						t.Errorf("%s may %s: %v, by status %d %s", role, call.OperationID, got, status, text)
					}
					if status == http.StatusForbidden && !strings.Contains(text,
						"Ask somebody with one of these roles: "+
							"owner") {
						t.Errorf("%s is refused %s with %s", role, call.OperationID, text)
					}
				})
			}
		}
		all.Wait()
	}
}

// reads are the calls of somebody who only looks.
func reads(id string) bool {
	for _, prefix := range []string{"list-", "get-", "follow-", "export-", "analyse-", "diff-", "check-", "explain-",
		"download-", "preview-", "compare-", "supplicant-", "dry-run", "try-commands", "find-person", "about", "set-up",
		"sign-in", "add-token", "remove-token", "verify-audit", "search"} {
		if strings.HasPrefix(id, prefix) {
			return true
		}
	}
	return false
}

var help = regexp.MustCompile(
	`^(about|set-up|sign-in|list-tokens|add-token|remove-token|get-now|(list|follow|get)-` +
		`(attempts?|sessions?|accounts?|devices?|factors?|contacts|reasons|methods|fields|unknown-devices)|` +
		`list-(held-back|leases)|find-person|search|get-account-import|export-sessions|(add|change|remove)-(account|device)|` +
		`import-(accounts|devices|factors)|(get|export)-factor-readiness|(get|export)-factor-report|invite-factors|(enrol|confirm|release|remove)-factor|renew-recovery-codes|(give|end)-temporary-code|ask-sessions?|` +
		`release-(held-back|lease)|forget-people|list-(presence|presence-changes|sightings|seen-devices)|get-presence(-state|-person)?|add-sighting)$`,
)

// bare makes a call with an empty body and looks at the beginning of the answer only.
func (w *world) bare(token, method, path string) (int, string) {
	return w.bareBody(token, method, path, "{}")
}

func (w *world) bareBody(token, method, path, body string) (int, string) {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, w.api.URL+"/api/v1"+path, strings.NewReader(body))
	if err != nil {
		return 0, err.Error()
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err.Error()
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusForbidden {
		return resp.StatusCode, ""
	}
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 4096))
	return resp.StatusCode, string(text)
}

// Roles from the command line: a change counts at once, one's own tokens are all that others see, and the last owner
// stays, however two go about it at the same moment.
func TestOperatorsAndRoles(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	out, code := w.run("lantern-demo-2026\n", "tollgate", "operator", "add", "h.desk", "-role", "helpdesk")
	if code != 0 || !strings.Contains(out, "may sign in, as helpdesk") {
		t.Fatalf("%d %s", code, out)
	}
	var signed apitype.SignedIn
	w.do(http.MethodPost, "/sign-in", apitype.SignInInput{Name: "h.desk", Password: "lantern-demo-2026",
		TokenName: "desk"}, &signed)
	desk := w.as(signed.Token)
	desk.wants(0, []string{"status"}, "signed in as h.desk, helpdesk")
	desk.wants(1, []string{"client", "list"}, "h.desk has the role helpdesk, which does not allow this", "engineer")
	desk.wants(0, []string{"account", "list"}, "k.nance")
	if out := desk.wants(0, []string{"token", "list"}, "desk"); strings.Contains(out, "o.brandt") {
		t.Errorf("the helpdesk sees the tokens of others: %s", out)
	}
	var tokens apitype.Page[apitype.Token]
	w.do(http.MethodGet, "/tokens", nil, &tokens)
	for _, one := range tokens.Items {
		if one.Operator == "o.brandt" {
			desk.refused(404, http.MethodDelete, "/tokens/"+one.ID, nil, "token of yours")
		}
	}
	desk.refused(403, http.MethodPut, "/operators/h.desk", apitype.RoleInput{Role: "owner"}, "does not allow")
	w.wants(0, []string{"operator", "change", "h.desk", "-role", "engineer"}, "is engineer from now on")
	desk.wants(0, []string{"client", "list"}, "np-switch-1")
	w.wants(1, []string{"operator", "change", "o.brandt", "-role", "auditor"}, "the last owner stays one",
		"Make somebody else an owner first")
	w.wants(1, []string{"operator", "remove", "o.brandt"}, "the last owner stays one")
	w.wants(1, []string{"operator", "change", "nobody", "-role", "auditor"}, "there is no such operator")
	w.wants(1, []string{"operator", "change", "h.desk", "-role", "captain"}, "role")
	// two owners who take the role from each other, many times
	for range 10 {
		w.do(http.MethodPut, "/operators/h.desk", apitype.RoleInput{Role: "owner"}, nil)
		var all sync.WaitGroup
		for _, side := range []struct {
			by    *world
			other string
		}{{w, "h.desk"}, {desk, "o.brandt"}} {
			all.Go(func() {
				side.by.api.Do(context.Background(), http.MethodPut, "/operators/"+side.other,
					apitype.RoleInput{Role: "auditor"}, nil)
			})
		}
		all.Wait()
		owners := w.owners()
		if len(owners) != 1 {
			t.Fatalf("owners are %v", owners)
		}
		if owners[0] == "h.desk" {
			desk.do(http.MethodPut, "/operators/o.brandt", apitype.RoleInput{Role: "owner"}, nil)
		}
	}
	w.do(http.MethodPut, "/operators/o.brandt", apitype.RoleInput{Role: "owner"}, nil)
	w.wants(0, []string{"operator", "remove", "h.desk"}, "is gone")
	desk.refused(401, http.MethodGet, "/tokens", nil, "not signed in")
}

// The helpdesk changes people and ends sessions, but touches nothing that goes around the policies: emergency accounts
// open gear while nothing else is asked, and another pass of a session is nobody's policy.
func TestTheHelpdeskDoesNotGoAroundPolicies(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	desk := w.as(w.operator("h.desk", "helpdesk"))
	in := apitype.AccountInput{
		Password: "gangway-and-rope",
		AccountFields: apitype.AccountFields{Name: "last.resort",
			Enabled: true, Emergency: "client is np-switch-1"},
	}
	desk.refused(403, http.MethodPost, "/accounts", in, "an emergency account", "owner, engineer")
	w.do(http.MethodPost, "/accounts", in, nil)
	in.Emergency = ""
	desk.refused(403, http.MethodPut, "/accounts/last.resort", in, "an emergency account")
	desk.refused(403, http.MethodDelete, "/accounts/last.resort", nil, "an emergency account")
	in.Name, in.Emergency = "k.nance", "always"
	desk.refused(403, http.MethodPut, "/accounts/k.nance", in, "an emergency account")
	desk.account("n.new", "gangway-and-rope")
	// nor does it give sessions another pass than the policies do; it ends them
	desk.refused(403, http.MethodPost, "/sessions-ask", apitype.SessionsAsk{Preview: true,
		SessionAsk: apitype.SessionAsk{Action: "change", Pass: "crew"}}, "does not allow this")
	if _, err := w.ask(nil); err != nil {
		t.Fatal(err)
	}
	id := w.attempts("", 1)[0].ID
	desk.refused(403, http.MethodGet, "/attempts/"+id+"?under=draft", nil, "does not allow this")
	desk.do(http.MethodGet, "/attempts/"+id, nil, nil)
	desk.do(http.MethodPost, "/sessions-ask", apitype.SessionsAsk{Preview: true,
		SessionAsk: apitype.SessionAsk{Action: "disconnect"}}, nil)
}

// A live stream ends when whoever follows it may no longer.
func TestAStreamEndsWithTheRight(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	token := w.operator("a.look", "auditor")
	ended := make(chan error, 1)
	begun := make(chan bool, 1)
	go func() {
		first := true
		ended <- w.as(token).api.Stream(context.Background(), http.MethodGet, "/attempts-live", nil,
			func(client.Event) bool {
				if first {
					first = false
					begun <- true
				}
				return true
			})
	}()
	<-begun
	w.do(http.MethodPut, "/operators/a.look", apitype.RoleInput{Role: "reception"}, nil)
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		t.Error("the stream goes on after its reader has lost the right")
	}
}

// A token ends, may allow less than its operator, and is good from some places alone; it never makes one that may more.
func TestTokensAreLimited(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	token := func(code int, args ...string) *world {
		t.Helper()
		out := w.wants(code, append([]string{"token", "add"}, args...))
		return w.as(strings.TrimSpace(out))
	}
	look := token(0, "report", "-scope", "auditor", "-from", "127.0.0.0/8", "-days", "7")
	look.wants(0, []string{"client", "list"}, "np-switch-1")
	look.wants(
		1,
		[]string{"client", "remove", "np-switch-1"},
		"has the scope auditor",
		"a token with a wider scope",
	)
	// whoever steals it cannot make one that outlives it, is good elsewhere, or may more
	for _, wider := range [][]string{{"-scope", "owner"}, {"-days", "8"}, {"-from", "192.0.2.0/24"}, {"-from", "::/0"},
		{"-from", "0.0.0.0/0"}, {"-from", "127.0.0.0/7"}} {
		look.wants(
			1,
			append([]string{"token", "add", "more"}, wider...),
			"a token cannot make one that goes beyond it",
		)
	}
	in, _ := look.run("", "tollgate", "token", "add", "same", "-from", "127.0.0.1")
	same := w.as(strings.TrimSpace(in))
	same.wants(1, []string{"client", "remove", "np-switch-1"}, "has the scope auditor")
	same.wants(1, []string{"token", "add", "more", "-from", "127.0.0.0/8"},
		"a token cannot make one that goes beyond it")
	var made apitype.Page[apitype.Token]
	w.do(http.MethodGet, "/tokens", nil, &made)
	ends := map[string]time.Time{}
	for _, one := range made.Items {
		ends[one.Name] = *one.Until
	}
	if ends["same"].IsZero() || ends["same"].After(ends["report"]) {
		t.Errorf("a token that ends on %v made one that ends on %v", ends["report"], ends["same"])
	}
	token(
		0,
		"elsewhere",
		"-from",
		"192.0.2.0/24",
		"-from",
		"2001:db8::7",
	).refused(401, http.MethodGet, "/clients", nil,
		"not accepted from that address: 127.0.0.1")
	w.audits("result=refused", "not accepted from that address", "by token elsewhere")
	w.wants(1, []string{"token", "add", "x", "-from", "harbour"}, "that is no prefix", "192.0.2.0/24")
	w.wants(1, []string{"token", "add", "x", "-days", "100000"}, "days")
	seven := time.Now().AddDate(0, 0, 7).Format("2006-01-02")
	w.wants(0, []string{"token", "list"}, "auditor", "127.0.0.0/8", seven, "192.0.2.0/24 2001:db8::7/128",
		time.Now().AddDate(0, 0, 90).Format("2006-01-02"))
	w.wants(0, []string{"token", "remove", "report"}, "has ended")
	look.refused(401, http.MethodGet, "/clients", nil, "not signed in")
}

func (w *world) owners() (out []string) {
	w.t.Helper()
	var page apitype.Page[apitype.Operator]
	w.do(http.MethodGet, "/operators", nil, &page)
	for _, o := range page.Items {
		if o.Role == "owner" {
			out = append(out, o.Name)
		}
	}
	return out
}
