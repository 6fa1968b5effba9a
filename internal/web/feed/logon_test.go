package feed

import (
	"encoding/json"
	"testing"

	core "tollgate.example/key/internal/core/presence"
)

func TestLogons(t *testing.T) {
	for text, want := range map[string]string{
		`{"eventId":4624,"logonType":3,"account":"k.oake","domain":"LANTERN","address":"192.0.2.1"}`: `signed-in LANTERN\k.oake`,
		`{"eventId":4624,"logonType":10,"account":"k.oake@lantern.example","domain":"-","address":"::ffff:192.0.2.1"}`: "signed-in " +
			"k.oake@lantern.example",
		`{"eventId":4768,"account":"k.oake","address":"::ffff:192.0.2.1"}`:                       "signed-in k.oake",
		`{"eventId":4634,"account":"k.oake","logonId":"0x7"}`:                                    "signed-out k.oake",
		`{"eventId":4624,"logonType":5,"account":"k.oake","address":"192.0.2.1"}`:                "",
		`{"eventId":4624,"logonType":3,"account":"HERON$","address":"192.0.2.1"}`:                "",
		`{"eventId":4624,"logonType":3,"account":"ANONYMOUS LOGON","address":"192.0.2.1"}`:       "",
		`{"eventId":4624,"logonType":3,"account":"k.oake","address":"-"}`:                        "",
		`{"eventId":4624,"logonType":2,"account":"k.oake","address":"127.0.0.1"}`:                "",
		`{"eventId":4625,"logonType":3,"account":"k.oake","address":"192.0.2.1"}`:                "",
		`{"eventId":4624,"logonType":3,"account":"k.oake","address":"quay"}`:                     "error",
		`{"eventId":4624,"logonType":3,"account":"k.oake","address":"192.0.2.1","time":"today"}`: "error",
	} {
		var l logon
		if err := json.Unmarshal([]byte(text), &l); err != nil {
			t.Fatal(err)
		}
		r, about, err := l.report()
		got := ""
		switch {
		case err != nil:
			got = "error"
		case about:
			got = string(r.Kind) + " " + r.Who
		}
		if got != want {
			t.Errorf("%s is %q", text, got)
		}
	}
}

func FuzzEvents(f *testing.F) {
	f.Add(
		[]byte(`<Events><Event><System><EventID>4624</EventID></System><EventData><Data Name="LogonType">3</Data>` +
			`</EventData></Event></Events>`),
	)
	f.Fuzz(func(t *testing.T, body []byte) {
		list, err := parseEvents(body)
		if err != nil {
			return
		}
		for i := range list {
			if r, about, err := list[i].report(); err == nil && about && r.Kind == core.SignedIn && r.Who == "" {
				t.Error("nobody signed in")
			}
		}
	})
}
