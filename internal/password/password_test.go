package password

import (
	"strings"
	"testing"
)

func TestHashAndCheck(t *testing.T) {
	hash, err := Hash("lighthouse-2026")
	if err != nil || !strings.HasPrefix(hash, "$argon2id$v=19$m=32768,t=3,p=1$") {
		t.Fatalf("%q, %v", hash, err)
	}
	for clear, want := range map[string]bool{"lighthouse-2026": true, "lighthouse-2027": false, "": false, strings.Repeat("x", MaxLength+1): false} {
		if ok, err := Check(hash, clear); err != nil || ok != want {
			t.Errorf("%.20q: %v, %v", clear, ok, err)
		}
	}
	for _, bad := range []string{"", "plain", "$argon2id$v=19$m=99999999,t=3,p=1$AAAA$AAAA", "$argon2id$v=19$m=32768,t=0,p=1$AAAA$AAAA", "$argon2id$v=18$m=32768,t=3,p=1$AAAA$AAAA", "$argon2id$v=19$m=32768,t=3,p=1$!$AAAA", "$argon2id$v=19$m=32768,t=3,p=1$AAAA$"} {
		if ok, err := Check(bad, "x"); ok || err == nil {
			t.Errorf("%q: %v, %v", bad, ok, err)
		}
	}
	if _, err := Hash(""); err == nil {
		t.Error("an empty password is hashed")
	}
}
