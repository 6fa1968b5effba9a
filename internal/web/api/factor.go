package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/manage/audit"
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
				out.Items = append(out.Items, factorView(&list[i]))
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
			return ok(factorView(t)), nil
		})
	huma.Register(s.api, operation("POST", "/factors", "enrol-factor", "Begin an enrolment; it counts once a code of "+
		"it was confirmed, in place of one that the person has"), func(ctx context.Context,
		in *struct{ Body apitype.FactorInput }) (*body[apitype.FactorOffer], error) {
		person, err := s.whom(ctx, in.Body.Store, in.Body.Person)
		if err != nil {
			return nil, err
		}
		audit.Of(ctx).On("factor", person.Store+"/"+person.Name, person.Name).Say("began to enrol a second factor of " +
			person.Name)
		offer, err := s.Factors.Enrol(ctx, factor.Request{Store: person.Store, Name: person.Name,
			Display: person.Display, Label: in.Body.Label, Seed: in.Body.Seed, Algorithm: in.Body.Algorithm,
			Digits: in.Body.Digits, Period: in.Body.Period, By: who(ctx).Name}, time.Now())
		if err != nil {
			return nil, factorFault(err)
		}
		return ok(apitype.FactorOffer{Factor: factorView(&offer.Token), Seed: offer.Seed, URI: offer.URI,
			QR: offer.QR}), nil
	})
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
			return ok(apitype.FactorRecovery{Codes: codes}), nil
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
		return nil, factorFault(s.Factors.Release(in.Ref))
	})
	huma.Register(s.api, operation("DELETE", "/factors/{ref}", "remove-factor",
		"Remove a second factor; it takes effect at once"), func(ctx context.Context, in *OneInput) (*struct{}, error) {
		s.noteFactor(ctx, "removed the second factor of", in.Ref)
		return nil, factorFault(s.Factors.Remove(ctx, in.Ref))
	})
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
	return nil, factorFault(factor.ErrNone)
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
		return nil, faulty("person", strings.Join(said, "; "), "Check the spelling of the name: it is the one that "+
			"the directory has.")
	case 1:
		return found[0], nil
	}
	return nil, faulty("store", fmt.Sprintf("%s is known in %s and in %s", name, found[0].Store, found[1].Store),
		"Say which of them is meant.")
}

func factorView(t *factor.Token) apitype.Factor {
	out := apitype.Factor{ID: t.ID, Store: t.Store, Person: t.Name, Display: t.Display, Label: t.Label,
		Algorithm: t.Algorithm, Digits: t.Digits, Period: t.Period, Confirmed: t.Confirmed,
		ClockOff: int(t.Skew) * t.Period, MadeAt: t.MadeAt, MadeBy: t.MadeBy, UsedOn: t.UsedOn,
		Recovery: t.RecoveryLeft, Wrong: t.Wrong}
	if !t.UsedAt.IsZero() {
		out.UsedAt = &t.UsedAt
	}
	if time.Now().Before(t.LockedUntil) {
		out.LockedUntil = &t.LockedUntil
	}
	return out
}
