package api

import (
	"cmp"
	"context"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
)

// How well something fits a search, the best first.
const (
	fitsWhole = iota
	fitsStart
	fitsWord
	fitsPart
	fitsNot
)

// fit tells how well a text fits a query; both are compared without regard to case.
func fit(text, query string) int {
	text = strings.ToLower(text)
	at := strings.Index(text, query)
	switch {
	case at < 0:
		return fitsNot
	case text == query:
		return fitsWhole
	case at == 0:
		return fitsStart
	case strings.ContainsRune(" .-_@\\/", rune(text[at-1])):
		return fitsWord
	}
	return fitsPart
}

// hits collects what a search finds: of each kind the best few.
type hits struct {
	query string
	limit int
	list  []hit
}

type hit struct {
	fit int
	apitype.Answer
}

// add keeps an answer that fits by one of the texts; what else was looked at, it fits in part.
func (h *hits) add(a apitype.Answer, texts ...string) {
	best := fitsPart
	for _, text := range texts {
		best = min(best, fit(text, h.query))
	}
	h.list = append(h.list, hit{best, a})
}

// close keeps the best of those that one kind added since.
func (h *hits) close(since int) {
	slices.SortStableFunc(h.list[since:], func(a, b hit) int { return a.fit - b.fit })
	h.list = h.list[:min(len(h.list), since+h.limit)]
}

// lookedAt is how many objects of one kind that fit a search are compared.
const lookedAt = 200

// seek is how the objects of one kind of the draft are searched.
type seek func(ctx context.Context, h *hits)

func seeker[T any, P config.Object[T], In, Out any](s *server, k *kind[T, P, In, Out]) seek {
	return func(ctx context.Context, h *hits) {
		since := len(h.list)
		list := *k.list(s.Revisions.Draft())
		sees := func(o *T) bool { return touch(ctx, o) == nil }
		found, more := k.find(list, &ListInput{Query: h.query, Limit: lookedAt}, sees)
		if o, at := config.Find[T, P](list, h.query); more && at >= 0 && sees((*T)(o)) &&
			!slices.Contains(found, (*T)(o)) {
			found = append(found, (*T)(o))
		}
		for _, o := range found {
			a := apitype.Answer{Kind: k.name, ID: P(o).Ident(), Name: P(o).Label(),
				Page: "/" + k.plural + "/" + url.PathEscape(P(o).Ident())}
			texts := []string{a.Name}
			if c, client := any(o).(*config.Client); client {
				a.Note = strings.Join(c.Addresses[:min(len(c.Addresses), 3)], " ")
				texts = append(texts, c.Addresses...)
			}
			h.add(a, texts...)
		}
		h.close(since)
	}
}

func (s *server) search() {
	huma.Register(s.api, operation("GET", "/search", "search",
		"Find people, devices, addresses, clients and other objects by name; the best answer first"),
		func(ctx context.Context, in *struct {
			Query string `query:"q" required:"true" minLength:"1" maxLength:"200" doc:"Part of a name, a MAC or an IP address"`
			Limit int    `query:"limit" minimum:"1" maximum:"50" default:"5" doc:"Answers of each kind"`
		}) (*body[apitype.Answers], error) {
			h := &hits{query: strings.ToLower(strings.TrimSpace(in.Query)), limit: in.Limit}
			if h.query == "" {
				return nil, faulty("q", "there is nothing to search for", "Type part of a name or an address.")
			}
			role := who(ctx)
			if role.May(operator.Read) {
				for _, seek := range s.seeks {
					seek(ctx, h)
				}
				s.seekAddress(ctx, h)
				if err := s.seekCopies(ctx, h); err != nil {
					return nil, err
				}
			}
			s.seekPeople(h)
			s.seekSessions(ctx, h)
			if len(role.Limits) == 0 && role.May(operator.Watch) {
				s.seekPresence(h)
			}
			slices.SortStableFunc(h.list, func(a, b hit) int { return cmp.Compare(a.fit, b.fit) })
			out := apitype.Answers{Items: make([]apitype.Answer, 0, len(h.list)+1)}
			for _, found := range h.list {
				out.Items = append(out.Items, found.Answer)
			}
			out.Items = append(out.Items, apitype.Answer{Kind: "attempts", Name: in.Query,
				Note: "attempts with this text", Page: "/attempts?q=" + url.QueryEscape(in.Query)})
			return ok(out), nil
		})
}

