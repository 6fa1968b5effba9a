package checkup

import (
	"context"
	"log/slog"
	"net"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/base/panics"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/directory"
	"tollgate.example/key/internal/store"
)

type source struct {
	list     []*config.Directory
	panicked []panics.Panic
}

func (s *source) Directories() []*config.Directory                { return s.list }
func (s *source) Password(*config.Directory) (string, error)      { return "", nil }
func (s *source) Panics() []panics.Panic                          { return s.panicked }
func (s *source) Member(*config.Directory) directory.MemberTester { return nil }

func TestChangesAreToldOnce(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server := l.Addr().String()
	l.Close() // nobody listens there any more
	dir := t.TempDir()
	s, err := store.Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	src := &source{list: []*config.Directory{{ID: "d1", Name: "PIER", Kind: config.Generic, TLS: config.Plain,
		Servers: []string{server}, TimeoutMillis: 300}}}
	ctx := context.Background()
	c, err := Open(ctx, s, src, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	reported := 0
	passed, err := c.Run(ctx, "", func(results.Line) { reported++ })
	if err != nil || passed || reported == 0 {
		t.Fatalf("passed %v, %d lines, %v", passed, reported, err)
	}
	first, ran := c.Last()
	if len(first) != 2 || first[0].State != results.Fail || first[0].Key != "connect" || first[0].Remedy == "" ||
		time.Since(ran) > time.Minute {
		t.Errorf("%+v at %v", first, ran)
	}
	c.Run(ctx, "d1", func(results.Line) {})
	c.Run(ctx, "another", func(results.Line) {})
	changes, err := c.Changes(ctx, 10)
	if err != nil || len(changes) != 1 || changes[0].Was != "" || changes[0].Line.State != results.Fail {
		t.Errorf("changes %+v, %v", changes, err)
	}
	again, err := Open(ctx, s, src, slog.New(slog.DiscardHandler)) // after a restart
	if err != nil {
		t.Fatal(err)
	}
	again.Run(ctx, "", func(results.Line) {})
	if lines, _ := again.Last(); len(lines) != 2 || !lines[0].Since.Equal(first[0].Since) ||
		!lines[0].At.After(first[0].At) {
		t.Errorf("after a restart %+v", lines)
	}
	src.list = nil
	again.Run(ctx, "", func(results.Line) {})
	if lines, _ := again.Last(); len(lines) != 0 {
		t.Errorf("lines of a directory that was removed: %+v", lines)
	}
	src.panicked = []panics.Panic{{Place: "conversation.(*teapPhase).take:120", Message: "nil pointer",
		Work: "an EAP round of x", Count: 3, First: time.Now(), Last: time.Now()}}
	passed, err = again.Run(ctx, "", func(results.Line) {})
	if lines, _ := again.Last(); err != nil || passed || len(lines) != 1 || lines[0].ID != Service ||
		lines[0].State != results.Fail || !strings.Contains(lines[0].Detail, "teapPhase") {
		t.Errorf("a fault of the program: passed %v, %+v, %v", passed, lines, err)
	}
	ended, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := again.Run(ended, "", func(results.Line) {}); err == nil {
		t.Error("a run that was cancelled ended well")
	}
}
