package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/readiness"
	"tollgate.example/key/internal/web/apitype"
)

// factors are the calls about second factors.
func (s *server) factors() {
	huma.Register(s.api, operation("GET", "/factors", "list-factors", "Second factors, by person"),
		func(_ context.Context, in *ListInput) (*body[apitype.Page[apitype.Factor]], error) {
			list := s.Factors.List(in.Query)
			for i := range list {
				if list[i].ID == in.After {
					list = list[i+1:]
					break
				}
			}
			out := apitype.Page[apitype.Factor]{Items: []apitype.Factor{}}
			for i := range list[:min(len(list), in.Limit)] {
				out.Items = append(out.Items, s.factorView(&list[i]))
			}
			if len(list) > in.Limit {
				out.Next = list[in.Limit-1].ID
			}
			return ok(out), nil
		})
	huma.Register(s.api, operation("GET", "/factors/{ref}", "get-factor", "Show one second factor"),
		func(_ context.Context, in *OneInput) (*body[apitype.Factor], error) {
			t, err := s.factor(in.Ref)
			if err != nil {
				return nil, err
			}
			return ok(s.factorView(t)), nil
		})
	huma.Register(
		s.api,
		operation("POST", "/factors", "enrol-factor", "Begin an enrolment; it counts once a code of "+
			"it was confirmed, beside other devices of the person"),
		func(ctx context.Context,
			in *struct{ Body apitype.FactorInput }) (*body[apitype.FactorOffer], error) {
			person, err := s.whom(ctx, in.Body.Store, in.Body.Person)
			if err != nil {
				return nil, err
			}
			audit.Of(ctx).
				On("factor", person.Store+"/"+person.Name, person.Name).
				Say("began to enrol a second factor of " +
					person.Name)
			offer, err := s.Factors.Enrol(ctx, factor.Request{Store: person.Store, Name: person.Name,
				Display: person.Display, Label: in.Body.Label, Seed: in.Body.Seed, Algorithm: in.Body.Algorithm,
				Digits: in.Body.Digits, Period: in.Body.Period, Replaces: in.Body.Replace,
				By: who(ctx).Name}, time.Now())
			if err != nil {
				return nil, factorFault(err)
			}
			return ok(apitype.FactorOffer{Factor: factorView(&offer.Token), Seed: offer.Seed, URI: offer.URI,
				QR: offer.QR}), nil
		},
	)
	huma.Register(s.api, operation("POST", "/factors/{ref}/confirm", "confirm-factor",
		"End an enrolment with the code that the device shows; the recovery codes are shown once"),
		func(ctx context.Context, in *struct {
			OneInput
			Body apitype.FactorCode
		}) (*body[apitype.FactorRecovery], error) {
			s.noteFactor(ctx, "confirmed the second factor of", in.Ref)
			codes, err := s.Factors.Confirm(ctx, in.Ref, in.Body.Code, time.Now())
			if err != nil {
				return nil, factorFault(err)
			}
			return ok(apitype.FactorRecovery{Codes: append([]string{}, codes...)}), nil
		})
	huma.Register(s.api, operation("POST", "/factors/{ref}/recovery", "renew-recovery-codes",
		"Make new recovery codes, which are shown once; the old ones count no more"), func(ctx context.Context,
		in *OneInput) (*body[apitype.FactorRecovery], error) {
		s.noteFactor(ctx, "made new recovery codes of", in.Ref)
		codes, err := s.Factors.Recover(ctx, in.Ref)
		if err != nil {
			return nil, factorFault(err)
		}
		return ok(apitype.FactorRecovery{Codes: codes}), nil
	})
	huma.Register(s.api, operation("POST", "/factors/{ref}/release", "release-factor",
		"Look at the codes of somebody again who gave too many wrong ones"), func(ctx context.Context,
		in *OneInput) (*struct{}, error) {
		s.noteFactor(ctx, "released the second factor of", in.Ref)
		if t := s.Factors.Get(in.Ref); t != nil {
			s.ReleaseApprovals(t.Store, t.Name)
		}
		return nil, factorFault(s.Factors.Release(ctx, in.Ref))
	})
	huma.Register(s.api, operation(
		"DELETE",
		"/factors/{ref}",
		"remove-factor",
		"Remove a second factor; it takes effect at once",
	), func(ctx context.Context, in *OneInput) (*struct{}, error) {
		s.noteFactor(ctx, "removed the second factor of", in.Ref)
		return nil, factorFault(s.Factors.Remove(ctx, in.Ref, time.Now()))
	})
}

