package presence

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"tollgate.example/key/internal/core/facts"
	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/store"
)

// shelf is a store that may fail.
type shelf struct {
	rows map[string]store.DeviceTraits
	full bool
}

func (s *shelf) DeviceTraits(context.Context, int) (out []store.DeviceTraits, err error) {
	for _, r := range s.rows {
		out = append(out, r)
	}
	return out, nil
}

func (s *shelf) SaveDeviceTraits(_ context.Context, list []store.DeviceTraits, forget []string) error {
	if s.full {
		return errors.New("the disk is full")
	}
	for _, mac := range forget {
		delete(s.rows, mac)
	}
	for _, r := range list {
		s.rows[r.MAC] = r
	}
	return nil
}

func traitsKeeper(s *shelf, now *time.Time) (k *Keeper, told *[]store.DeviceTraits) {
	told = &[]store.DeviceTraits{}
	return Open(Options{Traits: s, Log: slog.New(slog.DiscardHandler), Now: func() time.Time { return *now },
		TellTraits: func(t *store.DeviceTraits) { *told = append(*told, *t) }}), told
}

func TestWhatIsSeenOfDevices(t *testing.T) {
	now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	s := &shelf{rows: map[string]store.DeviceTraits{}}
	k, told := traitsKeeper(s, &now)
	source := &Source{}
	mac := core.ParseMAC("02-00-5e-00-00-01")
	k.Notice(source, mac, facts.Traits{Host: "off"}, now) // a source that is switched off
	if source.Enabled = true; k.Traits("02-00-5e-00-00-01") != nil {
		t.Fatal("a source that is switched off has seen something")
	}
	k.Notice(source, mac, facts.Traits{}, now)
	k.Notice(source, 0, facts.Traits{Host: "nowhere"}, now)
	k.Notice(source, mac, facts.Traits{Host: "desk-1", Fingerprint: "1,3"}, now)
	k.Notice(source, mac, facts.Traits{Host: "desk-1"}, now.Add(time.Minute)) // nothing new
	k.Notice(source, mac, facts.Traits{VendorClass: "quay"}, now.Add(time.Minute))
	k.Notice(source, mac, facts.Traits{Host: "late"}, now.Add(-time.Minute))
	if got := k.Traits("02:00:5E:00:00:01"); got == nil ||
		*got != (facts.Traits{Host: "desk-1", Fingerprint: "1,3", VendorClass: "quay"}) {
		t.Errorf("%+v", got)
	}
	k.saveTraits(t.Context())
	if len(*told) != 1 || !k.Devices(nil)[0].Seen.Equal(now.Add(time.Minute)) {
		t.Errorf("told %+v, seen %v", *told, k.Devices(nil)[0].Seen)
	}
	k.Notice(source, mac, facts.Traits{Fingerprint: "1,121"}, now.Add(2*time.Minute)) // it runs another system now
	if got := k.Traits("02-00-5e-00-00-01"); got == nil ||
		*got != (facts.Traits{Host: "desk-1", Fingerprint: "1,121"}) {
		t.Errorf("%+v", got)
	}
	k.Notice(source, mac, facts.Traits{VendorClass: "quay"}, now.Add(2*time.Minute))
	s.full, s.rows = true, map[string]store.DeviceTraits{}
	k.saveTraits(t.Context())
	if s.full = false; len(s.rows) != 0 {
		t.Error("stored on a full disk")
	}
	k.saveTraits(t.Context())
	now = now.Add(3 * time.Minute)
	other, _ := traitsKeeper(s, &now)
	if err := other.loadTraits(t.Context()); err != nil {
		t.Fatal(err)
	}
	if got := other.Traits("02-00-5e-00-00-01"); got == nil || got.VendorClass != "quay" {
		t.Errorf("after a restart %+v", got)
	}
	other.HeardTraits(&store.DeviceTraits{MAC: "02-00-5e-00-00-01", Host: "desk-2",
		SeenAt: now.AddDate(1, 0, 0).UnixMilli()})
	if list := other.TraitsSince(now); len(list) != 1 || list[0].Host != "desk-2" || list[0].SeenAt > now.UnixMilli() {
		t.Errorf("of a node whose clock is ahead: %+v", list)
	}
}

func TestDevicesThatAreMadeUpPushNobodyOut(t *testing.T) {
	now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	s := &shelf{rows: map[string]store.DeviceTraits{}}
	k, _ := traitsKeeper(s, &now)
	source := &Source{}
	source.Enabled = true
	flood := func(n int, from int) {
		for i := range n {
			k.Notice(source, core.MAC(from+i), facts.Traits{Host: fmt.Sprint("h", i)}, now)
		}
	}
	flood(10*maxNewDevices, 1)
	if n := len(k.Devices(nil)); n != maxNewDevices {
		t.Errorf("%d devices are remembered after a flood", n)
	}
	for i := 1; len(k.traits.of) < maxDevices; i++ {
		now = now.Add(2 * time.Minute)
		flood(maxNewDevices, 1_000_000*i)
	}
	k.Notice(source, 1, facts.Traits{Host: "again"}, now)
	now = now.Add(2 * time.Minute)
	flood(1, 1_000_000_000)
	if n := len(k.traits.of); n > maxDevices || n < maxDevices*8/10 {
		t.Errorf("%d devices are remembered", n)
	}
	if k.traits.of[1] == nil || k.traits.of[2] != nil {
		t.Error("the oldest do not give way")
	}
	for len(k.traits.dirty) > 0 {
		k.saveTraits(t.Context())
	}
	if len(s.rows) != len(k.traits.of) {
		t.Errorf("%d rows of %d devices", len(s.rows), len(k.traits.of))
	}
}

// A device that says something else each time costs the disk and the other nodes one word a second.
func TestADeviceThatChangesFloodsNobody(t *testing.T) {
	now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	s := &shelf{rows: map[string]store.DeviceTraits{}}
	k, told := traitsKeeper(s, &now)
	source := &Source{}
	source.Enabled = true
	mac := core.ParseMAC("02-00-5e-00-00-01")
	for i := range 20_000 {
		k.Notice(source, mac, facts.Traits{Host: fmt.Sprint("h", i)}, now)
	}
	k.saveTraits(t.Context())
	if len(*told) != 1 || (*told)[0].Host != "h19999" || len(s.rows) != 1 {
		t.Errorf("%d words are told, %d rows stored", len(*told), len(s.rows))
	}
	k.HeardTraits(&store.DeviceTraits{MAC: "02-00-5e-00-00-02", Host: "there", SeenAt: now.UnixMilli()})
	k.saveTraits(t.Context())
	if len(*told) != 1 || len(s.rows) != 2 {
		t.Errorf("what another node told is told again: %+v", *told)
	}
}
