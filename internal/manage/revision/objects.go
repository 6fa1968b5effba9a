package revision

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

// Kinds of rows beside those of the objects. A policy is a row of its own, under the identifiers of its lane and its
// own; the order of the lanes, and of the policies of each lane, is one row.
const (
	policyKind = "policy"
	orderKind  = "order"
	allLanes   = "lanes"
)

// delta lists in what a configuration differs from another one, as rows.
func delta(from, to *config.Config) ([]store.Object, error) {
	d := &differ{}
	rows(d, "client", from.Clients, to.Clients)
	rows(d, "directory", from.Directories, to.Directories)
	rows(d, "realm", from.Realms, to.Realms)
	rows(d, "pass", from.Passes, to.Passes)
	rows(d, "authority", from.Authorities, to.Authorities)
	rows(d, "certificate", from.Certificates, to.Certificates)
	rows(d, "trust", from.Trusts, to.Trusts)
	rows(d, "calendar", from.Calendars, to.Calendars)
	rows(d, "pool", from.Pools, to.Pools)
	rows(d, "remote", from.Remotes, to.Remotes)
	rows(d, "vendor", from.Vendors, to.Vendors)
	rows(d, "override", from.Overrides, to.Overrides)
	rows(d, "expectation", from.Expectations, to.Expectations)
	rows(d, "command-list", from.CommandLists, to.CommandLists)
	rows(d, "feed", from.Feeds, to.Feeds)
	rows(d, "source", from.Sources, to.Sources)
	rows(d, "scope", from.Scopes, to.Scopes)
	rows(d, "subscriber", from.Subscribers, to.Subscribers)
	rows(d, "device-kind", from.DeviceKinds, to.DeviceKinds)
	d.lanes(from.Lanes, to.Lanes)
	return d.out, d.err
}

type differ struct {
	out []store.Object
	err error
}

func (d *differ) row(kind, id string, value any) {
	body, err := json.Marshal(value)
	if err != nil && d.err == nil {
		d.err = fmt.Errorf("encoding %s %s: %w", kind, id, err)
	}
	d.out = append(d.out, store.Object{Kind: kind, ID: id, Body: body})
}

func (d *differ) gone(kind, id string) { d.out = append(d.out, store.Object{Kind: kind, ID: id}) }

// rows lists the objects of a kind that are others, and those that are gone.
func rows[T any, P config.Object[T]](d *differ, kind string, from, to []*T) {
	fresh, gone := config.Fresh(from, to)
	there := make(map[string]bool, len(fresh))
	for _, o := range fresh {
		there[P(o).Ident()] = true
		d.row(kind, P(o).Ident(), o)
	}
	for _, o := range gone {
		if !there[P(o).Ident()] {
			d.gone(kind, P(o).Ident())
		}
	}
}

// idsOf lists the identifiers of objects in their order.
func idsOf[T any, P config.Object[T]](list []*T) []string {
	out := make([]string, len(list))
	for i, o := range list {
		out[i] = P(o).Ident()
	}
	return out
}

func (d *differ) lanes(from, to []*config.Lane) {
	if before, after := idsOf(from), idsOf(to); !slices.Equal(before, after) {
		d.row(orderKind, allLanes, after)
	}
	fresh, gone := config.Fresh(from, to)
	for _, lane := range fresh {
		old := &config.Lane{}
		if at := slices.IndexFunc(gone, func(l *config.Lane) bool { return l.ID == lane.ID }); at >= 0 {
			old = gone[at]
			gone = slices.Delete(slices.Clone(gone), at, at+1)
		}
		d.lane(old, lane)
	}
	for _, lane := range gone {
		d.gone("lane", lane.ID)
		d.gone(orderKind, lane.ID)
		for _, p := range lane.Policies {
			d.gone(policyKind, lane.ID+"/"+p.ID)
		}
	}
}

// lane lists what is another in a lane, whose former form has no identifier if it is new.
func (d *differ) lane(from, to *config.Lane) {
	bare := *to
	bare.Policies = nil
	d.row("lane", to.ID, bare)
	before, after := idsOf(from.Policies), idsOf(to.Policies)
	if from.ID == "" || !slices.Equal(before, after) {
		d.row(orderKind, to.ID, after)
	}
	slices.Sort(after)
	if d.err == nil && len(slices.Compact(after)) < len(to.Policies) {
		d.err = fmt.Errorf("two policies of lane %q have the same identifier", to.Name)
	}
	fresh, gone := config.Fresh(from.Policies, to.Policies)
	there := make(map[string]bool, len(fresh))
	for _, p := range fresh {
		there[p.ID] = true
		d.row(policyKind, to.ID+"/"+p.ID, p)
	}
	for _, p := range gone {
		if !there[p.ID] {
			d.gone(policyKind, to.ID+"/"+p.ID)
		}
	}
}

// assembly is a configuration that is put together of rows.
type assembly struct {
	out      config.Config
	lanes    map[string]*config.Lane
	order    map[string][]string
	policies map[string]*config.Policy
}

