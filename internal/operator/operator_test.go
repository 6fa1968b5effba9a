package operator

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/ident"
	"tollgate.example/key/internal/store"
)

func open(t *testing.T) (*Book, *store.Store, string) {
	t.Helper()
	dir := t.TempDir()
	s, err := store.Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	b, err := Open(context.Background(), s, ident.NewSource(0), dir)
	if err != nil {
		t.Fatal(err)
	}
	return b, s, dir
}

func TestSetupCode(t *testing.T) {
	b, s, dir := open(t)
	ctx := context.Background()
	file := filepath.Join(dir, "setup-code")
	text, err := os.ReadFile(file)
	if err != nil || strings.TrimSpace(string(text)) != b.SetupCode() || len(b.SetupCode()) != 14 {
		t.Fatalf("the file holds %q, %v", text, err)
	}
	if info, _ := os.Stat(file); info.Mode().Perm() != 0o600 {
		t.Errorf("others may read the setup code: %v", info.Mode())
	}
	if err := b.SetUp(ctx, "127.0.0.1", "", "x", "long-enough-one"); !errors.Is(err, ErrCode) {
		t.Errorf("without a code: %v", err)
	}
	if err := b.SetUp(ctx, "127.0.0.1", b.SetupCode(), "o.brandt", "long-enough-one"); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(file); !os.IsNotExist(err) || b.SetupCode() != "" {
		t.Error("the setup code lives on")
	}
	if err := b.SetUp(ctx, "127.0.0.1", "", "y", "long-enough-one"); !errors.Is(err, ErrSetUp) {
		t.Errorf("a second set-up: %v", err)
	}
	again, err := Open(ctx, s, ident.NewSource(0), dir)
	if err != nil || again.SetupCode() != "" {
		t.Errorf("after a restart the code is %q, %v", again.SetupCode(), err)
	}
}

func TestSetupCodeCannotBeGuessedQuickly(t *testing.T) {
	b, _, _ := open(t)
	for range signInBurst {
		b.SetUp(context.Background(), "192.0.2.1", "AAAA-AAAA-AAAA", "x", "long-enough-one")
	}
	if err := b.SetUp(context.Background(), "192.0.2.1", b.SetupCode(), "x", "long-enough-one"); !errors.Is(err, ErrTooMany) {
		t.Errorf("after a burst of guesses: %v", err)
	}
}

func TestSessionsAndTokens(t *testing.T) {
	b, s, _ := open(t)
	ctx := context.Background()
	if err := b.SetUp(ctx, "127.0.0.1", b.SetupCode(), "o.brandt", "long-enough-one"); err != nil {
		t.Fatal(err)
	}
	session, err := b.SignIn(ctx, "127.0.0.1", "O.Brandt", "long-enough-one", "")
	if err != nil {
		t.Fatal(err)
	}
	token, err := b.SignIn(ctx, "127.0.0.1", "o.brandt", "long-enough-one", "laptop")
	if err != nil || token == session {
		t.Fatal(err)
	}
	for bearer, kind := range map[string]string{session: "session", token: "token"} {
		who, err := b.Verify(ctx, bearer)
		if err != nil || who.Name != "o.brandt" || who.Kind != kind {
			t.Errorf("%s: %+v, %v", kind, who, err)
		}
	}
	for _, bad := range []string{"", "tk_", token + "x", strings.ToUpper(token)} {
		if _, err := b.Verify(ctx, bad); !errors.Is(err, ErrWrong) {
			t.Errorf("%q gives %v", bad, err)
		}
	}
	who, _ := b.Verify(ctx, session)
	if err := s.TouchKey(ctx, who.KeyID, time.Now().UnixMilli(), time.Now().Add(-time.Second).UnixMilli()); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Verify(ctx, session); !errors.Is(err, ErrWrong) {
		t.Errorf("a session that has ended gives %v", err)
	}
	if err := s.RemoveOldKeys(ctx, time.Now().UnixMilli()); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Verify(ctx, token); err != nil {
		t.Errorf("the token was removed with the old sessions: %v", err)
	}
}

func TestSignInIsLimitedByNameAndAddress(t *testing.T) {
	b, _, _ := open(t)
	ctx := context.Background()
	b.SetUp(ctx, "127.0.0.1", b.SetupCode(), "o.brandt", "long-enough-one")
	last := error(nil)
	for i := range signInBurst + 1 {
		_, last = b.SignIn(ctx, string(rune('a'+i)), "o.brandt", "wrong", "") // another address each time
	}
	if !errors.Is(last, ErrTooMany) {
		t.Errorf("guessing one name from many addresses gives %v", last)
	}
	for i := range signInBurst + 1 {
		_, last = b.SignIn(ctx, "192.0.2.9", string(rune('a'+i)), "wrong", "")
	}
	if !errors.Is(last, ErrTooMany) {
		t.Errorf("guessing many names from one address gives %v", last)
	}
}
