package e2e

import (
	"encoding/csv"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

// A lane asks one group after the other, in the draft, and whoever is ready stands in a file.
func TestRollOutByGroups(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.account("m.wade", "gangplank-and-tide", "Crew")
	w.account("v.vane", "weather-and-vane-1", "Deck Hands")
	w.do(http.MethodPost, "/accounts", apitype.AccountInput{AccountFields: apitype.AccountFields{Name: "p.rill",
		Display: "=1+1", Groups: []string{"Deck Hands", "Crew"}, Enabled: true}, Password: "pier-and-rill-1"}, nil)
	w.enrol("v.vane")
	roll := func(code int, says string, args ...string) {
		t.Helper()
		w.wants(code, append([]string{"factor", "roll-out"}, args...), says)
	}
	roll(2, "give the lane", "Crew")
	roll(1, "there is no lane", "Crew", "-lane", "Nowhere")
	roll(1, "nobody who signed in lately", "Nobodies", "-lane", "Wired")
	roll(1, "is past", "Crew", "-lane", "Wired", "-until", "2020-01-01")
	w.wants(0, []string{"draft", "show"}, "0 changes") // nothing of it is left
	roll(0, "1 of 2 have none that it takes", "Deck Hands", "-lane", "Wired", "-second-factor", "code")
	roll(1, "asks \"Deck Hands\" already", "Deck Hands", "-lane", "Wired")
	roll(1, "one kind", "Crew", "-lane", "Wired", "-second-factor", "approval")
	until := time.Now().AddDate(0, 0, 9).Format(time.DateOnly)
	roll(0, `group is "Deck Hands" or group is Crew`, "Crew", "-lane", "Wired", "-until", until)
	w.wants(0, []string{"lane", "show", "Wired"}, `"Deck Hands" or group is Crew`, until)
	w.wants(0, []string{"draft", "publish"}, "revision")
	for user, password := range map[string]string{"m.wade": "gangplank-and-tide", "p.rill": "pier-and-rill-1"} {
		if r, err := w.ask(func(q *trial.Request) { q.User, q.Password = user, password }); err != nil || !r.Accepted {
			t.Errorf("%s in grace: %s, %v", user, r.Code, err)
		}
	}
	if r, err := w.ask(func(q *trial.Request) { q.User, q.Password = "v.vane", "weather-and-vane-1" }); err != nil ||
		r.Code != "Access-Challenge" {
		t.Errorf("who is ready is asked: %s, %v", r.Code, err)
	}
	// Whoever has codes alone is none of those whom a lane takes whose methods carry no code.
	w.wants(0, []string{"lane", "add", "Tunnel", "-when", "port.type is Virtual", "-method", "mschapv2", "-realm",
		"here"}, "")
	roll(0, "2 of 2 have none that it takes", "Deck Hands", "-lane", "Tunnel")
	w.wants(0, []string{"draft", "discard"}, "")
	roll(0, "of everybody", "-lane", "Wired")
	roll(1, "asks everybody already", "Crew", "-lane", "Wired")
	file := filepath.Join(t.TempDir(), "ready.csv")
	w.eventually("who was admitted in grace is known", func() bool {
		w.wants(0, []string{"factor", "ready", "Deck Hands", "-csv", file}, "ready.csv")
		text, _ := os.ReadFile(file)
		rows, err := csv.NewReader(strings.NewReader(string(text))).ReadAll()
		if err != nil || len(rows) != 3 || rows[0][0] != "person" || rows[1][0] != "p.rill" || rows[2][0] != "v.vane" {
			t.Fatalf("%v, %s", err, text)
		}
		p, v := rows[1], rows[2]
		return p[1] == "'=1+1" && p[4] == "false" && p[9] != "" && v[4] == "true" && v[5] == "code" && v[9] == ""
	})
}
