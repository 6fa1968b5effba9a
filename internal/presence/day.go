package presence

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/store"
)

// Stay is a time that somebody spent somewhere, as one source has it.
type Stay struct {
	Source, Way    string
	Address, Ports string
	MAC, Host      string
	From, To       time.Time
	Open           bool // the person is still there
	Detail         string
	until          time.Time
}

// Day lists the stays of a person in a span of time: those that sources report of the person, and the leases of the
// devices that they name. The order is by source, then by time.
func (k *Keeper) Day(ctx context.Context, who string, from, to time.Time) (stays []Stay, reports []store.Sighting,
	err error) {
	k.o.Records.Flush(ctx)
	who = strings.ToLower(k.o.Name(who))
	span := store.Span{Since: from.Add(-behind), Until: to}
	if reports, err = k.recorded(ctx, store.SightingFilter{Who: who, Span: span}); err != nil {
		return nil, nil, err
	}
	devices := map[string]bool{}
	var leases []store.Sighting
	for i := range reports {
		if mac := reports[i].MAC; mac != "" && !devices[mac] && len(devices) < 20 {
			devices[mac] = true
			list, err := k.recorded(ctx, store.SightingFilter{MAC: mac, Span: span,
				Kinds: []string{string(core.Leased), string(core.Released)}})
			if err != nil {
				return nil, nil, err
			}
			leases = append(leases, list...)
		}
	}
	now := k.o.Now()
	stays = fold(append(slices.Clone(reports), leases...), now)
	stays = slices.DeleteFunc(stays, func(s Stay) bool { return !s.To.After(from) || !s.From.Before(to) })
	slices.SortStableFunc(stays, func(a, b Stay) int {
		return cmp.Or(strings.Compare(a.Source, b.Source), a.From.Compare(b.From))
	})
	reports = append(reports, leases...)
	slices.SortStableFunc(reports, func(a, b store.Sighting) int { return b.At.Compare(a.At) })
	reports = slices.DeleteFunc(reports, func(r store.Sighting) bool { return r.At.Before(from) })
	return stays, reports, nil
}

// fold makes stays of reports.
func fold(list []store.Sighting, now time.Time) (out []Stay) {
	slices.SortStableFunc(list, func(a, b store.Sighting) int { return a.At.Compare(b.At) })
	open := map[string]int{} // by what a source tells stays apart by
	for i := range list {
		r := &list[i]
		ports := core.Ports{First: uint16(r.First), Last: uint16(r.Last)}.String()
		key := r.Source + "\x00" + cmp.Or(r.Ref, r.Address+" "+ports+" "+r.MAC)
		at, there := open[key]
		if there && !r.At.Before(out[at].until) { // it was over before
			out[at].To, there = out[at].until, false
			delete(open, key)
		}
		switch kind := core.Kind(r.Kind); {
		case kind == core.SignedOut || kind == core.Released:
			if there {
				out[at].To, out[at].Detail = r.At, r.Detail
				delete(open, key)
			}
			continue
		case there && (out[at].Address == r.Address || r.Address == ""):
			out[at].until = r.Until
			continue
		case there: // it goes on elsewhere
			out[at].To = r.At
		}
		open[key] = len(out)
		out = append(
			out,
			Stay{Source: r.Source, Way: r.Way, Address: r.Address, Ports: ports, MAC: r.MAC, Host: r.Host,
				From: r.At, Detail: r.Detail, until: r.Until},
		)
	}
	for _, at := range open {
		s := &out[at]
		if s.To = s.until; s.until.After(now) {
			s.To, s.Open = now, true
		}
	}
	return out
}