// temporaryHours is for how long a temporary code is good unless it is said.
const temporaryHours = 24

// temporaryCodes are the calls about codes for people whose device is not at hand.
func (s *server) temporaryCodes() {
	huma.Register(s.api, operation(
		"POST",
		"/temporary-codes",
		"give-temporary-code",
		"Make a code for somebody whose device is not at hand; it is shown once, and replaces one from before",
	),
		func(ctx context.Context, in *struct{ Body apitype.TemporaryInput }) (*body[apitype.TemporaryCode], error) {
			person, err := s.whom(ctx, in.Body.Store, in.Body.Person)
			if err != nil {
				return nil, err
			}
			now := time.Now()
			until := now.Add(time.Duration(cmp.Or(in.Body.Hours, temporaryHours)) * time.Hour).Truncate(time.Second)
			audit.Of(ctx).On("factor", person.Store+"/"+person.Name, person.Name).
				Say("gave " + person.Name + " a temporary code until " + until.UTC().Format("2006-01-02 15:04 UTC"))
			code, err := s.Factors.GiveTemporary(
				ctx,
				person.Store,
				person.Name,
				person.Display,
				until,
				in.Body.Once,
				now,
			)
			if err != nil {
				return nil, factorFault(err)
			}
			return ok(apitype.TemporaryCode{Person: person.Name, Store: person.Store, Code: code, Until: until,
				Once: in.Body.Once}), nil
		})
	huma.Register(s.api, operation("DELETE", "/factors/{ref}/temporary", "end-temporary-code",
		"Take a temporary code of the person back"), func(ctx context.Context, in *OneInput) (*struct{}, error) {
		s.noteFactor(ctx, "took back the temporary code of", in.Ref)
		return nil, factorFault(s.Factors.EndTemporary(ctx, in.Ref))
	})
}

// readiness tells who is ready for a second factor.
func (s *server) readiness() {
	huma.Register(s.api, operation("GET", "/factor-readiness", "get-factor-readiness",
		"Who has a second factor and who has none, by group, of those who signed in lately or have an account"),
		func(ctx context.Context, in *struct {
			Group   string `query:"group" maxLength:"300" doc:"Lists the people of this group; everybody if it is empty"`
			Days    int    `query:"days" minimum:"1" maximum:"90" default:"30" doc:"How far back attempts are looked at"`
			Without bool   `query:"without" doc:"Lists only people who have none"`
			Limit   int    `query:"limit" minimum:"0" maximum:"5000" default:"500" doc:"People that are listed at most"`
		}) (*body[apitype.Readiness], error) {
			report, err := s.Ready.Report(ctx, in.Days)
			if err != nil {
				return nil, err
			}
			return ok(s.readinessView(report, in.Group, in.Without, in.Limit)), nil
		})
}

func (s *server) readinessView(r *readiness.Report, group string, without bool, limit int) apitype.Readiness {
	out := apitype.Readiness{BackTo: r.BackTo, Groups: []apitype.ReadyGroup{}, People: []apitype.ReadyPerson{}}
	for _, g := range r.Groups {
		one := apitype.ReadyGroup{Group: g.Name, People: g.People, Enrolled: g.Enrolled, Without: g.Without(),
			Graced: g.Graced, Failing: g.Failing}
		if g.Name == "" {
			out.Everybody = one
			continue
		}
		out.Groups = append(out.Groups, one)
	}
	for i := range r.People {
		p := &r.People[i]
		if !p.Has(group) || without && p.Enrolled {
			continue
		}
		if len(out.People) == limit {
			out.More++
			continue
		}
		one := apitype.ReadyPerson{Person: p.Name, Display: p.Display, Store: p.Store, Enrolled: p.Enrolled,
			Locked: p.Locked, Failed: p.Failed, Groups: p.Groups}
		for to, at := range map[**time.Time]time.Time{&one.Seen: p.Seen, &one.Graced: p.Graced} {
			if !at.IsZero() {
				*to = &at
			}
		}
		if p.Enrolled {
			one.With = s.ways(p.Store, p.Name)
		}
		if one.Groups == nil {
			one.Groups = []string{}
		}
		out.People = append(out.People, one)
	}
	return out
}

// ways names what a person's second factor is.
func (s *server) ways(store, name string) (list []string) {
	for _, t := range s.Factors.OfPerson(store, name, time.Now()) {
		if kind := cmp.Or(t.Kind, "code"); t.Confirmed && !slices.Contains(list, kind) {
			list = append(list, kind)
		}
	}
	return list
}

