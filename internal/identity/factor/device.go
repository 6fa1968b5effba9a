package factor

import (
	"slices"
	"time"

	"tollgate.example/key/internal/core/reason"
)

// take decides about a code of a device, and claims it.
func (t *kept) take(typed string, now time.Time) (reason.Code, string) {
	if t.Counted() {
		return t.takeCounted(typed)
	}
	base := now.Unix() / int64(t.Period)
	if t.step > base+t.Skew+wide { // taken while our clock was ahead: those stay used, but others need not be later
		t.step = 0
	}
	for _, off := range [...]int64{0, -window, window} {
		step := base + t.Skew + off
		if !t.shows(step, typed) {
			continue
		}
		if t.isUsed(step) {
			return reason.FactorUsed, ""
		}
		t.claim(step)
		t.learn(off)
		return reason.OK, ""
	}
	detail := ""
	for step := base - wide; step <= base+wide; step++ {
		if t.isUsed(step) || !t.shows(step, typed) {
			continue
		}
		behind := clockOff((step - base) * int64(t.Period))
		if t.far != 0 && step == t.far+1 {
			t.claim(step)
			t.Skew = step - base
			return reason.OK, "the second code in a row from a clock that is " + behind +
				"; that is taken into account from now on"
		}
		t.far, detail = step, "it fits a clock that is "+behind+"; the next code from there sets that right. "
		break
	}
	return reason.FactorWrong, detail
}

// wouldTake reports whether a code counts now, without claiming it.
func (t *kept) wouldTake(typed string, now time.Time) bool {
	if t.Counted() {
		for step := t.step + 1; step <= t.step+ahead; step++ {
			if t.shows(step, typed) {
				return true
			}
		}
		return false
	}
	base := now.Unix()/int64(t.Period) + t.Skew
	for _, off := range [...]int64{0, -window, window} {
		if t.shows(base+off, typed) && !t.isUsed(base+off) {
			return true
		}
	}
	return false
}

// isUsed reports whether a code counts no more: it was taken, or a later one was.
func (t *kept) isUsed(step int64) bool {
	return step <= t.step || slices.Contains(t.secrets.Used, step)
}

// claim takes a code, so that it counts no more, whatever the clock does.
func (t *kept) claim(step int64) {
	t.step = step
	t.secrets.Used = append(t.secrets.Used, step)
	if slices.Sort(t.secrets.Used); len(t.secrets.Used) > maxUsed {
		t.secrets.Used = t.secrets.Used[1:]
	}
}

// learn follows the clock of the token: at once where it is ahead, since nobody types what is not shown yet.
func (t *kept) learn(off int64) {
	if t.late++; off >= 0 {
		t.late = 0
	} else if t.late < maxLate {
		return
	}
	t.late = 0
	t.Skew = max(-maxSkew, min(t.Skew+off, maxSkew))
}

// clockOff says by how much a clock is off.
func clockOff(seconds int64) string {
	way := "ahead of ours"
	if seconds < 0 {
		seconds, way = -seconds, "behind ours"
	}
	return (time.Duration(seconds) * time.Second).String() + " " + way
}
