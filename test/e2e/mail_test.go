package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/phone"
)

var mailedLink = regexp.MustCompile(`http://[^\s]+/enrol\?t=[^\s]+`)

// Invitations go to their people by mail, and the operator does not see the links; what could not be sent is told.
func TestInvitationsByMail(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	box, err := lab.ServeMail("127.0.0.1:0", dir)
	if err != nil {
		t.Fatal(err)
	}
	w := &world{t: t, dir: t.TempDir(), mail: "smtp://" + box.Address}
	w.first()
	w.basic("require", "127.0.0.1")
	w.do(http.MethodPost, "/accounts", apitype.AccountInput{Password: wadePassword,
		AccountFields: apitype.AccountFields{
			Name:    "m.wade",
			Display: "Mara Wåde",
			Mail:    "m.wade@lanternferries.example",
			Groups:  []string{"Crew"},
			Enabled: true,
		}}, nil)
	w.account("v.vane", "weather-and-vane-1", "Crew")
	w.wants(0, []string{"lane", "change", "Wired", "-second-factor", "any", "-publish"}, "revision")
	out := w.wants(0, []string{"factor", "invite", "-mail", "m.wade"}, "sent to m.wade@lanternferries.example")
	if strings.Contains(out, "/enrol") {
		t.Errorf("the operator sees the link: %s", out)
	}
	files, _ := filepath.Glob(filepath.Join(dir, "*.eml"))
	if len(files) != 1 {
		t.Fatalf("the mailbox has %v", files)
	}
	text, err := os.ReadFile(files[0])
	if err != nil {
		t.Fatal(err)
	}
	letter := strings.ReplaceAll(strings.ReplaceAll(string(text), "=\r\n", ""), "=3D", "=") // quoted-printable
	link := mailedLink.FindString(letter)
	if !strings.Contains(letter, "Subject: Set up your second factor") || link == "" {
		t.Errorf("the mail is\n%s", text)
	}
	if _, err := phone.Enrol(t.Context(), nil, link, wadePassword, ""); err != nil {
		t.Errorf("the link of the mail: %v", err)
	}
	told := "" // whoever it was, the person learns of it
	end := time.Now().Add(30 * time.Second)
	for ; told == "" && time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if files, _ := filepath.Glob(filepath.Join(dir, "*.eml")); len(files) == 2 {
			text, err := os.ReadFile(files[1])
			if err != nil {
				t.Fatal(err)
			}
			told = string(text)
		}
	}
	if !strings.Contains(told, "a device was added to your second factor") ||
		!strings.Contains(told, "m.wade@lanternferries.example") {
		t.Errorf("the mail about the new device is %q", told)
	}
	w.wants(
		0,
		[]string{"factor", "invite", "-mail", "-group", "Crew"},
		"v.vane",
		"not sent: there is no mail address",
	)
	box.Close()
	w.wants(0, []string{"factor", "invite", "-mail", "m.wade"}, "not sent: reaching the mail server")
	w.wants(
		0,
		[]string{"audit", "list"},
		"invited m.wade to set up a second factor by mail, 1 of 1 sent",
	)
	w.ask(func(q *trial.Request) { q.User, q.Password, q.Code = "m.wade", wadePassword, "000000" })
	w.cameTo("factor.code-wrong")
	w.wants(0, []string{"factor", "report"}, "Pages for people: http://127.0.0.1", "served without TLS",
		"Mail: invitations can be sent", "Wired asks for a code or an approval: people without are refused",
		"np-switch-1, lane Wired: codes 0", "It has to wait 15 seconds")
	page := filepath.Join(t.TempDir(), "report.html")
	w.wants(0, []string{"factor", "report", page}, "The report is in")
	file, err := os.ReadFile(page)
	for _, want := range []string{"<td>np-switch-1, lane Wired</td>", "<td>Crew</td>"} {
		if err != nil || !strings.Contains(string(file), want) || strings.Contains(string(file), "<script") {
			t.Errorf("the file is %s, %v", file, err)
		}
	}
	w.app.Stop()
	w.mail = ""
	w.boot()
	w.wants(1, []string{"factor", "invite", "-mail", "m.wade"}, "sends no mail", "-mail smtp://")
}
