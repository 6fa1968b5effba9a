package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/identity/approval"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/phone"
)

var mailedTo = regexp.MustCompile(`(?m)^To: <([^>]+)>`)

// Whoever is admitted without a second factor for now is reminded by mail: once a week, in the last days once a day,
// also over a restart, and no more once there is one.
func TestRemindersByMail(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	box, err := lab.ServeMail("127.0.0.1:0", dir)
	if err != nil {
		t.Fatal(err)
	}
	defer box.Close()
	w := &world{t: t, dir: t.TempDir(), mail: "smtp://" + box.Address}
	w.first()
	w.basic("require", "127.0.0.1")
	for _, name := range []string{"m.wade", "l.orme", "v.vane"} {
		address := name + "@lanternferries.example"
		if name == "v.vane" {
			address = ""
		}
		w.do(
			http.MethodPost,
			"/accounts",
			apitype.AccountInput{Password: wadePassword, AccountFields: apitype.AccountFields{
				Name: name, Mail: address, Groups: []string{"Crew"}, Enabled: true}},
			nil,
		)
	}
	now := time.Now()
	until := now.AddDate(0, 0, 12)
	seen := 0
	mails := func(at time.Time, want ...string) (letters []string) {
		t.Helper()
		if err := w.app.Remind(t.Context(), at); err != nil {
			t.Error(err)
		}
		files, _ := filepath.Glob(filepath.Join(dir, "*.eml"))
		to := map[string]bool{}
		for _, file := range files[seen:] {
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			letter := strings.ReplaceAll(strings.ReplaceAll(string(text), "=\r\n", ""), "=3D", "=")
			if !strings.Contains(letter, "Subject: Your second factor is missing") {
				continue // about the new device
			}
			letters = append(letters, letter)
			to[mailedTo.FindStringSubmatch(letter)[1]] = true
		}
		for _, name := range want {
			if !to[name+"@lanternferries.example"] {
				t.Errorf("at %s %s gets no mail", at, name)
			}
		}
		if len(letters) != len(want) {
			t.Errorf("at %s mail goes to %v, wanted %v", at, to, want)
		}
		seen = len(files)
		return letters
	}
	sign := func(user string) {
		t.Helper()
		if r, err := w.ask(func(q *trial.Request) { q.User, q.Password = user, wadePassword }); err != nil ||
			!r.Accepted {
			t.Fatalf("%s: %s, %v", user, r.Code, err)
		}
	}
	sign("m.wade") // nobody is asked, and nobody is reminded
	mails(now)
	w.wants(0, []string{"lane", "change", "Wired", "-second-factor", "any", "-factor-until",
		until.Format(time.DateOnly), "-publish"}, "revision")
	mails(now) // m.wade has not signed in since
	for i, user := range []string{"m.wade", "l.orme", "v.vane"} {
		sign(user)
		w.attempts("user="+user+"&verdict=admitted", map[bool]int{true: 2, false: 1}[i == 0])
	}
	letters := mails(now, "m.wade", "l.orme")
	if len(letters) == 0 ||
		!strings.Contains(letters[0], "until "+until.Format(time.DateOnly)+" you can sign in without") {
		t.Errorf("the mail is\n%s", letters[0])
	}
	w.wants(0, []string{"audit", "list"}, "reminded 2 people by mail")
	mails(now.Add(24 * time.Hour))
	w.app.Stop()
	w.boot()
	mails(now.Add(48 * time.Hour))
	letter := letters[0]
	if mailedTo.FindStringSubmatch(letter)[1] != "m.wade@lanternferries.example" {
		letter = letters[1]
	}
	_, token, _ := strings.Cut(mailedLink.FindString(letter), "/enrol")
	if _, err := phone.Enrol(t.Context(), nil, w.app.PortalURL+"/enrol"+token, wadePassword, ""); err != nil {
		t.Errorf("the link of the mail: %v", err)
	}
	mails(now.Add(8*24*time.Hour), "l.orme")
	mails(now.Add(8*24*time.Hour + 2*time.Hour))
	last := time.Date(until.Year(), until.Month(), until.Day(), 0, 0, 0, 0, time.Local).Add(-2 * 24 * time.Hour)
	mails(last, "l.orme")
	mails(last.Add(time.Hour))
	mails(last.Add(24*time.Hour), "l.orme")
	mails(last.AddDate(0, 0, 3)) // over
}

// What a person said of a sign-in stands on Now after a restart too, and the phone is left alone as before.
func TestAnAlarmOutlivesARestart(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.account("m.wade", wadePassword, "Crew")
	w.wants(
		0,
		[]string{"lane", "change", "Wired", "-second-factor", "approval", "-reject-delay", "0", "-publish"},
		"revision",
	)
	wade := w.phoneOf("m.wade", wadePassword, "Wade's phone")
	s := w.begins("m.wade", wadePassword)
	s.shown()
	says(t, wade, waits(t, wade), approval.Alarm, 0, approval.Alarm)
	s.ends("Access-Reject", "factor.not-me")
	w.app.Stop()
	w.boot()
	if !alarmed(w) {
		t.Error("the alarm is gone")
	}
	w.wants(0, []string{"factor", "show", "m.wade"}, "this is not me")
	w.wants(0, []string{"factor", "release", "m.wade"}, "")
	w.app.Stop()
	w.boot()
	if alarmed(w) {
		t.Error("the alarm is back after its release")
	}
}
