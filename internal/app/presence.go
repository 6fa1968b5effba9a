package app

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/cluster"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/front/reports"
	"tollgate.example/key/internal/manage/attention"
	"tollgate.example/key/internal/manage/host"
	"tollgate.example/key/internal/manage/pushing"
	"tollgate.example/key/internal/presence"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/portal"
)

// maxGroups bounds the groups of a person that subscribers are told of.
const maxGroups = 200

// openPresence opens who is where.
func (a *App) openPresence(
	ctx context.Context,
	o *Options,
	box *seal.Box,
	ids *ident.Source,
	clock *host.Clock,
) error {
	records, err := store.OpenSightings(ctx, o.Data, ids, o.retention(o.KeepSightings, clock))
	if err != nil {
		return err
	}
	a.sightings = records
	a.done = append(a.done, func() { records.Close() })
	a.presence = presence.Open(
		presence.Options{Records: records, IDs: ids, Node: int(o.Node), Log: o.Log, Now: o.Now,
			Config: func() *config.Config { return a.Gate.Current().Plan.Config },
			Open:   func(at config.Place, s config.Secret) (string, error) { return box.Open(at, s) },
			Name:   a.Gate.Known,
			Find: func(ctx context.Context, name string) (presence.Person, bool) {
				person, code := a.Gate.Seek(ctx, name)
				if code != reason.OK {
					return presence.Person{}, false
				}
				return presence.Person{
					Display: person.Display,
					Groups:  a.groupsOf(person),
				}, true
			},
			Tell:   a.tellSighting,
			Traits: a.store,
			TellDoing: func(d *presence.Doing) {
				d.Node = a.cluster.Name()
				a.cluster.Say(saidDoing, d)
			},
			TellTraits: func(t *store.DeviceTraits) { a.cluster.Say(saidTraits, t) }},
	)
	a.accounted.Store(a.presence)
	return nil
}

// groupsOf are the groups of a person that subscribers are told of: the picked ones of a directory that has any.
func (a *App) groupsOf(person *facts.Person) []string {
	groups := person.Groups
	if d, at := config.Find(a.Gate.Current().Plan.Config.Directories, person.Store); at >= 0 &&
		len(d.Groups) > 0 {
		groups = nil
		for _, g := range person.Groups {
			if slices.ContainsFunc(
				d.Groups,
				func(p config.PickedGroup) bool { return strings.EqualFold(p.Name, g) },
			) {
				groups = append(groups, g)
			}
		}
	}
	return groups[:min(len(groups), maxGroups)]
}

// present is what conditions may ask of where a person is.
func (a *App) present(name string, from netip.Addr) *facts.Present {
	k := a.accounted.Load()
	if k == nil {
		return nil
	}
	w := k.Present(name, from)
	out := &facts.Present{Count: w.Count, Address: w.Address, Hosts: w.Hosts, Sources: w.Sources}
	switch {
	case !from.IsValid():
	case w.Self:
		out.From = facts.FromSelf
	case w.Others:
		out.From = facts.FromOther
	default:
		out.From = facts.FromNobody
	}
	return out
}

// followerSilent is after how long without contact a subscriber that was there is worth a word.
const followerSilent = time.Minute

// presenceSilent lists sources and subscribers of presence that were there, and went silent.
func (a *App) presenceSilent() (out []attention.Stuck) {
	now := time.Now()
	for _, s := range a.presence.SourcesEverywhere() {
		switch {
		case s.ID == "" || !s.Enabled:
		case s.Silent(now):
			out = append(out, attention.Stuck{Kind: "source", ID: s.ID, Name: s.Name, Since: s.Seen,
				Fault: "nothing was heard for longer than its reports hold"})
		case len(s.Lost) > 0:
			out = append(out, attention.Stuck{Kind: "source", ID: s.ID, Name: s.Name, Since: s.Lost[0].Since,
				Fault: fmt.Sprintf("hosts went silent while people were signed in there: %s (%s), %d in all",
					s.Lost[0].Name, s.Lost[0].Address, len(s.Lost))})
		}
	}
	for _, f := range a.presence.FollowersEverywhere() {
		if f.Enabled && f.Fault != "" {
			out = append(
				out,
				attention.Stuck{Kind: "subscriber", ID: f.ID, Name: f.Name, Since: f.Contact, Fault: f.Fault},
			)
			continue
		}
		if f.Enabled && !f.Contact.IsZero() && now.Sub(f.Contact) > followerSilent {
			out = append(out, attention.Stuck{Kind: "subscriber", ID: f.ID, Name: f.Name, Since: f.Contact,
				Fault: "it neither listens nor asks"})
		}
	}
	return out
}

