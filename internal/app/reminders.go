package app

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/mail"
	"tollgate.example/key/internal/manage/readiness"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/portal"
)

const (
	// remindEvery is how often it is looked for people to remind, from remindFrom to remindTo o'clock.
	remindEvery          = time.Hour
	remindFrom, remindTo = 7, 18
	// remindDays is how far back sign-ins are looked at; remindAgain is how often one person is reminded, remindLate in
	// the last days, which remindLast are.
	remindDays  = 14
	remindAgain = 7 * 24 * time.Hour
	remindLate  = 22 * time.Hour
	remindLast  = 3 * 24 * time.Hour
	// remindAtOnce bounds the mails of one time, remindPatience how long those may take.
	remindAtOnce   = 500
	remindPatience = 2 * time.Minute
	// remindLife is how long the link of a reminder is good.
	remindLife = 72 * time.Hour
)

// reader reads who is ready for a second factor.
func (a *App) reader() *readiness.Reader {
	return readiness.NewReader(readiness.Reader{Facts: a.Attempts.Facts, Enrolled: a.factors.Ready,
		Accounts: func() (out []readiness.Person) {
			for _, one := range a.Gate.Accounts.List("") {
				if one.Enabled && one.Emergency == "" {
					out = append(
						out,
						readiness.Person{Store: config.LocalStore, Name: one.Name, Display: one.Display,
							Groups: one.Groups},
					)
				}
			}
			return out
		}})
}

// remindDaily reminds people by day.
func (a *App) remindDaily(ctx context.Context) {
	tick := time.NewTicker(remindEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		now := time.Now()
		if hour := now.Local().Hour(); hour < remindFrom || hour >= remindTo || !a.cluster.First() {
			continue
		}
		if err := a.Remind(ctx, now); err != nil && ctx.Err() == nil {
			a.log.Warn("reminding people of their second factor by mail", "error", err)
		}
	}
}

// Remind sends a mail to people whom a lane admits for now although they have no second factor, with the day on which
// that ends and a link to set theirs up. It leaves out whom it reminded lately. Nothing is sent where no lane in effect
// has such a day, or this node serves no pages for people or sends no mail.
func (a *App) Remind(ctx context.Context, now time.Time) error {
	until := a.graceEnds(now)
	if a.post == nil || a.PortalURL == "" || until.IsZero() {
		return nil
	}
	report, err := a.ready.Report(ctx, remindDays)
	if err != nil {
		return err
	}
	before, err := a.store.Reminders(ctx)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, remindPatience)
	defer cancel()
	var messages []mail.Message
	var whom, noted []store.Reminder
	for i := range report.People {
		p := &report.People[i]
		at := before[strings.ToLower(p.Store)+"\x00"+strings.ToLower(p.Name)]
		if p.Enrolled || p.Graced.IsZero() || !dueAgain(at, until, now) || len(messages) >= remindAtOnce {
			continue
		}
		one := store.Reminder{Store: p.Store, Name: p.Name, At: now.UnixMilli()}
		person := a.look(ctx, p.Store, p.Name)
		if person == nil || person.Mail() == "" {
			noted = append(noted, one) // looked for again when the next reminder would be due
			continue
		}
		link := portal.Invitation{Store: person.Store, Name: person.Name, Display: person.Display,
			Has: a.factors.Of(person.Store, person.Name), Until: now.Add(remindLife)}
		messages = append(messages, mail.Message{To: person.Mail(), Subject: portal.ReminderSubject,
			Text: portal.ReminderText(cmp.Or(person.Display, person.Name), a.PortalURL+"/enrol?t="+link.Token(a.box),
				until, link.Until)})
		whom = append(whom, one)
	}
	sent, failed := 0, error(nil)
	if len(messages) > 0 {
		for i, err := range a.post.Send(ctx, messages) {
			if err != nil {
				failed = err
				continue
			}
			noted = append(noted, whom[i])
			sent++
		}
	}
	if err := a.store.SaveReminders(context.WithoutCancel(ctx), noted, now.Add(-2*remindAgain)); err != nil {
		return err
	}
	if sent > 0 {
		err = a.trail.Put(context.WithoutCancel(ctx), audit.Line{Actor: audit.Actor{How: "service"},
			Call: "remind-factors", Kind: "factor", Result: audit.Done,
			What: fmt.Sprintf("reminded %d people by mail to set up a second factor until %s", sent,
				until.Local().Format(time.DateOnly))})
	}
	if failed != nil {
		return failed
	}
	return err
}

// dueAgain reports whether somebody who was reminded at a moment, zero for never, is to be reminded now.
func dueAgain(at, until, now time.Time) bool {
	switch since := now.Sub(at); {
	case at.IsZero(), since < 0: // reminded while the clock was ahead
		return true
	case until.Sub(now) <= remindLast:
		return since >= remindLate
	default:
		return since >= remindAgain
	}
}

// graceEnds is the first day on which a lane in effect admits people without a second factor no more, zero for none.
func (a *App) graceEnds(now time.Time) (first time.Time) {
	for _, l := range a.Gate.Current().Plan.Lanes {
		if until := l.Factor.Until; l.SecondFactor != "" && until.After(now) &&
			(first.IsZero() || until.Before(first)) {
			first = until
		}
	}
	return first
}

// look finds somebody where people are kept now, nil if that cannot be told.
func (a *App) look(ctx context.Context, store, name string) *facts.Person {
	if strings.EqualFold(store, config.LocalStore) {
		return a.Gate.Accounts.Person(name, time.Now())
	}
	d := a.Gate.Current().Directory(store)
	if d == nil {
		return nil
	}
	if person, code, _ := d.Find(ctx, name); code == reason.OK {
		return person
	}
	return nil
}

// maxTelling bounds the mails about changes that are under way.
const maxTelling = 20

// tellChange writes to a person whose second factors were changed. It does not wait; whoever has no address, or comes
// while very many are written to, gets none.
func (a *App) tellChange(who *portal.Invitation, what portal.Change) {
	if a.post == nil {
		return
	}
	select {
	case a.telling <- struct{}{}:
	default:
		return
	}
	at := time.Now()
	go func() {
		defer func() { <-a.telling }()
		defer a.panicked.Catch(func() string { return "writing to " + who.Name }, nil)
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		person := a.look(ctx, who.Store, who.Name)
		if person == nil || person.Mail() == "" {
			return
		}
		err := a.post.Send(ctx, []mail.Message{{To: person.Mail(), Subject: portal.ChangeSubject,
			Text: portal.ChangeText(cmp.Or(person.Display, person.Name), what, at)}})[0]
		if err != nil {
			a.log.Warn("writing to somebody whose second factor was changed", "who", who.Name, "error", err)
		}
	}()
}
