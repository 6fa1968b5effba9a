package api

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/certificate"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
)

const (
	shownMinutes  = 60
	shownRefusals = 8
	// recent is how long a problem of a contact asks for attention after it was seen last.
	recent       = 30 * time.Minute
	maxAttention = 12
)

func (s *server) now() {
	huma.Register(s.api, operation("GET", "/now", "get-now", "The last hour, and what needs attention"), func(ctx context.Context, _ *none) (*body[apitype.Now], error) {
		now := time.Now()
		out := apitype.Now{At: now, Minutes: []apitype.Minute{}, Refusals: []apitype.Attempt{}, MedianMicros: s.Tally.Median(), Waiting: s.Waiting(), Gear: s.GearOpen(), Lost: s.Writer.Lost()}
		drops := s.Sources.DropsByMinute()
		for m := now.Unix()/60 - shownMinutes + 1; m <= now.Unix()/60; m++ {
			count := s.Tally.Minute(m)
			out.Minutes = append(out.Minutes, apitype.Minute{At: time.Unix(m*60, 0), Admitted: count.Admitted, Refused: count.Refused, Dropped: drops[m]})
			out.Admitted += count.Admitted
			out.Refused += count.Refused
			out.Dropped += drops[m]
		}
		rows, err := s.refusals(ctx)
		if err != nil {
			return nil, err
		}
		for i := range rows {
			out.Refusals = append(out.Refusals, s.attemptView(ctx, &rows[i]))
		}
		out.Attention = s.attention(now)
		return ok(out), nil
	})
	huma.Register(s.api, operation("GET", "/contacts", "list-contacts", "Source addresses with a problem, unknown ones too"), func(_ context.Context, in *struct {
		Unknown bool `query:"unknown" doc:"Only addresses that are no client"`
	}) (*body[apitype.Page[apitype.Contact]], error) {
		out := apitype.Page[apitype.Contact]{Items: []apitype.Contact{}}
		names := s.clientNames()
		for _, c := range s.Sources.All() {
			if c.Problem == nil || in.Unknown && c.Client != "" {
				continue
			}
			if out.Items = append(out.Items, *contactView(&c, names[c.Client])); len(out.Items) == 500 {
				break
			}
		}
		return ok(out), nil
	})
	huma.Register(s.api, operation("DELETE", "/contacts/{address}", "forget-contact", "Forget an unknown source address"), func(_ context.Context, in *struct {
		Address string `path:"address" maxLength:"60"`
	}) (*struct{}, error) {
		addr, err := netip.ParseAddr(in.Address)
		if err != nil {
			return nil, problem(404, "there is no address "+in.Address, "")
		}
		s.Sources.Forget(addr)
		return nil, nil
	})
}

// refusals lists the newest refusal of each person and device.
func (s *server) refusals(ctx context.Context) ([]store.Attempt, error) {
	rows, err := s.Store.Attempts(ctx, store.Filter{Verdict: "refused", Span: store.Span{Since: time.Now().Add(-time.Hour)}, Limit: 200})
	if err != nil {
		return nil, err
	}
	var out []store.Attempt
	seen := map[string]bool{}
	for _, row := range rows {
		if key := row.Who + "\x00" + row.Reason; !seen[key] && len(out) < shownRefusals {
			seen[key] = true
			out = append(out, row)
		}
	}
	return out, nil
}

func (s *server) clientNames() map[string]string {
	c, _ := s.Revisions.Running()
	out := make(map[string]string, len(c.Clients))
	for i := range c.Clients {
		out[c.Clients[i].ID] = c.Clients[i].Name
	}
	return out
}