// seen tells presence what accounting says.
func (a *App) seen(batch []*store.Accounted) {
	k := a.accounted.Load()
	if k == nil {
		return
	}
	for _, one := range batch {
		if r, ok := a.sessionReport(one); ok {
			way := config.SourceSessions
			if one.Lane == "" { // no attempt of ours admitted it: whoever has the secret of a client could say so
				way = config.SourceAccounting
			}
			k.Take(k.BuiltIn(way), r)
		}
	}
}

// sessionReport is what a record of accounting says of presence.
func (a *App) sessionReport(one *store.Accounted) (presence.Report, bool) {
	if one.Kind == store.AccountingLost && one.Cause == session.CauseElsewhere {
		return presence.Report{}, false
	}
	r := presence.Report{Sighting: core.Sighting{At: one.At, Who: one.Who, Display: one.Display,
		Ref: strings.Join([]string{one.Client, one.NAS, one.Session}, " "), MAC: core.ParseMAC(one.MAC)},
		Detail: one.Client + ", " + one.Kind}
	if address, err := netip.ParseAddr(one.Address); err == nil {
		r.Address = address
	}
	switch one.Kind {
	case store.AccountingStart:
		r.Kind = core.SignedIn
	case store.AccountingInterim, store.AccountingAsked:
		r.Kind = core.Still
	case store.AccountingStop, store.AccountingLost:
		r.Kind = core.SignedOut
	default:
		return r, false
	}
	r.Role = a.roleOf(one.Pass)
	if one.Silence > 0 && r.Kind != core.SignedOut {
		r.Until = one.At.Add(one.Silence)
	}
	return r, r.Who != "" && (r.Kind == core.SignedOut || r.Address.IsValid() || r.MAC != 0)
}

// roleOf is the role of a pass, or its name where it gives none.
func (a *App) roleOf(pass string) string {
	if p := a.Gate.Current().Plan.Pass(pass); p != nil && p.Role != "" {
		return p.Role
	}
	return pass
}

// admitted tells presence who was admitted with which device: what is known where clients send no accounting.
func (a *App) admitted(batch []*store.Attempt) {
	k := a.accounted.Load()
	if k == nil {
		return
	}
	for _, t := range batch {
		if t.Verdict != "admitted" || t.MAC == "" || t.Who == "" || t.Trial || t.Method == facts.MACBypass {
			continue
		}
		source := k.BuiltIn(config.SourceAttempts)
		k.Take(source, presence.Report{Sighting: core.Sighting{Kind: core.SignedIn, At: t.At, Who: t.Who,
			Display: t.Display, MAC: core.ParseMAC(t.MAC), Ref: "device " + t.MAC,
			Origin: core.Origin{Role: a.roleOf(t.Pass)}}, Detail: "admitted by " + t.Client, Repeats: true})
	}
}

// seenOnPortal tells presence who has signed in on the pages for people, and from where.
func (a *App) seenOnPortal(who *portal.Invitation, at netip.Addr) {
	if k := a.accounted.Load(); k != nil && at.IsValid() {
		k.Take(k.BuiltIn(config.SourcePortal), presence.Report{Sighting: core.Sighting{Kind: core.SignedIn,
			At: time.Now(), Who: who.Name, Display: who.Display, Address: at, Ref: "portal " + at.String()},
			Detail: "on the pages for people"})
	}
}

// saidSightings is what a node tells others of sightings.
const saidSightings = "sightings"

const (
	// maxUntold bounds the sightings that wait until others are told, which happens several times in a second.
	maxUntold = 50_000
	// perSaying is how many are told in one go.
	perSaying, movedPerSaying = 10_000, 1000
)

// tellSighting has other nodes told soon.
func (a *App) tellSighting(s *store.Sighting) {
	if a.cluster.Alone() {
		return
	}
	a.untold.Lock()
	defer a.untold.Unlock()
	if len(a.untold.sightings) < maxUntold {
		a.untold.sightings = append(a.untold.sightings, *s)
	}
}

// untold are sightings of which other nodes are to be told.
type untold struct {
	sync.Mutex
	sightings []store.Sighting
}

// gather are the sightings since it was called last, as others are told of them.
func (a *App) gather() []cluster.Saying {
	a.untold.Lock()
	list := a.untold.sightings
	a.untold.sightings = nil
	a.untold.Unlock()
	counted, anew := a.Sessions.TakeCounted(a.counts())
	return slices.Concat(a.sayings(list), movedSayings(a.Sessions.TakeMoved()), a.countedSayings(counted, anew))
}

