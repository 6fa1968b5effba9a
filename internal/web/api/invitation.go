package api

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/mail"
	"tollgate.example/key/internal/manage/readiness"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/portal"
)

// invitationLife is how long an invitation lasts unless it is said, maxInvitations how many are made at once.
const (
	invitationLife = 72
	maxInvitations = 5000
)

// invitations make links by which people enrol by themselves.
func (s *server) invitations() {
	huma.Register(s.api, operation("POST", "/factor-invitations", "invite-factors",
		"Make links by which people set up their second factor themselves, each good once; they are shown once"),
		func(ctx context.Context, in *struct{ Body apitype.InvitationInput }) (*body[apitype.Invitations], error) {
			if s.Portal == "" {
				return nil, problem(http.StatusConflict, "this node serves no pages for people",
					"Start it with -portal ADDRESS, and -portal-url if people reach it by another one.")
			}
			people, err := s.invited(ctx, &in.Body)
			if err != nil {
				return nil, err
			}
			if in.Body.Mail && s.Mail == nil {
				return nil, problem(http.StatusConflict, "this node sends no mail",
					"Start it with -mail smtp://HOST:PORT and -mail-from ADDRESS, or give the links yourself.")
			}
			hours := cmp.Or(in.Body.Hours, invitationLife)
			until := time.Now().Add(time.Duration(hours) * time.Hour).Truncate(time.Second)
			out := apitype.Invitations{Items: []apitype.Invitation{}, Until: until}
			for _, p := range people {
				i := portal.Invitation{Store: p.Store, Name: p.Name, Display: p.Display,
					Has: s.Factors.Of(p.Store, p.Name), Replace: in.Body.Replace, Until: until}
				out.Items = append(out.Items, apitype.Invitation{Person: p.Name, Display: p.Display, Store: p.Store,
					Has: i.Has != "", Link: s.Portal + "/enrol?t=" + i.Token(s.Box)})
			}
			what := fmt.Sprintf("invited %d people to set up a second factor", len(people))
			if len(people) == 1 {
				what = "invited " + people[0].Name + " to set up a second factor"
				audit.Of(ctx).On("factor", people[0].Store+"/"+people[0].Name, people[0].Name)
			}
			if in.Body.Mail {
				what += fmt.Sprintf(" by mail, %d of %d sent", s.mailInvitations(ctx, &out, people), len(people))
			}
			audit.Of(ctx).Say(what)
			return ok(out), nil
		})
}

// invited are the people to invite: one by name, or those of a group who have none.
func (s *server) invited(ctx context.Context, in *apitype.InvitationInput) ([]facts.Person, error) {
	if in.Person != "" {
		person, err := s.whom(ctx, in.Store, in.Person)
		if err != nil {
			return nil, err
		}
		return []facts.Person{*person}, nil
	}
	if in.Group == "" {
		return nil, faulty("person", "nobody is named", "Name a person, or a group.")
	}
	report, err := s.Ready.Report(ctx, readiness.UsualDays)
	if err != nil {
		return nil, err
	}
	var out []facts.Person
	for i := range report.People {
		if p := &report.People[i]; p.Has(in.Group) && !p.Enrolled && len(out) < maxInvitations {
			out = append(out, facts.Person{Store: p.Store, Name: p.Name, Display: p.Display})
		}
	}
	if len(out) == 0 {
		return nil, faulty(
			"group",
			fmt.Sprintf("nobody of %q is without a second factor, of those who signed in lately",
				in.Group),
			"See who is ready.",
		)
	}
	return out, nil
}

// mailPatience is how long the mails of one call may take altogether.
const mailPatience = 50 * time.Second

// mailInvitations sends each link to its person, in place of showing it, and returns how many were sent.
func (s *server) mailInvitations(ctx context.Context, list *apitype.Invitations, people []facts.Person) (sent int) {
	ctx, cancel := context.WithTimeout(ctx, mailPatience)
	defer cancel()
	var messages []mail.Message
	var at []int
	for i := range list.Items {
		one := &list.Items[i]
		person, err := &people[i], error(nil)
		if person.Mail() == "" { // of a group, whose people were not looked up
			if person, err = s.whom(ctx, one.Store, one.Person); err != nil {
				one.Link, one.Problem = "", err.Error()
				continue
			}
		}
		if one.Mailed = person.Mail(); one.Mailed == "" {
			one.Link, one.Problem = "", "there is no mail address of this person"
			continue
		}
		messages = append(messages, mail.Message{To: one.Mailed, Subject: portal.InvitationSubject,
			Text: portal.InvitationText(cmp.Or(one.Display, one.Person), one.Link, list.Until)})
		at = append(at, i)
		one.Link = ""
	}
	if len(messages) == 0 {
		return 0
	}
	for i, err := range s.Mail.Send(ctx, messages) {
		one := &list.Items[at[i]]
		if err != nil {
			one.Mailed, one.Problem = "", err.Error()
			continue
		}
		sent++
	}
	return sent
}
