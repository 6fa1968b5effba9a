package api

import (
	"cmp"
	"context"
	"math"
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
	// since is where the answers of the present kind begin in list; they are sorted, the best first.
	since int
}

type hit struct {
	fit int
	apitype.Answer
}

// kind begins the answers of another kind.
func (h *hits) kind() { h.since = len(h.list) }

// add considers an answer that fits by one of the texts; what else was looked at, it fits in part.
func (h *hits) add(answer func() apitype.Answer, texts ...string) {
	best := fitsPart
	for _, text := range texts {
		best = min(best, fit(text, h.query))
	}
	h.keep(best, answer)
}

// keep takes an answer among the best few of its kind, if it is one of them; only then it is made, for every object
// that fits is considered, however many there are.
func (h *hits) keep(fit int, answer func() apitype.Answer) {
	of := h.list[h.since:]
	if len(of) == h.limit {
		if of[len(of)-1].fit <= fit {
			return
		}
		h.list = h.list[:len(h.list)-1]
		of = of[:len(of)-1]
	}
	at := h.since + len(of)
	for at > h.since && h.list[at-1].fit > fit {
		at--
	}
	h.list = slices.Insert(h.list, at, hit{fit, answer()})
}

// everything is a limit above what any list in memory holds.
const everything = math.MaxInt

// seek is how the objects of one kind of the draft are searched.
type seek func(ctx context.Context, h *hits)

func seeker[T any, P config.Object[T], In, Out any](s *server, k *kind[T, P, In, Out]) seek {
	return func(ctx context.Context, h *hits) {
		h.kind()
		sees := func(o *T) bool { return touch(ctx, o) == nil }
		found, _ := k.find(*k.list(s.Revisions.Draft()), &ListInput{Query: h.query, Limit: everything}, sees)
		for _, o := range found {
			texts, note := []string{P(o).Label()}, ""
			if c, client := any(o).(*config.Client); client {
				note = firstThree(c.Addresses)
				texts = append(texts, c.Addresses...)
			}
			h.add(func() apitype.Answer {
				return apitype.Answer{Kind: k.name, ID: P(o).Ident(), Name: P(o).Label(), Note: note,
					Page: "/" + k.plural + "/" + url.PathEscape(P(o).Ident())}
			}, texts...)
		}
	}
}

func firstThree(addresses []string) string {
	return strings.Join(addresses[:min(len(addresses), 3)], " ")
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
	h.kind()
	h.add(func() apitype.Answer {
		return apitype.Answer{Kind: "client", ID: best.ID, Name: best.Name, Page: "/clients/" + best.ID,
			Note: firstThree(best.Addresses)}
	}, h.query)
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
		h.kind()
		rows, err := s.Store.CopiedBest(ctx, d.ID, h.query, h.limit)
		if ctx.Err() != nil {
			return nil // the other answers do not wait for very many copies
		}
		if err != nil {
			return err
		}
		for _, p := range rows {
			h.add(func() apitype.Answer {
				return apitype.Answer{
					Kind: "person",
					ID:   p.ID,
					Name: cmp.Or(p.Display, p.Name),
					Note: p.Name + " in " + d.Name,
					Page: "/directories/" + d.ID + "?panel=person&person=" + url.QueryEscape(p.Name),
				}
			}, p.Name, p.Display)
		}
	}
	return nil
}

// seekPeople finds local accounts and known devices.
func (s *server) seekPeople(h *hits) {
	h.kind()
	accounts, _ := s.Gate.Accounts.Page(h.query, "", everything)
	if a := s.Gate.Accounts.Get(h.query); a != nil && !slices.Contains(accounts, a) {
		accounts = append(accounts, a)
	}
	for _, a := range accounts {
		h.add(func() apitype.Answer {
			return apitype.Answer{Kind: "account", ID: a.ID, Name: a.Name, Note: a.Display, Page: "/people/" + a.ID}
		}, a.Name, a.Display)
	}
	h.kind()
	query := strings.ToLower(inForm(h.query))
	devices, _ := s.Gate.Devices.Page(query, "", everything)
	for _, d := range devices {
		answer := func() apitype.Answer {
			return apitype.Answer{Kind: "device", ID: d.ID, Name: d.Match, Page: "/devices/" + d.ID,
				Note: strings.TrimSpace(d.Name + " " + d.Owner)}
		}
		if strings.EqualFold(d.Match, query) {
			h.keep(fitsWhole, answer)
			continue
		}
		h.add(answer, d.Match, d.Name, d.Owner)
	}
}

// seekSessions finds open sessions by person, device or address.
func (s *server) seekSessions(ctx context.Context, h *hits) {
	h.kind()
	mac, isMAC := facts.FormatMAC(h.query)
	filter := session.Filter{Text: h.query, Reach: s.reach(ctx)}
	if isMAC {
		filter.Text, filter.MAC = "", mac
	}
	open, _ := s.Sessions.List(filter)
	for _, one := range open {
		answer := func() apitype.Answer {
			return apitype.Answer{Kind: "session", ID: one.ID.String(), Name: cmp.Or(one.Display, one.Who, one.MAC),
				Note: strings.Join(strings.Fields(one.Address+" on "+one.Client+" "+one.Place), " "),
				Page: "/sessions/" + one.ID.String()}
		}
		if isMAC {
			h.keep(fitsWhole, answer)
			continue
		}
		h.add(answer, one.Who, one.Display, one.Address, one.MAC)
	}
}
