package app

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"database/sql"
	"encoding/base64"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

// before seals as the version before did: without a place.
func before(t *testing.T, key []byte, clear string) string {
	block, err := aes.NewCipher(key)
	if err != nil {
		t.Fatal(err)
	}
	aead, _ := cipher.NewGCM(block)
	nonce := make([]byte, 12)
	nonce[0] = byte(len(clear))
	return "sealed1:" + base64.RawStdEncoding.EncodeToString(aead.Seal(nonce, nonce, []byte(clear), nil))
}

// A data directory of the version before is brought over at the first start, everything in it or nothing, and its
// secrets can be moved nowhere after that.
func TestSecretsOfTheVersionBefore(t *testing.T) {
	dir, key, ctx := t.TempDir(), make([]byte, 32), context.Background()
	os.WriteFile(filepath.Join(dir, "key"), key, 0o600)
	s, err := store.Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	text := `{"clients":[{"id":"c1","name":"np-switch-1","secret":"` + before(t, key, "quay") +
		`","ofOldTimes":{"x":12345678901234567890}}],"directories":[{"id":"d1","name":"LANTERN","bindPassword":"` +
		before(t, key, "rope") + `"}]}`
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(s.Publish(ctx, store.Revision{Number: 1, Config: []byte(text), Changes: []byte("[]")}, nil))
	db, err := sql.Open("sqlite", filepath.Join(dir, "tollgate.db"))
	must(err)
	_, err = db.Exec("INSERT INTO draft VALUES (1, 0, '', ?, '{}')", []byte(text))
	must(errors.Join(err, db.Close()))
	must(s.SaveAccount(ctx, store.Account{ID: "a1", Name: "ann", Groups: []byte("[]"), Hash: "x", Keeps: "password",
		Proof: before(t, key, "gangway")}))
	must(s.SaveMachineAccount(ctx, store.MachineAccount{Domain: "LANTERN", Computer: "TOLLGATE",
		Password: before(t, key, "machine"), Previous: before(t, key, "older")}))
	must(
		s.PeopleFactors().
			AddFactorTokens(ctx, []store.FactorToken{{ID: "f1", Store: "local", Name: "ann", Algorithm: "SHA1",
				Digits: 6, Period: 30, Secrets: before(t, key, "{}")}}, nil),
	)
	for range 2 { // a second start finds nothing to do
		box, err := seal.Open(filepath.Join(dir, "key"))
		must(err)
		must(reseal(ctx, s, box))
	}
	box, err := seal.Open(filepath.Join(dir, "key"))
	if err != nil || box.Old {
		t.Fatalf("%v", err)
	}
	opens := func(purpose, object, sealed, want string) {
		t.Helper()
		if clear, err := box.Open(config.Place{Purpose: purpose, Object: object}, config.Secret(sealed)); err != nil ||
			clear != want {
			t.Errorf("%s of %s: %q, %v", purpose, object, clear, err)
		}
	}
	r, err := s.Revision(ctx, 1)
	must(err)
	d, err := s.WholeDraft(ctx)
	must(err)
	for _, text := range []string{string(r.Config), string(d.Config)} {
		if !strings.Contains(text, `"ofOldTimes":{"x":12345678901234567890}`) || strings.Contains(text, "sealed1:") {
			t.Errorf("the configuration became %s", text)
		}
		opens("radius", "c1", between(text, `"secret":"`), "quay")
		opens("bind", "d1", between(text, `"bindPassword":"`), "rope")
	}
	accounts, err := s.Accounts(ctx)
	must(err)
	opens("account", "a1", accounts[0].Proof, "gangway")
	machines, err := s.MachineAccounts(ctx)
	must(err)
	opens("machine", `LANTERN\TOLLGATE`, machines[0].Password, "machine")
	opens("machine", `LANTERN\TOLLGATE`, machines[0].Previous, "older")
	factors, err := s.PeopleFactors().FactorTokens(ctx)
	must(err)
	opens("factor", "f1", factors[0].Secrets, "{}")
	must(s.Close())
}

func between(text, before string) string {
	_, rest, _ := strings.Cut(text, before)
	value, _, _ := strings.Cut(rest, `"`)
	return value
}
