package feed

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/netip"
	"time"

	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/presence"
)

const (
	// maxReports and maxReportBody bound what is reported at once.
	maxReports    = 1000
	maxReportBody = 2 << 20
)

// reported lets sources of a way in.
func (s *server) reported(
	way string,
	next func(http.ResponseWriter, *http.Request, *presence.Source),
) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		source, err := s.ByToken(token(r), from(r))
		switch {
		case err != nil:
			w.Header().Set("WWW-Authenticate", `Bearer realm="presence"`)
			refuse(w, http.StatusUnauthorized, err.Error())
		case source.Way != way:
			refuse(w, http.StatusForbidden, "the source "+source.Name+" reports by another way: "+source.Way)
		case !source.Enabled:
			refuse(w, http.StatusForbidden, "the source "+source.Name+" is switched off")
		default:
			r.Body = http.MaxBytesReader(w, r.Body, maxReportBody)
			next(w, r, source)
		}
	}
}

// Sighting is one report as it is sent.
type Sighting struct {
	Kind    string `json:"kind"`
	Who     string `json:"who"`
	Display string `json:"display"`
	Address string `json:"address"`
	Ports   string `json:"ports"`
	MAC     string `json:"mac"`
	Host    string `json:"host"`
	Role    string `json:"role"`
	Ref     string `json:"ref"`
	At      string `json:"at"`
	// Seconds is how long it holds without another one.
	Seconds int `json:"seconds"`
}

// Read makes a report of what was sent. The error names the field.
func (s *Sighting) Read() (presence.Report, error) {
	r := presence.Report{
		Sighting: core.Sighting{Kind: core.Kind(s.Kind), Who: s.Who, Display: s.Display, Host: s.Host,
			Ref: s.Ref, Origin: core.Origin{Role: s.Role}},
	}
	var err error
	if s.Address != "" {
		if r.Address, err = netip.ParseAddr(s.Address); err != nil {
			return r, fmt.Errorf("address: %q is no IP address", s.Address)
		}
	}
	if s.Ports != "" {
		if r.Ports, err = core.ParsePorts(s.Ports); err != nil {
			return r, fmt.Errorf("ports: %w", err)
		}
	}
	if s.MAC != "" {
		if r.MAC = core.ParseMAC(s.MAC); r.MAC == 0 {
			return r, fmt.Errorf("mac: %q is no MAC address", s.MAC)
		}
	}
	if s.At != "" {
		if r.At, err = time.Parse(time.RFC3339, s.At); err != nil {
			return r, fmt.Errorf("at: %q is no time such as 2026-01-02T15:04:05Z", s.At)
		}
	}
	if s.Seconds < 0 {
		return r, fmt.Errorf("seconds: %d is negative", s.Seconds)
	}
	if s.Seconds > 0 {
		begin := r.At
		if begin.IsZero() {
			begin = time.Now()
		}
		r.Until = begin.Add(time.Duration(s.Seconds) * time.Second)
	}
	return r, nil
}

// outcome is what became of reports.
type outcome struct {
	Taken   int       `json:"taken"`
	LeftOut int       `json:"leftOut"`
	Refused []refusal `json:"refused"`
}

type refusal struct {
	Index int    `json:"index"`
	Error string `json:"error"`
}

// note notes what became of one report.
func (o *outcome) note(index int, err error) {
	var out *presence.LeftOut
	switch {
	case err == nil:
		o.Taken++
	case errors.As(err, &out):
		o.LeftOut++
	default:
		o.Refused = append(o.Refused, refusal{index, err.Error()})
	}
}

// sightings takes reports. Each is taken or refused by itself.
func (s *server) sightings(w http.ResponseWriter, r *http.Request, source *presence.Source) {
	var in struct {
		Sightings []Sighting `json:"sightings"`
	}
	d := json.NewDecoder(r.Body)
	d.DisallowUnknownFields()
	if err := d.Decode(&in); err != nil {
		s.Refuse(source, "a report cannot be read: "+err.Error())
		refuse(w, http.StatusBadRequest, "the report cannot be read: "+err.Error())
		return
	}
	if len(in.Sightings) > maxReports {
		refuse(
			w,
			http.StatusRequestEntityTooLarge,
			fmt.Sprintf("at most %d sightings are taken at once", maxReports),
		)
		return
	}
	out := outcome{Refused: []refusal{}}
	for i := range in.Sightings {
		report, err := in.Sightings[i].Read()
		if err != nil {
			s.Refuse(source, err.Error())
		} else {
			_, err = s.Take(source, report)
		}
		out.note(i, err)
	}
	answer(w, out)
}

// logons takes logon events of domain controllers, as JSON or as Windows Event XML.
func (s *server) logons(w http.ResponseWriter, r *http.Request, source *presence.Source) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		refuse(
			w,
			http.StatusRequestEntityTooLarge,
			fmt.Sprintf("at most %d octets are taken at once", maxReportBody),
		)
		return
	}
	kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	var events []logon
	if kind == "application/xml" || kind == "text/xml" {
		events, err = parseEvents(body)
	} else {
		var in struct {
			Events []logon `json:"events"`
		}
		err = json.Unmarshal(body, &in)
		events = in.Events
	}
	if err != nil {
		s.Refuse(source, "events cannot be read: "+err.Error())
		refuse(w, http.StatusBadRequest, "the events cannot be read: "+err.Error())
		return
	}
	if len(events) > maxReports {
		refuse(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("at most %d events are taken at once", maxReports))
		return
	}
	out := outcome{Refused: []refusal{}}
	for i := range events {
		report, about, err := events[i].report()
		if err != nil {
			s.Refuse(source, err.Error())
		} else if !about {
			out.LeftOut++
			continue
		} else {
			_, err = s.Take(source, report)
		}
		out.note(i, err)
	}
	answer(w, out)
}
