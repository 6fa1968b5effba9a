package cluster

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"

	"tollgate.example/key/internal/store"
)

func (p *peers) serveSnapshot(w http.ResponseWriter, r *http.Request) {
	dir, err := os.MkdirTemp(p.c.o.Dir, "snapshot-")
	if err == nil {
		defer os.RemoveAll(dir)
		err = p.c.o.Store.Snapshot(r.Context(), dir+"/tollgate.db")
	}
	if err != nil {
		p.c.o.Log.Error("making a copy of the state for another node", "error", err)
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	http.ServeFile(w, r, dir+"/tollgate.db")
}

// snapshot brings the state of another node into a file.
func (p *peers) snapshot(ctx context.Context, n store.Node, path string) error {
	r, err := p.get(ctx, n, "/snapshot")
	if err != nil {
		return err
	}
	return saveSnapshot(r, path)
}

func saveSnapshot(r *http.Response, path string) error {
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(io.LimitReader(r.Body, 300))
		return fmt.Errorf("it answers %s: %s", r.Status, bytes.TrimSpace(text))
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	n, err := io.Copy(f, io.LimitReader(r.Body, maxSnapshot))
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil && n != r.ContentLength {
		err = fmt.Errorf("the copy of its state has %d octets instead of %d", n, r.ContentLength)
	}
	return err
}
