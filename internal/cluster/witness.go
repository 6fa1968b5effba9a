package cluster

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"tollgate.example/key/internal/base/seal"
)

// witnessState is what a witness keeps beside its certificate and its engine.
type witnessState struct {
	Address string `json:"address"`
}

func witnessFile(dir string) string { return filepath.Join(dir, "witness.json") }

func saveWitness(dir, address string) error {
	text, err := json.Marshal(witnessState{address})
	if err != nil {
		return err
	}
	return seal.WriteFile(witnessFile(dir), text)
}

// IsWitness tells whether a data directory is that of a witness.
func IsWitness(dir string) bool {
	_, err := os.Stat(witnessFile(dir))
	return err == nil
}

// Witness runs the engine of a witness until the context ends: it counts for the majority, and can read nothing of what
// it keeps, since entries are sealed with a key that it does not have.
func Witness(ctx context.Context, dir, version string, command []string, log *slog.Logger) error {
	text, err := os.ReadFile(witnessFile(dir))
	if err != nil {
		return fmt.Errorf("this is no directory of a witness: %w", err)
	}
	var state witnessState
	if err := json.Unmarshal(text, &state); err != nil {
		return fmt.Errorf("reading %s: %w", witnessFile(dir), err)
	}
	id, err := loadIdentity(dir)
	if err != nil {
		return err
	}
	c := &Cluster{o: Options{Dir: dir, Version: version, Command: command, Log: log}}
	r := &running{identity: id}
	defer r.close()
	if err := c.startEngine(r, false); err != nil {
		return err
	}
	config, err := id.tls(func(string) bool { return true }) // there is nothing to hide
	if err != nil {
		return err
	}
	l, err := listen(state.Address, config)
	if err != nil {
		return err
	}
	server := &http.Server{
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    16 << 10,
		ErrorLog:          discardLog,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
			if q.URL.Path != "/status" || len(q.TLS.PeerCertificates) == 0 {
				http.NotFound(w, q)
				return
			}
			writeJSON(w, c.own(r))
		}),
	}
	go server.Serve(l)
	defer server.Close()
	log.Info("this is a witness: it counts for the majority of the nodes, and does nothing else", "address",
		state.Address)
	for ctx.Err() == nil {
		r.look(ctx)
		select {
		case <-ctx.Done():
		case <-time.After(careEvery):
		}
	}
	return nil
}
