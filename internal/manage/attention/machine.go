package attention

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"time"

	"tollgate.example/key/internal/store/record"
)

// Records are records of one kind.
type Records interface {
	Lost() int64
	Trouble() *record.Trouble
	Held() *record.Held
	SetAside() string
}

// machine lists what is the matter with the clock, the disk, and what is recorded.
func (s *Sources) machine() []Item {
	out := s.disk()
	for _, name := range slices.Sorted(maps.Keys(s.Records)) {
		r, kind := s.Records[name], "attempt"
		if name == "journal" {
			kind = "journal"
		}
		if t := r.Trouble(); t != nil {
			out = append(out, Item{RecordsFail, Fail, kind, "", map[string]string{"records": name,
				"since": t.Since.Format("15:04"), "refused": strconv.Itoa(t.Refused), "error": t.Err.Error()}})
		}
		if n := r.Lost(); n > 0 {
			out = append(out, Item{RecordsLost, Fail, kind, "", map[string]string{"records": name,
				"count": strconv.FormatInt(n, 10)}})
		}
		if h := r.Held(); h != nil {
			out = append(out, Item{RecordsHeld, Warn, kind, "", map[string]string{"records": name,
				"count": strconv.FormatInt(h.Records, 10), "oldest": h.Oldest.Format(time.DateOnly),
				"until": h.Until.Format(time.DateOnly)}})
		}
		if file := r.SetAside(); file != "" {
			out = append(out, Item{RecordsDamaged, Fail, kind, "", map[string]string{"records": name, "file": file}})
		}
	}
	if s.Audit != nil {
		if waiting, lost := s.Audit(); waiting+lost > 0 {
			out = append(out, Item{AuditWaits, Fail, "audit", "", map[string]string{"waiting": strconv.Itoa(waiting),
				"lost": strconv.Itoa(lost)}})
		}
	}
	for _, j := range s.Clock.Jumps() {
		params := map[string]string{"at": j.At.Format("2006-01-02 15:04:05"),
			"by":  j.By.Abs().Round(time.Second).String(),
			"way": "ahead", "stopped": strconv.FormatBool(j.Stopped)}
		if j.By < 0 {
			params["way"] = "back"
		}
		out = append(out, Item{ClockSet, Warn, "", "", params})
	}
	return out
}

// disk says how full the disk is.
func (s *Sources) disk() []Item {
	space := s.Disk.Space()
	params := map[string]string{"free": Octets(space.Free), "lasts": "", "shed": strconv.FormatInt(space.Shed, 10),
		"percent": fmt.Sprintf("%.1f", 100*float64(space.Free)/float64(max(1, space.Total)))}
	if space.Lasts > 0 {
		params["lasts"] = lasting(space.Lasts)
	}
	switch {
	case space.Shed > 0 || space.Shedding:
		return []Item{{DiskSheds, Fail, "", "", params}}
	case space.Short():
		return []Item{{DiskShort, Fail, "", "", params}}
	case space.Low():
		return []Item{{DiskLow, Warn, "", "", params}}
	}
	return nil
}

// Octets writes a number of octets as people do.
func Octets(n int64) string {
	switch {
	case n >= 10<<30:
		return fmt.Sprintf("%d GB", n>>30)
	case n >= 1<<30:
		return fmt.Sprintf("%.1f GB", float64(n)/(1<<30))
	case n >= 1<<20:
		return fmt.Sprintf("%d MB", n>>20)
	}
	return fmt.Sprintf("%d kB", n>>10)
}

// lasting writes for how long something lasts.
func lasting(d time.Duration) string {
	switch {
	case d > 96*time.Hour:
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	case d > 3*time.Hour:
		return fmt.Sprintf("%d hours", int(d.Hours()))
	}
	return fmt.Sprintf("%d minutes", max(1, int(d.Minutes())))
}