// seekAddress finds the clients to which an address belongs, the longest prefix first.
func (s *server) seekAddress(ctx context.Context, h *hits) {
	addr, err := netip.ParseAddr(h.query)
	if err != nil {
		return
	}
	best, bits := (*config.Client)(nil), -1
	for _, c := range s.Revisions.Draft().Clients {
		for _, text := range c.Addresses {
			p, err := config.ParsePrefix(text)
			if err == nil && p.Contains(addr.Unmap()) && p.Bits() > bits && touch(ctx, c) == nil {
				best, bits = c, p.Bits()
			}
		}
	}
	if best == nil || slices.ContainsFunc(h.list, func(a hit) bool { return a.ID == best.ID }) {
		return
	}
	h.add(apitype.Answer{Kind: "client", ID: best.ID, Name: best.Name, Page: "/clients/" + best.ID,
		Note: strings.Join(best.Addresses[:min(len(best.Addresses), 3)], " ")}, h.query)
}

// copyPatience bounds the search among copies of people.
const copyPatience = time.Second

// seekCopies finds people among the copies that directories in use keep.
func (s *server) seekCopies(ctx context.Context, h *hits) error {
	ctx, cancel := context.WithTimeout(ctx, copyPatience)
	defer cancel()
	running, _ := s.Revisions.Running()
	for _, d := range running.Directories {
		if len(d.CopyBelow) == 0 {
			continue
		}
		since := len(h.list)
		rows, err := s.Store.CopiedList(ctx, store.CopiedFilter{Directory: d.ID, Text: h.query, Limit: lookedAt})
		if ctx.Err() != nil {
			return nil // the other answers do not wait for very many copies
		}
		if err != nil {
			return err
		}
		for _, p := range rows {
			h.add(
				apitype.Answer{
					Kind: "person",
					ID:   p.ID,
					Name: cmp.Or(p.Display, p.Name),
					Note: p.Name + " in " + d.Name,
					Page: "/directories/" + d.ID + "?panel=person&person=" + url.QueryEscape(p.Name),
				},
				p.Name,
				p.Display,
			)
		}
		h.close(since)
	}
	return nil
}

// seekPeople finds local accounts and known devices.
func (s *server) seekPeople(h *hits) {
	since := len(h.list)
	accounts, _ := s.Gate.Accounts.Page(h.query, "", lookedAt)
	if a := s.Gate.Accounts.Get(h.query); a != nil && !slices.Contains(accounts, a) {
		accounts = append(accounts, a)
	}
	for _, a := range accounts {
		h.add(apitype.Answer{Kind: "account", ID: a.ID, Name: a.Name, Note: a.Display, Page: "/people/" + a.ID},
			a.Name, a.Display)
	}
	h.close(since)
	since = len(h.list)
	query := strings.ToLower(inForm(h.query))
	devices, _ := s.Gate.Devices.Page(query, "", lookedAt)
	for _, d := range devices {
		a := apitype.Answer{Kind: "device", ID: d.ID, Name: d.Match, Note: strings.TrimSpace(d.Name + " " + d.Owner),
			Page: "/devices/" + d.ID}
		if strings.EqualFold(d.Match, query) {
			h.list = append(h.list, hit{fitsWhole, a})
			continue
		}
		h.add(a, d.Match, d.Name, d.Owner)
	}
	h.close(since)
}

// seekSessions finds open sessions by person, device or address.
func (s *server) seekSessions(ctx context.Context, h *hits) {
	since := len(h.list)
	mac, isMAC := facts.FormatMAC(h.query)
	filter := session.Filter{Text: h.query, Limit: lookedAt, Reach: s.reach(ctx)}
	if isMAC {
		filter.Text, filter.MAC = "", mac
	}
	open, _ := s.Sessions.List(filter)
	for _, one := range open {
		a := apitype.Answer{Kind: "session", ID: one.ID.String(), Name: cmp.Or(one.Display, one.Who, one.MAC),
			Note: strings.Join(strings.Fields(one.Address+" on "+one.Client+" "+one.Place), " "),
			Page: "/sessions/" + one.ID.String()}
		if isMAC {
			h.list = append(h.list, hit{fitsWhole, a})
			continue
		}
		h.add(a, one.Who, one.Display, one.Address, one.MAC)
	}
	h.close(since)
}
