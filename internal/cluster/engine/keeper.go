// Package engine keeps the engine by which nodes share state running, as a child process.
package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Config is what an engine needs to run. Addresses are URLs.
type Config struct {
	Name, Dir string
	// Listen is where the engines of other nodes reach it, Advertise what they are told.
	Listen, Advertise string
	// Socket is the Unix socket on which the service asks it.
	Socket string
	// CA, Cert and Key are PEM files, for the way between engines.
	CA, Cert, Key string
	// Members are name=URL of all, with commas between; Token tells one set of nodes from others.
	Members, Token string
	// Join is for an engine that joins others, Force for one that goes on alone with what it has.
	Join, Force bool
}

// Removed is what an engine says that the others removed.
const Removed = "the engine ended: it was removed from the others"

// Keeper keeps an engine running: whatever it dies of, it is started again, after waits that grow.
type Keeper struct {
	command []string
	settled time.Duration

	mu     sync.Mutex
	config Config
	stop   context.CancelFunc
	ended  chan struct{}
	state  State
}

// State is how an engine does.
type State struct {
	Running bool
	Since   time.Time
	// Why is what it said before it died last, "" if it never did; Died when. Starts counts its starts.
	Why    string
	Died   time.Time
	Starts int
	PID    int
}

const (
	firstWait = 500 * time.Millisecond
	lastWait  = 30 * time.Second
	// settledAfter is after how long an engine that ran counts as sound: the waits begin anew.
	settledAfter = time.Minute
)

// Start starts an engine by a command line that leads to etcd.Main.
func Start(command []string, c Config) *Keeper {
	ctx, cancel := context.WithCancel(context.Background())
	k := &Keeper{command: command, config: c, stop: cancel, ended: make(chan struct{}), settled: settledAfter}
	go k.run(ctx)
	return k
}

// Close ends the engine in order.
func (k *Keeper) Close() {
	k.stop()
	<-k.ended
}

// State tells how the engine does.
func (k *Keeper) State() State {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.state
}

func (k *Keeper) run(ctx context.Context) {
	defer close(k.ended)
	wait := firstWait
	for ctx.Err() == nil {
		begun := time.Now()
		why := k.once(ctx)
		k.mu.Lock()
		k.state.Running, k.state.PID = false, 0
		k.config.Force = false // it was once
		if ctx.Err() == nil {
			k.state.Why, k.state.Died = why, time.Now()
		}
		k.mu.Unlock()
		if time.Since(begun) > k.settled {
			wait = firstWait
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		wait = min(2*wait, lastWait)
	}
}

// once runs the engine until it ends, and returns why it did.
func (k *Keeper) once(ctx context.Context) string {
	k.mu.Lock()
	config, err := json.Marshal(k.config)
	k.mu.Unlock()
	if err != nil {
		return err.Error()
	}
	os.Remove(k.config.Socket) // of one that was killed
	child := exec.Command(k.command[0], k.command[1:]...)
	child.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	said := &tail{}
	child.Stderr, child.Stdout = said, said
	in, err := child.StdinPipe()
	if err != nil {
		return err.Error()
	}
	started := make(chan error, 1)
	ended := make(chan error, 1)
	go func() { // Pdeathsig is of the thread that starts it: this one stays until it ends
		runtime.LockOSThread()
		started <- child.Start()
		ended <- child.Wait()
	}()
	if err := <-started; err != nil {
		return fmt.Sprintf("it could not be started: %v", err)
	}
	k.mu.Lock()
	k.state.Running, k.state.Since, k.state.PID = true, time.Now(), child.Process.Pid
	k.state.Starts++
	k.mu.Unlock()
	in.Write(append(config, '\n'))
	select {
	case err = <-ended:
	case <-ctx.Done():
		in.Close()
		select {
		case err = <-ended:
		case <-time.After(stopTime):
			child.Process.Kill()
			err = <-ended
		}
	}
	in.Close()
	why := lastLines(said.String(), 3)
	if err != nil {
		why = fmt.Sprintf("%v: %s", err, why)
	}
	return why
}

// tail keeps the end of what is written to it.
type tail struct {
	mu   sync.Mutex
	data []byte
}

const tailSize = 8 << 10

func (t *tail) Write(data []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.data = append(t.data, data...)
	if len(t.data) > 2*tailSize {
		t.data = append([]byte(nil), t.data[len(t.data)-tailSize:]...)
	}
	return len(data), nil
}

func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return string(t.data)
}

// stopTime is how long an engine may take to end in order.
const stopTime = 5 * time.Second

// lastLines are the last lines that an engine said before it ended.
func lastLines(text string, count int) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return strings.Join(lines[max(0, len(lines)-count):], "\n")
}
