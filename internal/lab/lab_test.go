package lab

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/go-ldap/ldap/v3"
)

func TestPeopleAreInventedAndTheSameEachTime(t *testing.T) {
	people, again := People(), People()
	if len(people) != 60 {
		t.Errorf("%d people", len(people))
	}
	users, states := map[string]bool{}, map[Condition]int{}
	for i, p := range people {
		if p.User != again[i].User || users[p.User] || p.Last == "" {
			t.Errorf("%d is %+v", i, p)
		}
		users[p.User] = true
		states[p.Condition]++
	}
	for _, c := range []Condition{Disabled, Expired, Locked, MustChange, PasswordExpired} {
		if states[c] == 0 {
			t.Errorf("nobody is %s", c)
		}
	}
	if !users[PlayerUser] {
		t.Error("the person of the demo does not exist")
	}
}

func TestFilters(t *testing.T) {
	d := NewDirectory(nil)
	for filter, want := range map[string]int{
		"(objectClass=user)": 68, "(objectClass=computer)": 7, "(sAMAccountName=S.LODGE)": 1,
		"(&(objectClass=user)(cn=*lodge*))": 1, "(|(sAMAccountName=s.lodge)(sAMAccountName=t.marchetti))": 2,
		"(cn=Sunniva*)": 1, "(cn=*Lodge)": 1,
		"(!(objectClass=*))": 0, "(mail=*)": 61, "(member:1.2.840.113556.1.4.1941:=CN=Sunniva Lodge,OU=North " +
			"Pier,OU=People,DC=lanternferries,DC=example)": 4, "(cn=nobody)": 0, "(memberOf>=x)": 0,
	} {
		f, err := ldap.CompileFilter(filter)
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for _, e := range d.entries {
			if d.fits(f, e) {
				n++
			}
		}
		if n != want {
			t.Errorf("%s fits %d, wanted %d", filter, n, want)
		}
	}
	for _, name := range []string{"s.lodge@lanternferries.example", `lantern\S.Lodge`,
		"cn=sunniva lodge,ou=north pier,ou=people,dc=lanternferries,dc=example"} {
		if d.named(name) == nil {
			t.Errorf("%s is not found", name)
		}
	}
	if d.named("s.lodge") != nil || d.named(`OTHER\s.lodge`) != nil {
		t.Error("a name without its domain is found")
	}
}

func TestCleanTouchesNothingElse(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "demo")
	if err := clean(dir); err != nil {
		t.Fatal(err)
	}
	os.WriteFile(filepath.Join(dir, "old"), nil, 0o600)
	if err := clean(dir); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(dir, "old")); !os.IsNotExist(err) {
		t.Error("the last demo's things are still there")
	}
	other := t.TempDir()
	os.WriteFile(filepath.Join(other, "thesis"), nil, 0o600)
	if err := clean(other); err == nil {
		t.Error("a directory that is not the demo's is emptied")
	}
	if _, err := os.Stat(filepath.Join(other, "thesis")); err != nil {
		t.Error("something was removed")
	}
}