// attention lists what an operator should look at, the worst first.
func (s *server) attention(now time.Time) []apitype.Attention {
	out := []apitype.Attention{}
	names := s.clientNames()
	for _, c := range s.Sources.All() {
		if c.Problem == nil || !c.Current() && c.Problem.Fault != sources.SuspectSecret || now.Sub(c.Problem.Last) > recent {
			continue
		}
		sentence, remedy := c.Problem.Fault.Words()
		a := apitype.Attention{Severity: "fail", Link: "/clients", Action: "Open client",
			Text: fmt.Sprintf("Since %s, %d requests from %s. %s", c.Problem.Since.Format("15:04"), c.Problem.Count, c.Address, remedy)}
		if name := names[c.Client]; name != "" {
			a.Title = name + " " + sentence
			a.Link += "/" + c.Client
		} else {
			a.Title, a.Severity, a.Action = c.Address.String()+" "+sentence, "warn", "Add client"
			a.Link += "?add=" + c.Address.String()
		}
		out = append(out, a)
	}
	for _, a := range s.Accounts.Broken() {
		out = append(out, apitype.Attention{Severity: "fail", Title: fmt.Sprintf("Emergency account %s was used", a.Name), Link: "/people", Action: "Open people",
			Text: fmt.Sprintf("First at %s on %s, %d times since. Find out by whom, and seal it again: that gives it a new password.", a.OpenedAt.Format("2006-01-02 15:04"), a.OpenedOn, a.Uses)})
	}
	if lost := s.Writer.Lost(); lost > 0 {
		out = append(out, apitype.Attention{Severity: "fail", Title: fmt.Sprintf("%d attempts could not be recorded", lost), Text: "The disk is full or too slow; see the log of the service.", Link: "/attempts", Action: "Open attempts"})
	}
	c, _ := s.Revisions.Running()
	out = append(out, s.ailing()...)
	out = append(out, expiring(c)...)
	weak := map[string]bool{}
	running, _ := s.Revisions.CompiledRunning()
	for _, p := range s.Analyst.Problems(running) {
		if p.Kind == "lane" && strings.Contains(p.Message, config.WeakMark) {
			weak[p.Object] = true // a choice, marked in the lane; one line here is enough
			continue
		}
		out = append(out, warning(p))
	}
	if len(weak) > 0 {
		names := slices.Sorted(maps.Keys(weak))
		out = append(out, apitype.Attention{Severity: "warn", Title: fmt.Sprintf("%d of the lanes allow weak methods", len(weak)), Text: strings.Join(names, ", ") + ": each lane says what is exposed, and to whom.", Link: "/lanes", Action: "Open lanes"})
	}
	slices.SortStableFunc(out, func(a, b apitype.Attention) int { return strings.Compare(a.Severity, b.Severity) }) // fail before warn
	return out[:min(len(out), maxAttention)]
}

var plurals = map[string]string{"client": "clients", "directory": "directories", "realm": "realms", "lane": "lanes", "pass": "passes",
	"command-list": "commands", "authority": "authorities", "certificate": "certificates", "trust": "trusts"}

func warning(p config.Problem) apitype.Attention {
	return apitype.Attention{Severity: "warn", Title: fmt.Sprintf("%s: %s", p.Object, p.Message), Text: p.Remedy, Link: "/" + plurals[p.Kind] + "/" + p.ID, Action: "Open " + p.Kind}
}

// soon is how long before its end a certificate asks for attention.
const soon = 45

// expiring lists the certificates in use that end soon or have ended.
func expiring(c *config.Config) []apitype.Attention {
	var out []apitype.Attention
	add := func(kind, name, id, text string, leaf bool) {
		list, err := certificate.ParsePEM(text)
		if err != nil {
			return
		}
		if leaf {
			list = list[:1]
		}
		for _, cert := range list {
			days := left(cert.NotAfter)
			if days > soon {
				continue
			}
			a := apitype.Attention{Severity: "warn", Title: fmt.Sprintf("%s %s expires in %d days", kind, name, days), Link: "/" + plurals[kind] + "/" + id, Action: "Open " + kind,
				Text: fmt.Sprintf("%s, until %s. Replace it before then; what is shown to devices changes without a restart.", cert.Subject, cert.NotAfter.UTC().Format(time.DateOnly))}
			if days < 0 {
				a.Severity, a.Title = "fail", fmt.Sprintf("%s %s has expired", kind, name)
				a.Text = fmt.Sprintf("%s, until %s. Devices refuse it; replace it now.", cert.Subject, cert.NotAfter.UTC().Format(time.DateOnly))
			}
			out = append(out, a)
		}
	}
	for i := range c.Certificates {
		add("certificate", c.Certificates[i].Name, c.Certificates[i].ID, c.Certificates[i].Chain, true)
	}
	for i := range c.Authorities {
		add("authority", c.Authorities[i].Name, c.Authorities[i].ID, c.Authorities[i].Certificate, true)
	}
	for i := range c.Trusts {
		add("trust", c.Trusts[i].Name, c.Trusts[i].ID, c.Trusts[i].PEM, false)
	}
	return out
}
