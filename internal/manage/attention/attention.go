// Package attention lists what an operator should look at now: devices whose requests are discarded, certificates that
// end, checks that fail. Items carry codes and parameters; whoever shows them makes the sentences.
package attention

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/account"
	"tollgate.example/key/internal/manage/checkup"
	"tollgate.example/key/internal/manage/host"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/manage/sources"
)

// Code says what an item is about. Codes are stable.
type Code string

const (
	// ClientFault is a client whose requests are discarded; parameters fault, client, address, since and count.
	ClientFault Code = "client.fault"
	// StrangerAsks is an address that is no client; parameters fault, address, since and count.
	StrangerAsks Code = "stranger.asks"
	// EmergencyUsed is an emergency account whose seal was broken; parameters account, at, client and count.
	EmergencyUsed Code = "emergency.used"
	// FactorAlarm is a person who was asked to approve a sign-in and says: this is not me; parameters person, client,
	// from and at.
	FactorAlarm Code = "factor.not-me"
	// RecordsLost counts records that could not be kept; parameters records and count.
	RecordsLost Code = "records.lost"
	// RecordsFail is that records cannot be written now; parameters records, since, refused and error.
	RecordsFail Code = "records.fail"
	// RecordsHeld are records whose time is over by the clock, but too many at once; parameters records, count, oldest
	// and until.
	RecordsHeld Code = "records.held"
	// AuditWaits are lines of the audit that cannot be written now; parameters waiting and lost.
	AuditWaits Code = "audit.waits"
	// RecordsDamaged is a damaged file that was set aside; parameters records and file.
	RecordsDamaged Code = "records.damaged"
	// ClockSet is a clock that was set; parameters at, by, way and stopped.
	ClockSet Code = "clock.set"
	// DiskLow and DiskShort are how full the disk is; parameters free, percent and lasts. DiskSheds says that records
	// are removed before their time: parameters free, percent and shed.
	DiskLow   Code = "disk.low"
	DiskShort Code = "disk.short"
	DiskSheds Code = "disk.sheds"
	// FeedStuck is a feed, or a remote server that accounting is forwarded to, to which nothing can be sent; parameters
	// name, fault and since. RemoteSilent is a machine of a remote server that does not answer; parameters name,
	// machine, fault and since.
	FeedStuck    Code = "feed.stuck"
	RemoteSilent Code = "remote.silent"
	// PresenceSilent is a source of presence that went silent, or a subscriber; parameters name, fault and since.
	PresenceSilent Code = "presence.silent"
	// CheckFailed is a check that does not pass; parameters subject, title, detail and remedy.
	CheckFailed Code = "check.failed"
	// CertificateEnds and CertificateEnded are certificates in use; parameters name, subject, until and days.
	CertificateEnds  Code = "certificate.ends"
	CertificateEnded Code = "certificate.ended"
	// WeakMethods are lanes that allow weak methods; parameters count and lanes.
	WeakMethods Code = "methods.weak"
	// Problem is a warning about the running configuration; parameters object, message, remedy, and problem, which is
	// its code.
	Problem Code = "configuration.problem"
)

// Severity orders items.
type Severity string

const (
	Fail Severity = "fail"
	Warn Severity = "warn"
)

// Item is one thing to look at.
type Item struct {
	Code     Code
	Severity Severity
	// Kind and ID name what to open; without an ID it is the list of the kind, without a kind there is nothing to open.
	Kind, ID string
	Params   map[string]string
}

const (
	// recent is how long the problem of a source asks for attention after it was seen last.
	recent = 30 * time.Minute
	// soon is how many days before its end a certificate asks for attention.
	soon = 45
	// maxItems bounds the list.
	maxItems = 12
)

// Sources are where items come from.
type Sources struct {
	Addresses *sources.Registry
	Accounts  *account.Keeper
	Checkup   *checkup.Checkup
	Revisions *revision.Keeper
	Analyst   *revision.Analyst
	Clock     *host.Clock
	Disk      *host.Disk
	// Records are the kinds of records by name.
	Records map[string]Records
	// Audit counts the lines of the audit that wait, and those that are lost.
	Audit func() (waiting, lost int)
	// Stuck and Silent list what nothing can be sent to, and what does not answer; Presence lists sources and
	// subscribers of presence that went silent.
	Stuck, Silent, Presence func() []Stuck
	// NotMe lists the alarms of people who are asked to approve what they did not begin.
	NotMe func() []NotMe
	// Nodes are the nodes, if there are several.
	Nodes func() Nodes
}

