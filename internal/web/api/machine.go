package api

import (
	"fmt"

	"tollgate.example/key/internal/manage/attention"
	"tollgate.example/key/internal/web/apitype"
)

// machineView says in words what is the matter with the clock, the disk, and what is recorded.
func machineView(out *apitype.Attention, code attention.Code, p map[string]string) {
	what := map[string]string{"attempts": "attempts", "journal": "entries of the gear journal"}[p["records"]]
	switch code {
	case attention.RecordsLost:
		out.Title = p["count"] + " " + what + " are lost"
		out.Text = "The disk was full or too slow when they were to be recorded; see the log of the service."
	case attention.RecordsFail:
		out.Title = "The " + what + " cannot be recorded since " + p["since"]
		out.Text = p["error"] + ". Attempts are kept in memory for as long as they have room there."
		if p["records"] == "journal" {
			out.Text = fmt.Sprintf("%s. Sign-ins and commands on network gear are refused meanwhile: %s so far.",
				p["error"], p["refused"])
		}
	case attention.RecordsHeld:
		out.Title = fmt.Sprintf("%s %s are older than they are kept", p["count"], what)
		out.Text = fmt.Sprintf("The oldest are of %s, and the clock says that those before %s are over. That is "+
			"more than "+
			"becomes so in a day, so two days' worth are removed each day. Check the clock. If it is right, start the "+
			"service once with -remove-old-now.", p["oldest"], p["until"])
	case attention.RecordsDamaged:
		out.Title = "The file of the " + what + " was damaged"
		out.Text = "A new one was begun. The damaged one is kept as " + p["file"] + ". Check the disk."
	case attention.ClockSet:
		out.Title = fmt.Sprintf("The clock was set %s by %s", p["way"], p["by"])
		out.Text = "Noticed at " + p["at"] + ". Records keep the time that the clock showed. Check what sets the " +
			"clock of " +
			"this machine; a machine that was suspended shows up like this too."
		if p["stopped"] == "true" {
			out.Text = "While the service was stopped; noticed at " + p["at"] + ". Check what sets the clock of this " +
				"machine."
		}
	case attention.DiskLow, attention.DiskShort:
		out.Title = fmt.Sprintf("The disk has %s left (%s %%)", p["free"], p["percent"])
		out.Text = "Free some space, keep attempts for a shorter time (-keep-attempts), or use a larger disk."
		if p["lasts"] != "" {
			out.Text = "At the rate of the last half hour that lasts for " + p["lasts"] + ". " + out.Text
		}
	case attention.DiskSheds:
		out.Title = fmt.Sprintf("The disk is nearly full: %s left (%s %%)", p["free"], p["percent"])
		out.Text = fmt.Sprintf(
			"The oldest attempts and sightings are removed before their time, %s so far; the journal is kept. "+
				"Free some "+
				"space.",
			p["shed"],
		)
	}
}
