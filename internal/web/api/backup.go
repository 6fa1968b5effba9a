package api

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/base/archive"
	"tollgate.example/key/internal/manage/backup"
	"tollgate.example/key/internal/web/apitype"
)

// backups registers the backup of everything while the service runs.
func (s *server) backups() {
	huma.Register(s.api, operation("POST", "/backup", "make-backup",
		"A backup of everything, as one encrypted file: configuration, records, and the key file"),
		func(ctx context.Context, in *struct{ Body apitype.BackupInput }) (*huma.StreamResponse, error) {
			if len([]rune(in.Body.Passphrase)) < archive.MinPassphrase {
				text := fmt.Sprintf("it needs at least %d characters", archive.MinPassphrase)
				return nil, problem(http.StatusUnprocessableEntity, "The passphrase is too short.",
					"Choose a longer one. Without it nobody can open the backup.", apitype.Fault{Field: "passphrase",
						Message: text})
			}
			_, number := s.Revisions.Running()
			o := backup.Options{Passphrase: in.Body.Passphrase, WithoutKey: in.Body.WithoutKey, By: who(ctx).Name,
				Facts: map[string]string{"revision": strconv.Itoa(number),
					"attempts": strconv.FormatInt(s.Attempts.Len(), 10),
					"journal":  strconv.FormatInt(s.Journal.Len(), 10)}}
			return &huma.StreamResponse{Body: func(out huma.Context) {
				out.SetHeader("Content-Type", "application/octet-stream")
				out.SetHeader("Content-Disposition", `attachment; filename="tollgate-`+
					time.Now().UTC().Format("20060102-150405")+`.backup"`)
				begun := &began{to: out}
				if err := s.Backup.Make(out.Context(), begun, o); err != nil {
					s.backupFailed(out, begun.yes, err)
				}
			}}, nil
		})
}

// began notes whether something of an answer was written.
type began struct {
	to  huma.Context
	yes bool
}

func (b *began) Write(p []byte) (int, error) {
	b.yes = true
	return b.to.BodyWriter().Write(p)
}

// backupFailed says why there is no backup; once it has begun, by cutting it short, so that it is refused.
func (s *server) backupFailed(out huma.Context, begun bool, err error) {
	slog.Error("making a backup", "error", err)
	if begun {
		panic(http.ErrAbortHandler)
	}
	status, text := http.StatusInternalServerError, "The backup could not be made: "+err.Error()
	if errors.Is(err, backup.ErrRunning) {
		status, text = http.StatusConflict, "Another backup is being made. Wait until it has ended."
	}
	_ = huma.WriteErr(s.api, out, status, text)
}
