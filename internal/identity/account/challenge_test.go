package account

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/wire/mschap"
)

// outcomes says how each method does for the account.
func outcomes(k *Keeper, password string) string {
	hash, challenge := mschap.NTHash(password), [8]byte{1, 2}
	_, ms, _ := k.CheckMSCHAP("k.nance", challenge, hash.V1(challenge))
	sum := mschap.CHAP(7, password, challenge[:])
	chap, _ := k.CheckCHAP("k.nance", 7, challenge[:], sum[:])
	pap, _ := k.CheckPassword(context.Background(), "k.nance", password, time.Now())
	return string(pap) + " " + string(ms) + " " + string(chap)
}

func TestWhatIsKeptOfAPassword(t *testing.T) {
	k, s := keeper(t)
	ctx := context.Background()
	save := func(keeps config.Keeps, password string) error {
		_, err := k.Save(ctx, Account{ID: "1", Name: "k.nance", Enabled: true, Keeps: keeps}, password)
		return err
	}
	check := func(want string) {
		t.Helper()
		if got := outcomes(k, "gangway"); got != want {
			t.Errorf("got %s, wanted %s", got, want)
		}
		if got := outcomes(k, "wrong"); strings.Contains(got, "ok") {
			t.Errorf("a wrong password gives %s", got)
		}
	}
	if err := save("", "gangway"); err != nil {
		t.Fatal(err)
	}
	check("ok method.unusable method.unusable")
	var field *FieldError
	if err := save(config.KeepsNTHash, ""); !errors.As(err, &field) || field.Field != "password" {
		t.Errorf("keeping more without the password: %v", err)
	}
	if err := save(config.KeepsPassword, "gangway"); err != nil {
		t.Fatal(err)
	}
	check("ok ok ok")
	if err := save("", ""); err != nil { // an edit of something else
		t.Fatal(err)
	}
	check("ok ok ok")
	if err := save(config.KeepsNTHash, ""); err != nil {
		t.Fatal(err)
	}
	check("ok ok method.unusable")
	rows, _ := s.Accounts(ctx)
	hash := mschap.NTHash("gangway")
	if strings.Contains(rows[0].Proof, "gangway") || strings.Contains(rows[0].Proof, string(hash[:])) ||
		rows[0].Proof == "" {
		t.Errorf("kept as %q", rows[0].Proof)
	}
	if err := save(config.KeepsHash, ""); err != nil {
		t.Fatal(err)
	}
	check("ok method.unusable method.unusable")
	if rows, _ := s.Accounts(ctx); rows[0].Proof != "" {
		t.Error("what is no longer kept stays in the database")
	}
	if err := save("everything", "x"); !errors.As(err, &field) || field.Field != "keeps" {
		t.Errorf("nonsense to keep: %v", err)
	}
	if _, code, _ := k.CheckMSCHAP("nobody", [8]byte{}, [24]byte{}); code != reason.PersonUnknown {
		t.Errorf("nobody: %s", code)
	}
}
