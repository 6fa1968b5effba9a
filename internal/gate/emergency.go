package gate

import (
	"context"
	"log/slog"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/account"
)

// findEmergency finds who signs in with an emergency account: it works for signing in to the devices it is for, and
// only while no directory of the realm answers.
func (v *Visit) findEmergency(ctx context.Context, e *account.Emergency) reason.Code {
	sealed := func(why string) reason.Code {
		v.Facts.Credential, v.Facts.CredentialDetail = reason.EmergencySealed, why
		return reason.EmergencySealed
	}
	switch {
	case !v.Facts.Administers():
		return sealed("it is for signing in to devices, and for nothing else")
	case !e.For(&v.Facts):
		return sealed("it is not for " + v.Facts.Client + ", but for those where " + e.Wanted())
	}
	directories := 0
	for i := range v.before.Realm.Lookup {
		step := &v.before.Realm.Lookup[i]
		if strings.EqualFold(step.Store, config.LocalStore) {
			continue
		}
		directories++
		at := time.Now()
		_, outcome, detail := v.snapshot.Directory(step.Store).Find(ctx, v.before.Name)
		v.Facts.Lookups = append(v.Facts.Lookups, facts.Lookup{Store: step.Store, Outcome: outcome, Detail: detail,
			Micros: time.Since(at).Microseconds()})
		switch outcome {
		case reason.DirectoryUnreachable, reason.DirectoryBind, reason.DirectoryFailed:
		default:
			return sealed(step.Store + " answers")
		}
	}
	if directories == 0 {
		return sealed("realm " + v.before.Realm.Name + " looks in no directory, so none is down")
	}
	return v.claimed(e.Person)
}

// noteEmergency stores that a seal was broken, and says so loudly.
func (v *Visit) noteEmergency() {
	p := v.Facts.Person
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if err := v.gate.Accounts.Opened(ctx, p.Name, v.Facts.Client, v.Facts.At); err != nil {
		slog.Error("the use of an emergency account could not be stored", "account", p.Name, "error", err)
	}
	slog.Warn("an emergency account was used, since no directory answers", "account", p.Name, "client", v.Facts.Client,
		"from", v.Facts.From)
}
