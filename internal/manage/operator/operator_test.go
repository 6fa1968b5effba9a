package operator

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/store"
)

func open(t *testing.T) (*Registry, *store.Store, string) {
	t.Helper()
	dir := t.TempDir()
	s, err := store.Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	b, err := Open(context.Background(), s, seal.New(make([]byte, 32)), ident.NewSource(0), dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	return b, s, dir
}

// signIn signs in, and returns what is to be shown.
func signIn(b *Registry, from, name, clear, token string) (string, error) {
	signed, err := b.SignIn(context.Background(), Attempt{From: from, Name: name, Password: clear, TokenName: token})
	return signed.Bearer, err
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
	again, err := Open(ctx, s, seal.New(make([]byte, 32)), ident.NewSource(0), dir, nil)
	if err != nil || again.SetupCode() != "" {
		t.Errorf("after a restart the code is %q, %v", again.SetupCode(), err)
	}
}

func TestSetupCodeCannotBeGuessedQuickly(t *testing.T) {
	b, _, _ := open(t)
	for range signInBurst {
		b.SetUp(context.Background(), "192.0.2.1", "AAAA-AAAA-AAAA", "x", "long-enough-one")
	}
	if err := b.SetUp(context.Background(), "192.0.2.1", b.SetupCode(), "x", "long-enough-one"); !errors.Is(err,
		ErrTooMany) {
		t.Errorf("after a burst of guesses: %v", err)
	}
}

func TestSessionsAndTokens(t *testing.T) {
	b, s, _ := open(t)
	ctx := context.Background()
	if err := b.SetUp(ctx, "127.0.0.1", b.SetupCode(), "o.brandt", "long-enough-one"); err != nil {
		t.Fatal(err)
	}
	session, err := signIn(b, "127.0.0.1", "O.Brandt", "long-enough-one", "")
	if err != nil {
		t.Fatal(err)
	}
	token, err := signIn(b, "127.0.0.1", "o.brandt", "long-enough-one", "laptop")
	if err != nil || token == session {
		t.Fatal(err)
	}
	for bearer, kind := range map[string]string{session: "session", token: "token"} {
		who, err := b.Verify(ctx, bearer, "127.0.0.1")
		if err != nil || who.Name != "o.brandt" || who.Kind != kind {
			t.Errorf("%s: %+v, %v", kind, who, err)
		}
	}
	for _, bad := range []string{"", "tk_", token + "x", strings.ToUpper(token)} {
		if _, err := b.Verify(ctx, bad, "127.0.0.1"); !errors.Is(err, ErrWrong) {
			t.Errorf("%q gives %v", bad, err)
		}
	}
	who, _ := b.Verify(ctx, session, "127.0.0.1")
	if err := s.TouchKey(ctx, who.KeyID, time.Now().UnixMilli(), time.Now().Add(-time.Second).UnixMilli()); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Verify(ctx, session, "127.0.0.1"); !errors.Is(err, ErrWrong) {
		t.Errorf("a session that has ended gives %v", err)
	}
	if err := s.RemoveOldKeys(ctx, time.Now().UnixMilli()); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Verify(ctx, token, "127.0.0.1"); err != nil {
		t.Errorf("the token was removed with the old sessions: %v", err)
	}
}

func TestGuessesAreLimitedByTheirSource(t *testing.T) {
	b, _, _ := open(t)
	ctx := context.Background()
	const word = "long-enough-one"
	b.SetUp(ctx, "127.0.0.1", b.SetupCode(), "o.brandt", word)
	now := time.Now()
	b.limits.now = func() time.Time { return now }
	last := error(nil)
	for i := range signInBurst + 1 { // cheap names are as good as one
		_, last = signIn(b, "192.0.2.9", fmt.Sprint("name", i), "wrong", "")
	}
	if !errors.Is(last, ErrTooMany) {
		t.Errorf("guessing many names from one address gives %v", last)
	}
	for i := range signInBurst + 1 { // of one network in which a host may take any address
		_, last = signIn(b, fmt.Sprintf("2001:db8::%d", i), "o.brandt", "wrong", "")
	}
	if !errors.Is(last, ErrTooMany) {
		t.Errorf("guessing from many addresses of one network gives %v", last)
	}
	// However many guess at a name, whoever it belongs to signs in.
	for i := range 20 {
		signIn(b, fmt.Sprintf("198.51.100.%d", i), "o.brandt", "wrong", "")
	}
	for _, from := range []string{"127.0.0.1", "203.0.113.7"} {
		if _, err := signIn(b, from, "o.brandt", word, ""); err != nil {
			t.Errorf("the operator from %s: %v", from, err)
		}
	}
	// What is remembered cannot be flushed by others, unless they are very many, and then only the oldest goes.
	for i := range maxSources - 100 {
		b.limits.take(fmt.Sprint("source", i), "")
	}
	if _, err := signIn(b, "192.0.2.9", "o.brandt", word, ""); !errors.Is(err, ErrTooMany) {
		t.Errorf("after thousands of other sources: %v", err)
	}
	if n := len(b.limits.sources); n > maxSources || n != b.limits.order.Len() {
		t.Errorf("%d sources are remembered", n)
	}
	// Somebody with an account of his own does not get his guesses at others back by signing in.
	for range signInBurst - 1 {
		signIn(b, "203.0.113.9", "o.other", "wrong", "")
	}
	signIn(b, "203.0.113.9", "o.brandt", word, "")
	signIn(b, "203.0.113.9", "o.other", "wrong", "")
	if _, err := signIn(b, "203.0.113.9", "o.other", "wrong", ""); !errors.Is(err, ErrTooMany) {
		t.Errorf("after a success in between: %v", err)
	}
	now = now.Add(signInEvery)
	if _, err := signIn(b, "203.0.113.9", "o.brandt", word, ""); err != nil {
		t.Errorf("after waiting: %v", err)
	}
}

// Guesses at one name from very many places end, without keeping its operator out.
func TestGuessesAreLimitedByTheName(t *testing.T) {
	b, _, _ := open(t)
	ctx := context.Background()
	const word = "long-enough-one"
	b.SetUp(ctx, "127.0.0.1", b.SetupCode(), "o.brandt", word)
	now := time.Now()
	b.names.now = func() time.Time { return now }
	try := func(from, name, clear, code, kept string) (Signed, error) {
		return b.SignIn(ctx, Attempt{From: from, Name: name, Password: clear, Code: code, Browser: kept})
	}
	home, err := try("192.0.2.9", "o.brandt", word, "", "")
	if err != nil || home.Browser == "" {
		t.Fatalf("%+v, %v", home, err)
	}
	place := 0
	guess := func(name string) (last error) {
		for range nameBurst - 3 { // as the ones below do, which take their time
			b.names.take(name)
		}
		for range 8 {
			place++
			_, last = try(fmt.Sprintf("198.51.%d.%d", place/250, place%250), name, "wrong", "", "")
		}
		return last
	}
	for _, name := range []string{"O.Brandt ", "o.nobody"} { // it cannot be told which of them there is
		if err := guess(name); !errors.Is(err, ErrGuessed) {
			t.Errorf("after %d guesses at %q: %v", nameBurst, name, err)
		}
	}
	if _, err := try("203.0.113.7", "o.brandt", word, "", ""); !errors.Is(err, ErrGuessed) {
		t.Errorf("the right password from a new place: %v", err)
	}
	// From where they have signed in before, with the browser, and from its address though it is at its limit.
	if _, err := try("127.0.0.1", "o.brandt", word, "", ""); err != nil {
		t.Errorf("from the address of the set-up: %v", err)
	}
	for range signInBurst + 1 {
		try("203.0.113.8", "o.other", "wrong", "", "")
	}
	again, err := try("203.0.113.8", "o.brandt", word, "", home.Browser)
	if err != nil || again.Browser != "" {
		t.Errorf("with the browser: %+v, %v", again, err)
	}
	// What a browser keeps has a limit of its own, is of its operators alone, and cannot be made.
	for range signInBurst {
		try("203.0.113.9", "o.brandt", "wrong", "", home.Browser)
	}
	if _, err = try("203.0.113.9", "o.brandt", word, "", home.Browser); !errors.Is(err, ErrTooMany) {
		t.Errorf("guessing with a known browser: %v", err)
	}
	other, _, _ := open(t)
	other.box = seal.New([]byte("another key of thirty-two octets"))
	foreign := other.keep(nil, "o.brandt", time.Now())
	for i, kept := range []string{"", "x", foreign, strings.Repeat("A", 5000), home.Browser[:40],
		b.keep(nil, "o.quint", time.Now()), b.keep(nil, "o.brandt", time.Now().AddDate(-2, 0, 0))} {
		if _, err := try(fmt.Sprintf("203.0.113.%d", 20+i), "o.brandt", word, "", kept); !errors.Is(err, ErrGuessed) {
			t.Errorf("with %.20q: %v", kept, err)
		}
	}
	// A code of the second factor opens the way from anywhere; a wrong one does not, and locks nothing.
	offer, err := b.BeginFactor(ctx, &Who{Name: "o.brandt"})
	if err != nil {
		t.Fatal(err)
	}
	code := func(at time.Time) string {
		text, err := factor.Code(offer.Seed, at)
		if err != nil {
			t.Fatal(err)
		}
		return text
	}
	recovery, err := b.factors.Confirm(ctx, offer.Token.ID, code(time.Now().Add(-30*time.Second)), time.Now())
	if err != nil {
		t.Fatal(err)
	}
	for range 30 {
		if _, err := try("203.0.113.40", "o.brandt", word, "000000x", ""); !errors.Is(err, ErrGuessed) &&
			!errors.Is(err, ErrTooMany) {
			t.Fatalf("with a wrong code: %v", err)
		}
	}
	if _, err := try("203.0.113.41", "o.brandt", "wrong", recovery[0], ""); !errors.Is(err, ErrWrong) {
		t.Errorf("with a code and a wrong password: %v", err)
	}
	for i, c := range []string{code(time.Now()), recovery[0]} {
		if _, err := try(fmt.Sprintf("203.0.113.%d", 50+i), "o.brandt", word, c, ""); err != nil {
			t.Errorf("with code %d: %v", i, err)
		}
	}
	// Another name is not concerned, and the guesses are forgotten one by one.
	if _, err := try("203.0.113.60", "o.quint", "wrong", "", ""); !errors.Is(err, ErrWrong) {
		t.Errorf("another name: %v", err)
	}
	now = now.Add(10 * nameEvery)
	if _, err := try("203.0.113.61", "o.nobody", "wrong", "", ""); !errors.Is(err, ErrWrong) {
		t.Errorf("after ten minutes: %v", err)
	}
	now = now.Add(-5 * time.Hour) // a clock that was set back gives none
	for range 20 {
		place++
		_, err = try(fmt.Sprintf("198.51.%d.%d", place/250, place%250), "o.nobody", "wrong", "", "")
	}
	if !errors.Is(err, ErrGuessed) {
		t.Errorf("with the clock set back: %v", err)
	}
}