// assemble makes a configuration of rows, which are sorted by kind and identifier.
func assemble(objects []store.Object) (*config.Config, error) {
	a := &assembly{lanes: map[string]*config.Lane{}, order: map[string][]string{},
		policies: map[string]*config.Policy{}}
	for _, o := range objects {
		if err := a.add(o); err != nil {
			return nil, fmt.Errorf("the stored %s %s cannot be read: %w", o.Kind, o.ID, err)
		}
	}
	for _, id := range a.order[allLanes] {
		lane := a.lanes[id]
		if lane == nil {
			return nil, fmt.Errorf("the stored configuration cannot be read: lane %s is missing", id)
		}
		for _, policy := range a.order[id] {
			p := a.policies[id+"/"+policy]
			if p == nil {
				return nil, fmt.Errorf("the stored configuration cannot be read: policy %s of lane %s is missing",
					policy, lane.Name)
			}
			lane.Policies = append(lane.Policies, p)
		}
		a.out.Lanes = append(a.out.Lanes, lane)
	}
	a.out.Normalise()
	return &a.out, nil
}

func (a *assembly) add(o store.Object) error {
	c := &a.out
	switch o.Kind {
	case "client":
		return add(&c.Clients, o.Body)
	case "directory":
		return add(&c.Directories, o.Body)
	case "realm":
		return add(&c.Realms, o.Body)
	case "pass":
		return add(&c.Passes, o.Body)
	case "authority":
		return add(&c.Authorities, o.Body)
	case "certificate":
		return add(&c.Certificates, o.Body)
	case "trust":
		return add(&c.Trusts, o.Body)
	case "calendar":
		return add(&c.Calendars, o.Body)
	case "pool":
		return add(&c.Pools, o.Body)
	case "remote":
		return add(&c.Remotes, o.Body)
	case "vendor":
		return add(&c.Vendors, o.Body)
	case "override":
		return add(&c.Overrides, o.Body)
	case "expectation":
		return add(&c.Expectations, o.Body)
	case "command-list":
		return add(&c.CommandLists, o.Body)
	case "feed":
		return add(&c.Feeds, o.Body)
	case "source":
		return add(&c.Sources, o.Body)
	case "scope":
		return add(&c.Scopes, o.Body)
	case "subscriber":
		return add(&c.Subscribers, o.Body)
	case "device-kind":
		return add(&c.DeviceKinds, o.Body)
	case "lane":
		lane := &config.Lane{}
		a.lanes[o.ID] = lane
		return json.Unmarshal(o.Body, lane)
	case policyKind:
		policy := &config.Policy{}
		a.policies[o.ID] = policy
		return json.Unmarshal(o.Body, policy)
	case orderKind:
		var ids []string
		err := json.Unmarshal(o.Body, &ids)
		a.order[o.ID] = ids
		return err
	}
	return fmt.Errorf("this version does not know such an object")
}

func add[T any](list *[]*T, body []byte) error {
	o := new(T)
	*list = append(*list, o)
	return json.Unmarshal(body, o)
}

// put puts changed rows over others; both are sorted by kind and identifier.
func put(objects []store.Object, over []store.DraftObject) []store.Object {
	out := make([]store.Object, 0, len(objects)+len(over))
	for _, o := range objects {
		for len(over) > 0 && compareRows(over[0].Object, o) < 0 {
			out, over = append(out, over[0].Object), over[1:]
		}
		if len(over) > 0 && compareRows(over[0].Object, o) == 0 {
			o, over = over[0].Object, over[1:]
		}
		out = append(out, o)
	}
	for _, o := range over {
		out = append(out, o.Object)
	}
	return slices.DeleteFunc(out, func(o store.Object) bool { return o.Body == nil })
}

func compareRows(a, b store.Object) int {
	if c := strings.Compare(a.Kind, b.Kind); c != 0 {
		return c
	}
	return strings.Compare(a.ID, b.ID)
}

// owner is the object of the configuration that a row belongs to.
func owner(o store.Object) string {
	if o.Kind == policyKind {
		lane, _, _ := strings.Cut(o.ID, "/")
		return lane
	}
	return o.ID
}

// arrange puts the objects that have no order of their own into that of their identifiers, as they come back from the
// store.
func arrange(c *config.Config) {
	byIdent(c.Clients)
	byIdent(c.Directories)
	byIdent(c.Realms)
	byIdent(c.Passes)
	byIdent(c.Authorities)
	byIdent(c.Certificates)
	byIdent(c.Trusts)
	byIdent(c.Calendars)
	byIdent(c.Pools)
	byIdent(c.Remotes)
	byIdent(c.Vendors)
	byIdent(c.Overrides)
	byIdent(c.Expectations)
	byIdent(c.CommandLists)
	byIdent(c.Feeds)
	byIdent(c.Sources)
	byIdent(c.Scopes)
	byIdent(c.Subscribers)
	byIdent(c.DeviceKinds)
}

func byIdent[T any, P config.Object[T]](list []*T) {
	slices.SortStableFunc(list, func(a, b *T) int { return strings.Compare(P(a).Ident(), P(b).Ident()) })
}
