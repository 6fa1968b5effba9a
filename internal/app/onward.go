package app

import (
	"context"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/manage/attention"
	"tollgate.example/key/internal/manage/onward"
)

// openOnward opens what sends records on. It is the first to end when the service does: records are still there then.
func (a *App) openOnward(ctx context.Context, o *Options) (err error) {
	a.onward, err = onward.New(ctx, a.store, onward.Records{Attempts: a.Attempts, Accounting: a.Sessions.Records(),
		Journal: a.Journal, Audit: a.trail}, a.Gate.Current, o.Data)
	return err
}

// stuckFor is how long nothing can be sent on before an operator should look.
const stuckFor = time.Minute

// stuck lists feeds, and remote servers that get accounting, to which nothing can be sent.
func (a *App) stuck() (out []attention.Stuck) {
	c := a.Gate.Current().Plan.Config
	for name, state := range a.onward.Faults(stuckFor) {
		kind, id, _ := strings.Cut(name, ":")
		one := attention.Stuck{Kind: kind, ID: id, Fault: state.Fault, Since: state.Since}
		if f, at := config.Find(c.Feeds, id); kind == "feed" && at >= 0 {
			one.Name = f.Name
		}
		if r, at := config.Find(c.Remotes, id); kind == "remote" && at >= 0 {
			one.Name = r.Name
		}
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b attention.Stuck) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// silent lists remote servers in use of which a machine does not answer.
func (a *App) silent() (out []attention.Stuck) {
	s := a.Gate.Current()
	for _, r := range s.Plan.Config.Remotes {
		open := s.Remote(r.Name)
		if open == nil {
			continue
		}
		for _, m := range open.States() {
			if m.Silent {
				out = append(out, attention.Stuck{Kind: "remote", ID: r.ID, Name: r.Name, Machine: m.Address.String(),
					Fault: m.Fault, Since: m.Since})
			}
		}
	}
	return out
}
