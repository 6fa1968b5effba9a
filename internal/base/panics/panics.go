// Package panics keeps one request that hits a fault of ours from ending the service. Whoever works on a request, a
// session or in the background defers Catch; a panic ends that piece of work alone, is logged with its stack, counted,
// and shown by the checkup.
package panics

import (
	"fmt"
	"log/slog"
	"net/http"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"
)

// maxKinds bounds how many different faults are kept.
const maxKinds = 50

// Panic is one fault of the program, wherever it was hit.
type Panic struct {
	// Place is the function that panicked, and the line.
	Place string
	// Message is what it panicked with, Work what was being done the last time.
	Message string
	Work    string
	Count   int
	First   time.Time
	Last    time.Time
	// Stack is that of the first time.
	Stack string
}

// Log keeps what happened since the start. It is safe for concurrent use; the nil Log catches and logs too.
type Log struct {
	mu   sync.Mutex
	list []Panic
}

// Catch is deferred around one piece of work, and stops a panic there. work says what was being done; then, if it is
// not nil, is called after a panic, to leave what was begun in order.
func (l *Log) Catch(work func() string, then func()) {
	message := recover()
	switch message {
	case nil:
		return
	case http.ErrAbortHandler: // an answer is cut short on purpose
		panic(message)
	}
	l.note(fmt.Sprint(message), work())
	if then != nil {
		then()
	}
}

// note logs and counts a panic, from the goroutine that it unwinds.
func (l *Log) note(message, work string) {
	stack := make([]byte, 16<<10)
	stack = stack[:runtime.Stack(stack, false)]
	place := place()
	slog.Error("a fault in the program was caught; this piece of work was given up, everything else goes on", "while",
		work, "at", place, "fault", message, "stack", string(stack))
	if l == nil {
		return
	}
	now := time.Now()
	l.mu.Lock()
	defer l.mu.Unlock()
	at := slices.IndexFunc(l.list, func(m Panic) bool { return m.Place == place })
	if at < 0 {
		if len(l.list) == maxKinds {
			l.list = l.list[1:]
		}
		l.list = append(l.list, Panic{Place: place, First: now, Stack: string(stack)})
		at = len(l.list) - 1
	}
	m := &l.list[at]
	m.Message, m.Work, m.Last = message, work, now
	m.Count++
}

// place is where the panic came from: the first function below those of the runtime.
func place() string {
	pcs := make([]uintptr, 64)
	frames := runtime.CallersFrames(pcs[:runtime.Callers(3, pcs)])
	behind := false
	for {
		frame, more := frames.Next()
		switch {
		case strings.HasPrefix(frame.Function, "runtime."):
			behind = true
		case behind && frame.Function != "":
			name := frame.Function[strings.LastIndexByte(frame.Function, '/')+1:]
			return fmt.Sprintf("%s:%d", name, frame.Line)
		}
		if !more {
			return "somewhere"
		}
	}
}

// List returns what happened, the latest first.
func (l *Log) List() []Panic {
	if l == nil {
		return nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	out := slices.Clone(l.list)
	slices.SortFunc(out, func(x, y Panic) int { return y.Last.Compare(x.Last) })
	return out
}
