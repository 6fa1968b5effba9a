package fleet

import (
	"errors"
	"fmt"
	"maps"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/sheet"
)

func maker() Maker {
	n := 0
	return Maker{
		Running:  &config.Config{},
		ID:       func() string { n++; return fmt.Sprintf("c%d", n) },
		Generate: func() string { n++; return fmt.Sprint("s", n) },
		Seal:     func(p config.Place, clear string) config.Secret { return config.Secret(p.Object + ":" + clear) },
		Holds: func(p config.Place, s config.Secret, typed string) bool {
			return s == config.Secret(p.Object+":"+typed)
		},
		KeepUntil: time.Now().Add(time.Hour),
	}
}

func TestImportAndExportAreTheSame(t *testing.T) {
	c, m := &config.Config{}, maker()
	report, made, err := Import(
		c,
		"name;addresses;tags;note;secret\nsw-1;192.0.2.1 2001:db8::1;site=pier;=cmd;typed\nsw-2;192.0.2.2;;;\n",
		m,
	)
	if err != nil || report.Added != 2 || report.Wrong != 0 || len(made) != 1 || made[0].Client.Name != "sw-2" {
		t.Fatalf("%+v, %v, %v", report, made, err)
	}
	if one := c.Clients[0]; one.Secret != config.Secret(one.ID+":typed") || one.Note != "=cmd" ||
		!maps.Equal(one.Tags, map[string]string{"site": "pier"}) || len(one.Addresses) != 2 {
		t.Errorf("read %+v", one)
	}
	text := string(Export(c.Clients))
	if strings.Contains(text, "typed") || !strings.Contains(text, "'=cmd") {
		t.Errorf("written as\n%s", text)
	}
	report, made, err = Import(c, text, m)
	if err != nil || report.Same != 2 || len(made) != 0 {
		t.Errorf("read again: %+v, %v, %v", report, made, err)
	}
	m.Running = &config.Config{Clients: []*config.Client{c.Clients[0]}}
	if report, _, err = Import(c, "name,secret\nsw-1,typed\n", m); err != nil || report.Same != 1 {
		t.Errorf("the same secret changes a client: %+v, %v", report, err)
	}
	for _, typed := range []string{"second", "third"} { // the device has neither yet
		_, _, err = Import(c, "name,secret\nsw-1,"+typed+"\n", m)
		if one := c.Clients[0]; err != nil || one.Secret != config.Secret(one.ID+":"+typed) ||
			one.Previous != config.Secret(one.ID+":typed") || !one.PreviousUntil.Equal(m.KeepUntil) {
			t.Errorf("the secret of the device is not kept for a while: %+v, %v", one, err)
		}
	}
	report, _, err = Import(c, "name,enabled,message_authenticator\nSW-1,no,auto\n", m)
	if one := c.Clients[0]; err != nil || report.Changed != 1 || one.Enabled ||
		one.MessageAuthenticator != config.Auto ||
		one.Note != "=cmd" ||
		len(c.Clients) != 2 {
		t.Errorf("columns that are left out are not kept: %+v, %+v, %v", report, one, err)
	}
}

func TestWrongLinesOfClients(t *testing.T) {
	c, m := &config.Config{}, maker()
	if _, _, err := Import(c, "name,addresses\nsw-1,192.0.2.1\n", m); err != nil {
		t.Fatal(err)
	}
	report, _, err := Import(c, strings.Join([]string{"name,addresses,tags,enabled,message_authenticator",
		"sw-2,192.0.2.1,,,", "sw-3,nowhere,,,", "sw-4,,,,", "sw-5,192.0.2.5,site,,", "sw-6,192.0.2.6,,maybe,",
		"sw-7,192.0.2.7,,,never", ",192.0.2.8,,,", "sw-9,192.0.2.9,,,", "sw-9,192.0.2.10,,,", "sw-10,192.0.2.9,,,",
		"sw-11,192.0.2.11,name=x,,"}, "\n"), m)
	if err != nil || report.Wrong != 10 || report.Added != 1 {
		t.Errorf("%+v, %v", report, err)
	}
	for i, want := range []string{"addresses", "addresses[0]", "addresses", "tags", "enabled", "messageAuthenticator",
		"name",
		"", "name", "addresses", "tags"} {
		if report.Lines[i].Field != want {
			t.Errorf("line %d: field %q, not %q: %s", i+2, report.Lines[i].Field, want, report.Lines[i].Message)
		}
	}
	for _, text := range []string{"", "addresses\n1", "name,colour\na,b"} {
		var fault *sheet.Fault
		if _, _, err := Import(c, text, maker()); !errors.As(err, &fault) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestManyAreChangedAtOnce(t *testing.T) {
	c, m := &config.Config{}, maker()
	const text = "name,addresses,tags\na,192.0.2.1,kind=switch;old=1\nb,192.0.2.2,\nc,192.0.2.3,\n"
	if _, _, err := Import(c, text, m); err != nil {
		t.Fatal(err)
	}
	before := c.Copy()
	until, off := time.Now().Add(time.Hour), false
	made, err := Apply(
		c,
		[]int{0, 2},
		Change{Tags: map[string]string{"site": "pier"}, Untag: []string{"OLD"}, Enabled: &off,
			MessageAuthenticator: "auto", Rotate: true, KeepUntil: until},
		m,
	)
	if err != nil || len(made) != 2 || string(Secrets(made)) == "" {
		t.Fatalf("%v, %v", made, err)
	}
	a := c.Clients[0]
	if !maps.Equal(a.Tags, map[string]string{"kind": "switch", "site": "pier"}) || a.Enabled ||
		a.Previous != before.Clients[0].Secret || !a.PreviousUntil.Equal(until) || a.Secret == a.Previous {
		t.Errorf("changed to %+v", a)
	}
	if before.Clients[0].Tags["old"] != "1" || c.Clients[1].Tags["site"] != "" {
		t.Error("a change reached another client, or the draft before")
	}
	if _, err := Apply(c, []int{1}, Change{Tags: map[string]string{"name": "x"}}, m); err == nil ||
		!strings.Contains(err.Error(), "b: ") {
		t.Errorf("a wrong tag: %v", err)
	}
}
