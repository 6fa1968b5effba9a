package e2e

import (
	"encoding/csv"
	"net/http"
	"strings"
	"testing"

	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

// Many clients at once: the draft takes all of it or nothing, secrets that were made work, whoever is limited reaches
// their own, and the audit tells of what was done and not of what was only looked at.
func TestManyClients(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("auto", "127.0.0.1")
	bad := "name,addresses,tags\nsw-1,192.0.2.1,site=pier\nsw-2,192.0.2.1,\n"
	var report apitype.ClientImport
	w.do(http.MethodPost, "/client-import", apitype.Sheet{CSV: bad}, &report)
	if report.Done || report.Wrong != 1 || report.Secrets != "" ||
		!strings.Contains(report.Lines[1].Message, "belongs to sw-1") {
		t.Errorf("a wrong line: %+v", report)
	}
	w.do(
		http.MethodPost,
		"/client-import",
		apitype.Sheet{CSV: strings.Replace(bad, "0.2.1,\n", "0.2.2,\n", 1), Check: true},
		&report,
	)
	if report.Done || report.Secrets != "" || report.Added != 2 {
		t.Errorf("a check: %+v", report)
	}
	if lines := w.audit("kind=client"); len(lines) > 1 {
		t.Errorf("the audit tells of what was only looked at: %+v", lines[0])
	}
	w.do(
		http.MethodPost,
		"/client-import",
		apitype.Sheet{CSV: strings.Replace(bad, "0.2.1,\n", "0.2.2,\n", 1)},
		&report,
	)
	if rows, err := csv.NewReader(strings.NewReader(report.Secrets)).ReadAll(); err != nil || len(rows) != 3 {
		t.Errorf("secrets are given as %q, %v", report.Secrets, err)
	}
	w.refused(
		http.StatusUnprocessableEntity,
		http.MethodPost,
		"/client-import",
		apitype.Sheet{CSV: "colour\nred\n"},
		"no column",
	)
	w.refused(
		http.StatusUnprocessableEntity,
		http.MethodPost,
		"/client-changes",
		apitype.ClientsChange{Rotate: true},
		"no clients",
	)
	w.refused(
		http.StatusNotFound,
		http.MethodPost,
		"/client-changes",
		apitype.ClientsChange{Clients: []string{"sw-1", "sw-x"}},
		"sw-x",
	)
	w.refused(http.StatusUnprocessableEntity, http.MethodPost, "/client-changes", apitype.ClientsChange{All: true,
		Tags: map[string]string{"name": "x"}}, "tags")
	// a secret that was made for one of many works at once when it is published, and the one before until then
	var out apitype.ClientsChanged
	w.do(
		http.MethodPost,
		"/client-changes",
		apitype.ClientsChange{Clients: []string{"np-switch-1"}, Rotate: true, KeepFor: 1},
		&out,
	)
	// made again before it was published: what the device has stays accepted, not what no device ever had
	w.do(http.MethodPost, "/client-changes",
		apitype.ClientsChange{Clients: []string{"np-switch-1"}, Rotate: true, KeepFor: 1}, &out)
	w.publish()
	rows, err := csv.NewReader(strings.NewReader(out.Secrets)).ReadAll()
	if err != nil || len(rows) != 2 || out.KeptUntil == nil {
		t.Fatalf("%+v, %v", out, err)
	}
	for _, s := range []string{rows[1][2], secret} {
		if reply, err := w.ask(func(r *trial.Request) { r.Secret = s }); err != nil || !reply.Accepted {
			t.Errorf("the secret %.4s... is not accepted: %+v, %v", s, reply, err)
		}
	}
	token := w.operator("e.pier", "engineer")
	w.do(
		http.MethodPut,
		"/operators/e.pier",
		apitype.RoleInput{Role: "engineer", Clients: []string{"site=pier"}},
		nil,
	)
	pier := w.as(token)
	var found apitype.Answers
	pier.do(http.MethodGet, "/search?q=sw", nil, &found)
	for _, a := range found.Items {
		if a.Kind == "client" && a.Name != "sw-1" {
			t.Errorf("a limited engineer finds %+v", a)
		}
	}
	pier.do(
		http.MethodPost,
		"/client-changes",
		apitype.ClientsChange{All: true, Tags: map[string]string{"floor": "2"}},
		&out,
	)
	if out.Chosen != 1 {
		t.Errorf("a limited engineer changed %d clients", out.Chosen)
	}
	pier.refused(
		http.StatusNotFound,
		http.MethodPost,
		"/client-changes",
		apitype.ClientsChange{Clients: []string{"sw-2"}},
		"sw-2",
	)
	pier.refused(http.StatusForbidden, http.MethodPost, "/client-changes", apitype.ClientsChange{All: true,
		Tags: map[string]string{"site": "elsewhere"}}, "limited to clients")
	pier.refused(
		http.StatusForbidden,
		http.MethodPost,
		"/client-import",
		apitype.Sheet{CSV: "name\nsw-2\n"},
		"limited to clients",
	)
	if text := w.wants(0, []string{"client", "export", "sw-1"}, "floor=2;site=pier"); strings.Contains(text, "sw-2") {
		t.Errorf("exported\n%s", text)
	}
}
