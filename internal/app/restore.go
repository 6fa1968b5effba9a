package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"tollgate.example/key/internal/manage/backup"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/sqlite"
)

// backupOf is what a backup of this service is made of. The configuration comes last: the records refer to it.
func (a *App) backupOf(o *Options) *backup.Source {
	return &backup.Source{
		Dir:     o.Data,
		Version: Version,
		Files: []*sqlite.File{a.Attempts.File(), a.Journal.File(), a.sightings.File(),
			a.Sessions.File().File(), a.Sessions.Records().File(), a.store.File()},
	}
}

// Restore restores a backup into an empty data directory, and says what is there then.
func Restore(ctx context.Context, dir, path, passphrase, keyFile string) (string, error) {
	in, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer in.Close()
	m, err := backup.Restore(ctx, in, passphrase, dir, keyFile)
	if err != nil {
		return "", err
	}
	s, err := store.Open(ctx, dir)
	if err != nil {
		return "", err
	}
	if err := errors.Join(s.Alone(ctx), s.Close()); err != nil {
		return "", fmt.Errorf("making what was restored a node of its own: %w", err)
	}
	var out strings.Builder
	fmt.Fprintf(&out, "Restored into %s: revision %s, %s attempts, %s entries of the journal,\n", dir,
		m.Facts["revision"],
		m.Facts["attempts"], m.Facts["journal"])
	fmt.Fprintf(&out, "as they were %s. Start the service with: tollgated -data %s\n",
		m.MadeAt.Local().Format("2006-01-02 15:04:05"), dir)
	return out.String(), nil
}