// movedSayings tells of sessions that clients report here now.
func movedSayings(list []session.Moved) (out []cluster.Saying) {
	for part := range slices.Chunk(list, movedPerSaying) {
		if data, err := json.Marshal(part); err == nil {
			out = append(out, cluster.Saying{Kind: saidMoved, Data: data})
		}
	}
	return out
}

func (a *App) sayings(list []store.Sighting) (out []cluster.Saying) {
	for part := range slices.Chunk(list, perSaying) {
		packed := make([]*store.Sighting, len(part))
		for i := range part {
			packed[i] = &part[i]
		}
		data, err := store.PackSightings(packed)
		if err != nil {
			a.log.Error("telling other nodes who is where", "error", err)
			return out
		}
		out = append(out, cluster.Saying{Kind: saidSightings, Data: data})
	}
	return out
}

// saidTraits is what a node tells others of what it has seen of a device.
const saidTraits = "traits"

// saidDoing is what a node tells others of how sources and subscribers do.
const saidDoing = "doing"

func (a *App) heardDoing(data []byte) {
	var d presence.Doing
	if k := a.accounted.Load(); k != nil && json.Unmarshal(data, &d) == nil {
		k.HeardDoing(&d)
	}
}

func (a *App) heardTraits(data []byte) {
	var t store.DeviceTraits
	if k := a.accounted.Load(); k != nil && json.Unmarshal(data, &t) == nil {
		k.HeardTraits(&t)
	}
}

// traits are what was seen of a device.
func (a *App) traits(mac string) *facts.Traits {
	if k := a.accounted.Load(); k != nil {
		return k.Traits(mac)
	}
	return nil
}

func (a *App) heardSightings(data []byte) {
	k := a.accounted.Load()
	if k == nil {
		return
	}
	list, err := store.UnpackSightings(data)
	if err != nil {
		a.log.Warn("what another node tells of who is where cannot be read", "error", err)
		return
	}
	for i := range list {
		s := list[i]
		if s.Of != 0 {
			s.ID = 0
			k.Heard(&s)
		}
	}
}

// pushing tells subscribers that cannot ask.
func (a *App) pushing(box *seal.Box) *pushing.Keeper {
	return &pushing.Keeper{Presence: a.presence,
		Config: func() *config.Config { return a.Gate.Current().Plan.Config },
		Open:   func(at config.Place, s config.Secret) (string, error) { return box.Open(at, s) },
		Catch: func(run func()) {
			defer a.panicked.Catch(func() string { return "telling a subscriber who is where" }, nil)
			run()
		}}
}

// missed lists what was seen of devices, and the sightings that were taken here, since a moment.
func (a *App) missed(ctx context.Context, since time.Time) (out []cluster.Saying) {
	k := a.accounted.Load()
	if k == nil {
		return nil
	}
	for _, t := range k.TraitsSince(since) {
		if data, err := json.Marshal(t); err == nil {
			out = append(out, cluster.Saying{Kind: saidTraits, Data: data})
		}
	}
	moved, err := a.Sessions.MovedSince(ctx, since)
	if err != nil {
		a.log.Warn("which sessions another node left cannot be read", "error", err)
	}
	out = slices.Concat(out, movedSayings(moved), a.approvals.missed(since))
	out = append(out, cluster.Saying{Kind: saidTellAnew})
	if a.counts() {
		out = append(out, a.countedSayings(a.Sessions.AllCounted(), true)...)
	}
	return append(out, a.sayings(k.TakenSince(ctx, since))...)
}

// openReports opens the sockets for what other systems report.
func (a *App) openReports(o *Options) error {
	options := reports.Options{
		DHCP:   o.DHCP,
		UDP:    o.SyslogUDP,
		TCP:    o.SyslogTCP,
		TLS:    o.SyslogTLS,
		Keeper: a.presence,
		Catch: func(run func()) {
			defer a.panicked.Catch(func() string { return "a report of who is where" }, nil)
			run()
		},
	}
	if len(o.SyslogTLS) > 0 {
		var err error
		if options.Secure, err = webCertificate(o); err != nil {
			return err
		}
	}
	server, err := reports.Serve(options)
	if err != nil {
		return err
	}
	a.Reports = server.Addresses()
	a.done = append(a.done, server.Close)
	return nil
}
