package panics

import (
	"log/slog"
	"strings"
	"sync"
	"testing"
)

func stumble(b *Log, work string, then func()) {
	defer b.Catch(func() string { return work }, then)
	var nothing *Panic
	nothing.Count++
}

func TestAPanicEndsOnePieceOfWork(t *testing.T) {
	slog.SetDefault(slog.New(slog.DiscardHandler))
	b, after := &Log{}, 0
	var all sync.WaitGroup
	for range 10 {
		all.Go(func() { stumble(b, "request of np-switch-1", nil) })
	}
	all.Wait()
	stumble(b, "request of sp-switch-1", func() { after++ })
	list := b.List()
	if len(list) != 1 || list[0].Count != 11 || list[0].Work != "request of sp-switch-1" || after != 1 {
		t.Fatalf("%+v", list)
	}
	if m := list[0]; !strings.HasPrefix(m.Place, "panics.stumble:") || !strings.Contains(m.Message, "nil pointer") ||
		!strings.Contains(m.Stack, "panics_test.go") {
		t.Errorf("%+v", m)
	}
	func() {
		defer b.Catch(func() string { return "nothing" }, func() { after++ })
	}()
	if after != 1 || len(b.List()) != 1 {
		t.Error("work that went well is counted as a panic")
	}
	var none *Log
	stumble(none, "without a log", nil)
}