// Stuck is something outside that does not take what is sent to it.
type Stuck struct {
	Kind, ID, Name, Machine string
	Fault                   string
	Since                   time.Time
}

// outside lists what outside does not answer.
func (s *Sources) outside() (out []Item) {
	for _, part := range []struct {
		list func() []Stuck
		code Code
	}{{s.Stuck, FeedStuck}, {s.Silent, RemoteSilent}, {s.Presence, PresenceSilent}} {
		if part.list == nil {
			continue
		}
		for _, one := range part.list() {
			out = append(out, Item{part.code, Warn, one.Kind, one.ID, map[string]string{"name": one.Name,
				"machine": one.Machine, "fault": one.Fault, "since": one.Since.Format("2006-01-02 15:04")}})
		}
	}
	return out
}

// List lists what needs attention at a moment, the worst first.
func (s *Sources) List(now time.Time) []Item {
	running, _ := s.Revisions.CompiledRunning()
	out := s.addresses(running.Config, now)
	for _, a := range s.Accounts.Broken() {
		out = append(out, Item{EmergencyUsed, Fail, "account", "", map[string]string{"account": a.Name,
			"at": a.OpenedAt.Format("2006-01-02 15:04"), "client": a.OpenedOn, "count": strconv.Itoa(a.Uses)}})
	}
	if s.NotMe != nil {
		out = append(out, alarms(s.NotMe())...)
	}
	if s.Nodes != nil {
		nodes := s.Nodes()
		out = append(out, nodes.items()...)
	}
	out = append(out, s.machine()...)
	out = append(out, s.outside()...)
	lines, _ := s.Checkup.Last()
	for _, l := range lines {
		if l.State != results.Pass {
			out = append(out, Item{CheckFailed, Severity(l.State), "checkup", "",
				map[string]string{"subject": l.Subject, "title": l.Title, "detail": l.Detail, "remedy": l.Remedy}})
		}
	}
	out = append(out, certificates(running.Config, now)...)
	out = append(out, s.configuration(running)...)
	// fail before warn
	slices.SortStableFunc(
		out,
		func(a, b Item) int { return strings.Compare(string(a.Severity), string(b.Severity)) },
	)
	return out[:min(len(out), maxItems)]
}

// addresses lists clients and strangers whose requests are discarded.
func (s *Sources) addresses(c *config.Config, now time.Time) []Item {
	var out []Item
	for _, a := range s.Addresses.All() {
		p := a.Problem
		if p == nil || !a.Current() && p.Fault != sources.SuspectSecret || now.Sub(p.Last) > recent {
			continue
		}
		params := map[string]string{"fault": string(p.Fault), "address": a.Address.String(),
			"since": p.Since.Format("15:04"), "count": strconv.Itoa(p.Count)}
		name := ""
		if a.Client != "" {
			if client, at := config.Find(c.Clients, a.Client); at >= 0 {
				name = client.Name
			}
		}
		if name != "" {
			params["client"] = name
			out = append(out, Item{ClientFault, Fail, "client", a.Client, params})
			continue
		}
		out = append(out, Item{StrangerAsks, Warn, "client", "", params})
	}
	return out
}

// configuration lists the warnings of what is running. Weak methods are a choice that each lane marks: one item is
// enough.
func (s *Sources) configuration(c *revision.Compiled) []Item {
	var out []Item
	var weak []string
	for _, p := range s.Analyst.Problems(c) {
		if p.Code == config.WeakMethod {
			if !slices.Contains(weak, p.Object) {
				weak = append(weak, p.Object)
			}
			continue
		}
		out = append(out, Item{Problem, Warn, p.Kind, p.ID,
			map[string]string{
				"object":  p.Object,
				"message": p.Message,
				"remedy":  p.Remedy,
				"problem": string(p.Code),
			}})
	}
	if len(weak) > 0 {
		slices.Sort(weak)
		out = append(out, Item{WeakMethods, Warn, "lane", "", map[string]string{"count": strconv.Itoa(len(weak)),
			"lanes": strings.Join(weak, ", ")}})
	}
	return out
}
