package reporter

import (
	"context"
	"log/slog"
	"os/user"
	"strconv"
	"strings"
	"time"

	core "tollgate.example/key/internal/core/presence"
)

const (
	// settleFor is for how long changes are gathered before they are told: signing in is several of them.
	settleFor = 200 * time.Millisecond
	// firstPause and lastPause are how long it waits after a failure, longer each time.
	firstPause = time.Second
	lastPause  = 30 * time.Second
	// usualEvery is how often it reports while nobody says how often, and lookEvery how often it looks in any case:
	// whatever tells of changes may fail.
	usualEvery = time.Minute
	lookEvery  = 15 * time.Second
	// goodbye is how long the last report may take.
	goodbye = 3 * time.Second
)

// Options are what a Reporter works with.
type Options struct {
	Sessions Sessions
	Sender   *Sender
	// Host is the name of this host, Domain what stands before names that have none.
	Host, Domain string
	// Least is the lowest number of an account of a person.
	Least uint32
	// Blocks are given on a shared host, by way of Kernel; nil on a workstation.
	Blocks *Blocks
	Kernel *Kernel
	// Dry leaves the kernel as it is.
	Dry bool
	Log *slog.Logger
}

// Reporter reports who is signed in on this host.
type Reporter struct {
	o     Options
	every time.Duration
	set   []Block // what the kernel was told last
	known bool
	said  map[string]bool // what was complained of already
}

// New makes one. On a shared host it goes on with the blocks that the kernel knows.
func New(ctx context.Context, o Options) (*Reporter, error) {
	r := &Reporter{o: o, every: usualEvery, said: map[string]bool{}}
	if o.Blocks == nil {
		return r, nil
	}
	list, err := o.Kernel.Blocks(ctx)
	if err != nil {
		return nil, err
	}
	o.Blocks.Take(list, time.Now())
	return r, nil
}

// Run reports until the context ends, and says goodbye then.
func (r *Reporter) Run(ctx context.Context) {
	var last []Signed
	reported, pause := time.Time{}, firstPause
	changed := r.o.Sessions.Changed()
	for {
		wait := min(lookEvery, max(time.Second, r.every-time.Since(reported)))
		if report, err := r.Look(ctx); err != nil {
			r.once("look", "looking who is signed in", err)
		} else if delete(r.said, "look"); !same(report.People, last) || time.Since(reported) >= r.every {
			if err := r.tell(ctx, report); err != nil {
				wait, pause = pause, min(2*pause, lastPause)
			} else {
				last, reported, pause = report.People, time.Now(), firstPause
			}
		}
		select {
		case <-ctx.Done():
			r.leave()
			return
		case _, open := <-changed:
			if !open { // the bus is gone; looking now and then is what remains
				changed = nil
				r.o.Log.Warn("nothing tells of changes any more; looking every 15 seconds")
			}
			if !pauseFor(ctx, settleFor) {
				continue
			}
		case <-time.After(wait):
		}
	}
}

func pauseFor(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// tell sends a report, and notes what comes back.
func (r *Reporter) tell(ctx context.Context, report *Report) error {
	a, err := r.o.Sender.Send(ctx, report)
	if err != nil {
		r.once("send", "telling who is signed in", err)
		return err
	}
	if r.said["send"] || !r.known {
		r.o.Log.Info("reporting", "people", len(report.People), "as", a.Address)
	}
	delete(r.said, "send")
	r.known = true
	if a.Every > 0 {
		r.every = time.Duration(a.Every) * time.Second
	}
	for _, one := range a.Refused {
		if one.Index >= 0 && one.Index < len(report.People) {
			who := report.People[one.Index].Who
			r.warn("refused "+who, "somebody who is signed in was not taken", "who", who, "why", one.Error)
		}
	}
	return nil
}

// leave tells that nobody is signed in any more as far as anybody will know.
func (r *Reporter) leave() {
	if !r.known {
		return
	}
	ctx, stop := context.WithTimeout(context.Background(), goodbye)
	defer stop()
	if _, err := r.o.Sender.Send(ctx, &Report{Host: r.o.Host, People: []Signed{}}); err != nil {
		r.o.Log.Warn("saying goodbye", "error", err)
	}
}

func (r *Reporter) once(what, doing string, err error) { r.warn(what, doing, "error", err) }

// warn says something once, until it is over.
func (r *Reporter) warn(what, text string, args ...any) {
	if !r.said[what] {
		r.o.Log.Warn(text, args...)
	}
	r.said[what] = true
}

// same tells that two reports name the same people, whatever time has passed.
func same(a, b []Signed) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i].Who != b[i].Who || a[i].Ports != b[i].Ports {
			return false
		}
	}
	return true
}

// Look looks who is signed in. On a shared host everybody who is has a block when it returns: nobody is reported with a
// block that the kernel does not give yet.
func (r *Reporter) Look(ctx context.Context) (*Report, error) {
	list, err := r.o.Sessions.List(ctx)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	people := People(list, r.o.Least, r.o.Blocks != nil)
	ports := map[uint32]core.Ports{}
	if r.o.Blocks != nil {
		if ports, err = r.assign(ctx, people, now); err != nil {
			return nil, err
		}
	}
	out := &Report{Host: r.o.Host, People: []Signed{}}
	for _, p := range people {
		one := Signed{Who: r.name(p.Name), Display: displayOf(p.UID), Seconds: int64(now.Sub(p.Since) / time.Second)}
		if p.Since.IsZero() {
			one.Seconds = 0
		}
		if r.o.Blocks != nil {
			block, has := ports[p.UID]
			if !has { // with no ports it would be said of the whole host
				continue
			}
			one.Ports = block.String()
		}
		out.People = append(out.People, one)
	}
	return out, nil
}

// assign gives each person a block, and has the kernel use them.
func (r *Reporter) assign(ctx context.Context, people []Person, now time.Time) (map[uint32]core.Ports, error) {
	running, err := Running()
	if err != nil {
		return nil, err
	}
	here := map[uint32]bool{}
	for _, p := range people {
		here[p.UID] = true
	}
	r.o.Blocks.Leave(func(uid uint32) bool { return here[uid] }, func(uid uint32) bool { return running[uid] }, now)
	out := map[uint32]core.Ports{}
	for _, p := range people {
		ports, err := r.o.Blocks.Of(p.UID, now)
		if err != nil {
			r.warn("block "+strconv.Itoa(int(p.UID)), "somebody has no block of ports, and counts as nobody",
				"who", p.Name, "error", err)
			continue
		}
		delete(r.said, "block "+strconv.Itoa(int(p.UID)))
		out[p.UID] = ports
	}
	return out, r.use(ctx)
}

// use has the kernel use the blocks, if they are others than it was told.
func (r *Reporter) use(ctx context.Context) error {
	list := r.o.Blocks.List()
	if r.o.Dry || r.set != nil && sameBlocks(list, r.set) {
		return nil
	}
	if err := r.o.Kernel.Set(ctx, list, r.o.Blocks.all); err != nil {
		return err
	}
	r.set = list
	return nil
}

func sameBlocks(a, b []Block) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i].UID != b[i].UID || a[i].Ports != b[i].Ports {
			return false
		}
	}
	return true
}

// name is a name as presence is to know it.
func (r *Reporter) name(name string) string {
	if r.o.Domain == "" || strings.ContainsAny(name, `\@`) {
		return name
	}
	return r.o.Domain + `\` + name
}

func displayOf(uid uint32) string {
	u, err := user.LookupId(strconv.Itoa(int(uid)))
	if err != nil {
		return ""
	}
	return u.Name
}
