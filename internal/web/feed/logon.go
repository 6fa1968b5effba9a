package feed

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strconv"
	"strings"
	"time"

	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/presence"
)

// logon is an event of a domain controller about somebody's logon. Its names are those of the events.
type logon struct {
	EventID   int    `json:"eventId"`
	LogonType int    `json:"logonType"`
	Account   string `json:"account"`
	Domain    string `json:"domain"`
	Address   string `json:"address"`
	Computer  string `json:"workstation"`
	LogonID   string `json:"logonId"`
	At        string `json:"time"`
}

// Events about logons, and kinds of logons in which a person sits at the address: the others are services, batch jobs
// and what runs under another name.
const (
	eventLogon   = 4624
	eventLogoff  = 4634
	eventLeft    = 4647
	eventTicket  = 4768 // a ticket-granting ticket was given
	eventRenewed = 4770
)

var atTheAddress = map[int]bool{2: true, 3: true, 7: true, 10: true, 11: true}

// report is what an event says of presence; about is false for one that says nothing: of a service, of the controller
// itself, or without an address.
func (l *logon) report() (r presence.Report, about bool, err error) {
	switch l.EventID {
	case eventLogon:
		if !atTheAddress[l.LogonType] {
			return r, false, nil
		}
		r.Kind = core.SignedIn
	case eventTicket:
		r.Kind = core.SignedIn
	case eventRenewed:
		r.Kind = core.Still
	case eventLogoff, eventLeft:
		r.Kind = core.SignedOut
	default:
		return r, false, nil
	}
	if l.Account == "" || l.Account == "-" || strings.HasSuffix(l.Account, "$") ||
		strings.EqualFold(l.Account, "ANONYMOUS LOGON") || strings.EqualFold(l.Account, "SYSTEM") {
		return r, false, nil
	}
	if r.Who = l.Account; l.Domain != "" && l.Domain != "-" && !strings.ContainsAny(l.Account, `\@`) {
		r.Who = l.Domain + `\` + l.Account
	}
	r.Host, r.Detail = l.Computer, "event "+strconv.Itoa(l.EventID)
	if l.LogonType != 0 {
		r.Detail += ", logon type " + strconv.Itoa(l.LogonType)
	}
	if l.LogonID != "" {
		r.Ref = l.LogonID + " " + strings.ToLower(l.Account)
	}
	if l.At != "" {
		if r.At, err = time.Parse(time.RFC3339Nano, l.At); err != nil {
			return r, true, fmt.Errorf("time: %q is no time such as 2026-01-02T15:04:05Z", l.At)
		}
	}
	if l.Address != "" && l.Address != "-" {
		if r.Address, err = netip.ParseAddr(strings.TrimPrefix(l.Address, "::ffff:")); err != nil {
			return r, true, fmt.Errorf("address: %q is no IP address", l.Address)
		}
	}
	if r.Address.IsLoopback() {
		return r, false, nil
	}
	return r, r.Address.IsValid() || r.Kind == core.SignedOut, nil
}

// xmlEvent is an event in the XML form that Windows writes.
type xmlEvent struct {
	System struct {
		EventID     int `xml:"EventID"`
		TimeCreated struct {
			SystemTime string `xml:"SystemTime,attr"`
		} `xml:"TimeCreated"`
	} `xml:"System"`
	Data []struct {
		Name string `xml:"Name,attr"`
		Text string `xml:",chardata"`
	} `xml:"EventData>Data"`
}

// parseEvents reads events one after another, alone or inside one element.
func parseEvents(body []byte) (out []logon, err error) {
	d := xml.NewDecoder(bytes.NewReader(body))
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		start, ok := token.(xml.StartElement)
		if !ok || start.Name.Local != "Event" {
			continue
		}
		var e xmlEvent
		if err := d.DecodeElement(&e, &start); err != nil {
			return nil, err
		}
		if out = append(out, e.logon()); len(out) > maxReports {
			return out, nil
		}
	}
}

func (e *xmlEvent) logon() logon {
	l := logon{EventID: e.System.EventID, At: e.System.TimeCreated.SystemTime}
	for _, d := range e.Data {
		text := strings.TrimSpace(d.Text)
		switch d.Name {
		case "TargetUserName":
			l.Account = text
		case "TargetDomainName":
			l.Domain = text
		case "IpAddress":
			l.Address = text
		case "WorkstationName":
			l.Computer = text
		case "TargetLogonId":
			l.LogonID = text
		case "LogonType":
			l.LogonType, _ = strconv.Atoi(text)
		}
	}
	return l
}