// noteFactor says whose second factor a call is about.
func (s *server) noteFactor(ctx context.Context, what, ref string) {
	if t := s.Factors.Get(ref); t != nil {
		audit.Of(ctx).On("factor", t.Store+"/"+t.Name, t.Name).Say(what + " " + t.Name)
	}
}

func (s *server) factor(ref string) (*factor.Token, error) {
	if t := s.Factors.Get(ref); t != nil {
		return t, nil
	}
	var found []factor.Token
	for _, t := range s.Factors.List(ref) { // by the person, or by what the device is called
		if t.Confirmed && (strings.EqualFold(t.Name, ref) || strings.EqualFold(t.Label, ref)) {
			found = append(found, t)
		}
	}
	switch len(found) {
	case 0:
		return nil, factorFault(factor.ErrNone)
	case 1:
		return &found[0], nil
	}
	var labels []string
	for _, t := range found[:min(len(found), 10)] {
		labels = append(labels, fmt.Sprintf("%s (%s)", cmp.Or(t.Label, "without a name"), t.ID))
	}
	return nil, problem(http.StatusConflict, fmt.Sprintf("there are several second factors of %s: %s", ref,
		strings.Join(labels, ", ")), "Give the identifier of one of them.")
}

func factorFault(err error) error {
	var field *factor.FieldError
	switch {
	case errors.As(err, &field):
		return faulty(field.Field, field.Message, field.Remedy)
	case errors.Is(err, factor.ErrNone):
		return problem(http.StatusNotFound, err.Error(), "Look at the list: it may have been replaced by another "+
			"enrolment.")
	}
	return err
}

// whom finds the person to enrol where people are kept now.
func (s *server) whom(ctx context.Context, where, name string) (*facts.Person, error) {
	if name = strings.TrimSpace(name); name == "" {
		return nil, faulty("person", "nobody is named", "Give the name with which the person signs in.")
	}
	current := s.Gate.Current()
	stores := []string{where}
	if where == "" {
		stores = []string{config.LocalStore}
		for i := range current.Plan.Config.Directories {
			stores = append(stores, current.Plan.Config.Directories[i].Name)
		}
	}
	var found []*facts.Person
	said := []string{}
	for _, store := range stores {
		person, code, detail := (*facts.Person)(nil), reason.PersonUnknown, ""
		if strings.EqualFold(store, config.LocalStore) {
			if person = s.Accounts.Person(name, time.Now()); person != nil {
				code = reason.OK
			}
		} else if d := current.Directory(store); d != nil {
			d.Forget(name)
			person, code, detail = d.Find(ctx, name)
		} else {
			return nil, faulty("store", fmt.Sprintf("there is no directory %q in effect", store),
				"Use local, or a directory that was published.")
		}
		if code == reason.OK {
			found = append(found, person)
		} else {
			text, _ := reason.Explain(code, map[string]string{"name": name, "store": store, "stores": store,
				"detail": detail})
			said = append(said, text)
		}
	}
	switch len(found) {
	case 0:
		return nil, faulty(
			"person",
			strings.Join(said, "; "),
			"Check the spelling of the name: it is the one that "+
				"the directory has.",
		)
	case 1:
		return found[0], nil
	}
	return nil, faulty("store", fmt.Sprintf("%s is known in %s and in %s", name, found[0].Store, found[1].Store),
		"Say which of them is meant.")
}

// factorView is a second factor with what the phone of its person was told.
func (s *server) factorView(t *factor.Token) apitype.Factor {
	out := factorView(t)
	until, alarm := s.ApprovalState(t.Store, t.Name)
	if out.Alarm = alarm; !until.IsZero() {
		out.PausedUntil = &until
	}
	return out
}

func factorView(t *factor.Token) apitype.Factor {
	out := apitype.Factor{ID: t.ID, Store: t.Store, Person: t.Name, Display: t.Display, Label: t.Label,
		Kind:      cmp.Or(t.Kind, "code"),
		Algorithm: t.Algorithm, Digits: t.Digits, Period: t.Period, Confirmed: t.Confirmed,
		ClockOff: int(t.Skew) * t.Period, MadeAt: t.MadeAt, MadeBy: t.MadeBy, UsedOn: t.UsedOn,
		Recovery: t.RecoveryLeft, Wrong: t.Wrong, Keyed: t.Keyed}
	if !t.UsedAt.IsZero() {
		out.UsedAt = &t.UsedAt
	}
	if time.Now().Before(t.LockedUntil) {
		out.LockedUntil = &t.LockedUntil
	}
	if !t.TemporaryUntil.IsZero() {
		out.TemporaryUntil = &t.TemporaryUntil
	}
	return out
}
