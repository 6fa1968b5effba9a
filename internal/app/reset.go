package app

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"syscall"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/store"
)

// ResetOwner makes somebody an owner with a new password, which it returns, in the data directory of a service that is
// stopped: for whoever has lost the way in. It takes the rights of the service over its files, and is recorded in the
// audit.
func ResetOwner(ctx context.Context, dir, name string) (clear string, err error) {
	info, err := os.Stat(filepath.Join(dir, "tollgate.db"))
	if err != nil {
		return "", fmt.Errorf("%s is no data directory of a service: %w", dir, err)
	}
	if of, ok := info.Sys().(*syscall.Stat_t); ok && int(of.Uid) != os.Geteuid() {
		owner := fmt.Sprint(of.Uid)
		if u, err := user.LookupId(owner); err == nil {
			owner = u.Username
		}
		return "", fmt.Errorf("the files in %s belong to %s: run this as that user", dir, owner)
	}
	unlock, err := lock(filepath.Join(dir, "lock"))
	if err != nil {
		return "", fmt.Errorf("the data directory %s is in use by tollgated: stop that first", dir)
	}
	defer unlock()
	s, err := store.Open(ctx, dir)
	if err != nil {
		return "", err
	}
	defer s.Close()
	box, err := seal.Open(filepath.Join(dir, "key"))
	if err != nil {
		return "", err
	}
	trail, err := audit.Open(ctx, s, box, audit.Options{})
	if err != nil {
		return "", err
	}
	by := "the host"
	if u, err := user.Current(); err == nil {
		by = u.Username + " on the host"
	}
	text := rand.Text()
	clear = text[:5] + "-" + text[5:10] + "-" + text[10:15] + "-" + text[15:20]
	noted, _ := trail.Begin(ctx, audit.Line{Actor: audit.Actor{How: "host"}, Call: "reset-owner", Kind: "operator",
		Name: name, What: fmt.Sprintf("made %s an owner with a new password, by %s", name, by),
		Result: audit.Done}, true)
	ids := ident.NewSource(0)
	if highest, err := s.Highest(ctx); err == nil {
		ids.Above(highest)
	}
	if err := operator.ResetOwner(noted, s, ids.New(time.Now()).String(), name, clear); err != nil {
		return "", fmt.Errorf("making %s an owner: %w", name, err)
	}
	os.Remove(filepath.Join(dir, "setup-code"))
	return clear, nil
}
