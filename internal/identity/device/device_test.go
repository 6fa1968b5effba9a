package device

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/store"
)

func keeper(t testing.TB) (*Keeper, *store.Store) {
	t.Helper()
	s, err := store.Open(context.Background(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	k, err := Open(context.Background(), s)
	if err != nil {
		t.Fatal(err)
	}
	return k, s
}

func TestMatch(t *testing.T) {
	for text, want := range map[string]string{
		"02:00:5e:10:7a:31": "02-00-5E-10-7A-31", " 0200.5e10.7a31 ": "02-00-5E-10-7A-31", "02:00:5e": "02-00-5E-*",
		"02-00-5E-*": "02-00-5E-*", "02005e10*": "02-00-5E-10-*",
		"": "", "*": "", "02005": "", "printer": "", "02-00-5E-10-7A-31-00": "",
	} {
		if got, err := Match(text); got != want || (err == nil) != (want != "") {
			t.Errorf("%q gives %q, %v", text, got, err)
		}
	}
}

func TestTheLongestMatchWins(t *testing.T) {
	k, s := keeper(t)
	ctx, now := context.Background(), time.Now()
	for i, d := range []Device{{Match: "02-00-5E-*", Name: "any"}, {Match: "02:00:5e:10:*", Name: "printers"},
		{Match: "02-00-5E-10-7A-31", Name: "copier", Owner: "Kaia Nance", Tags: map[string]string{"Kind": "printer"}}} {
		d.ID, d.Enabled = fmt.Sprint(i), true
		if _, err := k.Save(ctx, d); err != nil {
			t.Fatal(err)
		}
	}
	check := func(k *Keeper) {
		t.Helper()
		for mac, want := range map[string]string{"02-00-5E-10-7A-31": "copier", "02-00-5E-10-7A-32": "printers",
			"02-00-5E-11-00-00": "any", "02-00-5F-11-00-00": "", "x": "", "": ""} {
			got := ""
			if d := k.Find(mac); d != nil {
				got = d.Name
			}
			if got != want {
				t.Errorf("%s is %q, wanted %q", mac, got, want)
			}
		}
	}
	check(k)
	again, err := Open(ctx, s)
	if err != nil {
		t.Fatal(err)
	}
	check(again)
	if f := again.Find("02-00-5E-10-7A-31").Facts(now); f.Tags["kind"] != "printer" || f.State != reason.OK ||
		Person(f, "02-00-5E-10-7A-31").Attributes["owner"][0] != "Kaia Nance" {
		t.Errorf("facts %+v", f)
	}
	d := *k.Get("2")
	d.Match = "02-00-5E-10-7A-40"
	if _, err := k.Save(ctx, d); err != nil || k.Find("02-00-5E-10-7A-31").Name != "printers" ||
		k.Find("02-00-5E-10-7A-40").Name != "copier" {
		t.Errorf("after a change of address: %v", err)
	}
	if err := k.Remove(ctx, "1"); err != nil || k.Find("02-00-5E-10-7A-32").Name != "any" || k.Len() != 2 {
		t.Errorf("after removing the prefix: %v", err)
	}
	if len(k.List("nance")) != 1 || len(k.List("02:00:5e:10:7a:40")) != 1 || len(k.List("kind=printer")) != 1 ||
		len(k.List("")) != 2 {
		t.Error("the list does not find devices")
	}
}

func TestStates(t *testing.T) {
	now := time.Now()
	for want, d := range map[reason.Code]Device{reason.OK: {Enabled: true, Expires: now.Add(time.Hour)},
		reason.DeviceExpired: {Enabled: true, Expires: now}, reason.DeviceDisabled: {}} {
		if got := d.Facts(now).State; got != want {
			t.Errorf("%+v is %s", d, got)
		}
	}
}

func TestWrongFieldsAreNamed(t *testing.T) {
	k, _ := keeper(t)
	ctx := context.Background()
	k.Save(ctx, Device{ID: "1", Match: "02-00-5E-10-7A-31"})
	for field, d := range map[string]Device{"match": {Match: "x"}, "name": {Match: "02:00:5e",
		Name: strings.Repeat("x", 201)}, "tags": {Match: "02:00:5e", Tags: map[string]string{"a b": "c"}}} {
		var wrong *FieldError
		if _, err := k.Save(ctx, d); !errors.As(err, &wrong) || wrong.Field != field {
			t.Errorf("%+v: %v", d, err)
		}
	}
	var wrong *FieldError
	if _, err := k.Save(ctx, Device{ID: "2", Match: "0200.5e10.7a31"}); !errors.As(err, &wrong) ||
		!strings.Contains(err.Error(), "another device") {
		t.Errorf("the address twice: %v", err)
	}
}

func TestImport(t *testing.T) {
	k, _ := keeper(t)
	ctx, n := context.Background(), 0
	newID := func() string { n++; return fmt.Sprint("i", n) }
	k.Save(ctx, Device{ID: "old", Match: "02-00-5E-10-7A-31", Name: "copier", Owner: "Kaia Nance", Enabled: true})
	text := "mac,name,tags,expires\n02:00:5e:10:7a:31,copier,kind=printer;floor=2,\n0200.5e10.7a32,\"label, " +
		"printer\",,2027-03-01\nnonsense,x,,\n02005e107a32,again,,\n" +
		"02-00-5E-10-7A-33,x,broken,\n02-00-5E-10-7A-34,x,,soon\n"
	run := func(check, partial bool) results.Import {
		t.Helper()
		report, err := k.Import(ctx, text, check, partial, "o.brandt", newID, time.Now())
		if err != nil {
			t.Fatal(err)
		}
		return report
	}
	r := run(false, false)
	if r.Done || r.Added != 1 || r.Changed != 1 || r.Wrong != 4 || k.Len() != 1 {
		t.Errorf("%+v with %d devices", r, k.Len())
	}
	if got := fmt.Sprint(r.Lines[2].Number, "|", r.Lines[2].Field, "|", r.Lines[3].Message, "|", r.Lines[4].Field, "|",
		r.Lines[5].Field); got != "4|match|is on line 3 already|tags|expires" {
		t.Errorf("the report says %s", got)
	}
	if r = run(true, true); r.Done || k.Len() != 1 {
		t.Error("a check stores something")
	}
	if r = run(false, true); !r.Done || k.Len() != 2 {
		t.Errorf("the good lines: %+v", r)
	}
	if d := k.Find("02-00-5E-10-7A-31"); d.Owner != "Kaia Nance" || d.Tags["floor"] != "2" || d.ID != "old" {
		t.Errorf("the device that was there is now %+v", d)
	}
	if d := k.Find("02-00-5E-10-7A-32"); d.Name != "label, printer" ||
		d.Expires.Format(time.DateOnly) != "2027-03-02" || d.ChangedBy != "o.brandt" {
		t.Errorf("the new device is %+v", d)
	}
	if r = run(false, true); r.Same != 2 {
		t.Errorf("the same again: %+v", r)
	}
	text = "mac;name\n02-00-5E-10-7A-40;by semicolon\n"
	if r = run(false, false); !r.Done || k.Find("02-00-5E-10-7A-40").Name != "by semicolon" {
		t.Errorf("%+v", r)
	}
	for _, wrong := range []string{"", "name\nx", "mac,colour\n", "02-00-5E-10-7A-31,copier\n"} {
		if _, err := k.Import(ctx, wrong, false, false, "", newID, time.Now()); err == nil {
			t.Errorf("%q is taken for a file of devices", wrong)
		}
	}
}

func TestStrangers(t *testing.T) {
	k, _ := keeper(t)
	now := time.Now()
	k.Refused("02-00-5E-10-7A-31", "np-switch-1", "port 7", now)
	k.Refused("02-00-5E-10-7A-32", "np-switch-1", "port 8", now.Add(time.Second))
	k.Refused("02-00-5E-10-7A-31", "np-switch-1", "port 9", now.Add(2*time.Second))
	list := k.Strangers()
	if len(list) != 2 || list[0].MAC != "02-00-5E-10-7A-31" || list[0].Count != 2 || list[0].Place != "port 9" ||
		!list[0].First.Equal(now) {
		t.Errorf("%+v", list)
	}
	k.Save(context.Background(), Device{ID: "1", Match: "02-00-5E-10-7A-31"})
	if list := k.Strangers(); len(list) != 1 {
		t.Errorf("after adding one: %+v", list)
	}
	for i := range maxStrangers + 10 {
		k.Refused(fmt.Sprintf("02-00-5E-20-%02X-%02X", i>>8, i&255), "x", "", now.Add(time.Duration(i)*time.Second))
	}
	if n := len(k.Strangers()); n != maxStrangers {
		t.Errorf("%d are remembered", n)
	}
}

func FuzzImport(f *testing.F) {
	k, _ := keeper(f)
	f.Add("mac,name,tags\n02:00:5e:10:7a:31,\"x\",a=b\n")
	f.Add("mac,name,tags\n02\"00:5e:10:7a:31,\"x\",a=b\n") // a quote in the first field ended the import with a panic
	f.Fuzz(func(t *testing.T, text string) {
		k.Import(context.Background(), text, true, false, "", func() string { return "x" }, time.Now())
	})
}
