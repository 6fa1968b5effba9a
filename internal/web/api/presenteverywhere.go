package api

import (
	"context"
	"encoding/json"
	"net/http"
	"net/netip"
	"slices"
	"strconv"

	"tollgate.example/key/internal/web/apitype"
)

// presentPaths are the calls that tell who is where. Every node knows all of that; of which somebody is limited to some
// clients may know, the node knows that has the sessions of those.
var presentPaths = set("/presence", "/presence/who")

// presentEverywhere answers a limited operator who is where, by the sessions of all nodes.
func (s *server) presentEverywhere(w http.ResponseWriter, r *http.Request, next http.Handler) {
	ctx, cancel := context.WithTimeout(r.Context(), nodePatience)
	defer cancel()
	here := &kept{header: http.Header{}, status: http.StatusOK}
	next.ServeHTTP(here, r)
	if here.status != http.StatusOK && here.status != http.StatusForbidden {
		here.send(w)
		return
	}
	list := s.askOthers(ctx, r, here, nil)
	list[0].refused = here.status == http.StatusForbidden
	for i := range list {
		if list[i].refused { // another node may know more of those clients
			list[i].body = []byte("null")
		}
	}
	list = s.withCopies(r, list, next, nil)
	var out any
	if r.URL.Path == "/api/v1/presence" {
		limit, err := strconv.Atoi(r.URL.Query().Get("limit"))
		if err != nil {
			limit = defaultLimit
		}
		out = joinPresent(list, limit)
	} else if answer := joinStandings(list); answer != nil {
		out = answer
	} else { // no node may tell
		here.send(w)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(out)
}

// send sends what was kept.
func (k *kept) send(w http.ResponseWriter) {
	for name, v := range k.header {
		w.Header()[name] = v
	}
	w.WriteHeader(k.status)
	w.Write(k.body.Bytes())
}

// joinPresent brings pages together, by address. Where one goes on, what others have beyond that is left for the next.
func joinPresent(list []gathered, limit int) apitype.PresencePage {
	out := apitype.PresencePage{Items: []apitype.Presence{}, Complete: true}
	type place struct{ address, ports, who string }
	known := map[place]bool{}
	at := func(text string) netip.Addr {
		a, _ := netip.ParseAddr(text)
		return a
	}
	for _, one := range list {
		var page *apitype.PresencePage
		if one.body == nil || json.Unmarshal(one.body, &page) != nil {
			out.Missing = append(out.Missing, one.node)
			continue
		}
		if page == nil {
			continue
		}
		out.Total, out.Complete = out.Total+page.Total, out.Complete && page.Complete
		if page.Next != "" && (out.Next == "" || at(page.Next).Less(at(out.Next))) {
			out.Next = page.Next
		}
		for _, e := range page.Items {
			if key := (place{e.Address, e.Ports, e.Who}); !known[key] {
				known[key] = true
				out.Items = append(out.Items, e)
			}
		}
	}
	slices.SortStableFunc(out.Items, func(a, b apitype.Presence) int { return at(a.Address).Compare(at(b.Address)) })
	for i := range out.Items {
		beyond := out.Next != "" && at(out.Next).Less(at(out.Items[i].Address))
		if full := i > 0 && i >= limit && out.Items[i].Address != out.Items[i-1].Address; i > 0 && (beyond || full) {
			out.Next, out.Items = out.Items[i-1].Address, out.Items[:i]
			break
		}
	}
	return out
}

// joinStandings brings what nodes tell of an address together: the strongest claims first, as each tells those that it
// may; nil if none may tell anything.
func joinStandings(list []gathered) (out *apitype.PresenceAnswer) {
	var missing []string
	for _, one := range list {
		var answer *apitype.PresenceAnswer
		switch {
		case one.body == nil || json.Unmarshal(one.body, &answer) != nil:
			missing = append(missing, one.node)
		case answer == nil:
		case out == nil:
			out = answer
		default:
			for _, standing := range answer.Standings {
				if !slices.ContainsFunc(out.Standings, func(have apitype.Standing) bool {
					return have.Who == standing.Who && have.Source == standing.Source && have.Ports == standing.Ports
				}) {
					out.Standings = append(out.Standings, standing)
				}
			}
		}
	}
	if out != nil {
		out.Missing = missing
	}
	return out
}
