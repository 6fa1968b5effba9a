package rule

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
)

// Witness is facts that fulfil what was asked for.
type Witness struct {
	Facts  *facts.Facts
	values []value
}

// build makes the facts. What nothing was asked about stays empty.
func (w *Witness) build(at time.Time) {
	f := &facts.Facts{At: at, Service: facts.Network, Protocol: "radius", Person: &facts.Person{Attributes: map[string][]string{}}, ClientTags: map[string]string{}}
	w.Facts = f
	for i := range w.values { // the others go by it
		if w.values[i].subject == "time" {
			f.At = w.values[i].at
		}
	}
	for i := range w.values {
		w.values[i].set(f)
	}
}

func (v *value) text() string {
	if len(v.texts) == 0 {
		return ""
	}
	return v.texts[0]
}

func (v *value) set(f *facts.Facts) {
	text := v.text()
	certificate := func() *facts.Certificate {
		if f.Certificate == nil {
			f.Certificate = &facts.Certificate{}
		}
		return f.Certificate
	}
	device := func() *facts.Device {
		if f.Device == nil {
			f.Device = &facts.Device{Tags: map[string]string{}}
		}
		return f.Device
	}
	machine := func() *facts.Person {
		if f.Machine == nil {
			f.Machine = &facts.Person{Kind: facts.Computer}
		}
		return f.Machine
	}
	gear := func() *facts.Gear {
		if f.Gear == nil {
			f.Gear = &facts.Gear{}
		}
		return f.Gear
	}
	switch v.subject {
	case "from":
		f.From = v.address
	case "asks":
		if text != "" {
			gear().Asks = text
		}
	case "command":
		if text != "" {
			gear().Command = text
		}
	case "authenticated":
		if text != "" {
			gear().Authenticated = text
		}
	case "level":
		if n, err := strconv.Atoi(text); err == nil {
			gear().Level = n
		}
	case "service":
		f.Service = text
	case "protocol":
		f.Protocol = text
	case "port.type":
		f.PortType = text
	case "port":
		f.Port = text
	case "ssid":
		f.SSID = text
	case "mac":
		f.MAC = text
	case "called":
		f.Called = text
	case "nas":
		f.NAS = text
	case "client":
		f.Client = text
	case "client.address":
		f.Address = v.address
	case "proof":
		f.Method = text
		if m := config.FindMethod(text); m != nil && m.EAP {
			f.EAP = &facts.EAP{}
		}
	case "tls":
		if f.EAP == nil && text != "" {
			f.EAP = &facts.EAP{}
		}
		if f.EAP != nil {
			f.EAP.TLS = text
		}
	case "sent":
		f.Sent = text
	case "name.form", "name.realm":
		f.Sent = nameLike(f.Sent, v.subject, text)
	case "group":
		f.Person.Groups = v.texts
	case "store":
		f.Person.Store = text
	case "person":
		f.Person.Name = text
	case "kind":
		if f.Person.Kind = text; text == "person" {
			f.Person.Kind = ""
		}
	case "account.age":
		if v.known {
			f.Person.Created = f.At.Add(-v.age)
		}
	case "certificate.subject":
		certificate().Subject = text
	case "certificate.issuer":
		certificate().Issuer = text
	case "certificate.serial":
		certificate().Serial = text
	case "certificate.upn":
		certificate().UPN = v.texts
	case "certificate.dns":
		certificate().DNS = v.texts
	case "certificate.email":
		certificate().Email = v.texts
	case "certificate.left":
		if v.known {
			certificate().Until = f.At.Add(v.age)
		}
	case "machine":
		if text != "" {
			machine().Name = text
		}
	case "machine.group":
		if len(v.texts) > 0 {
			machine().Groups = v.texts
		}
	case "machine.seen":
		if v.known {
			f.MachineSeen = &facts.MachineSeen{At: f.At.Add(-v.age)}
		}
	case "device":
		if text != "" {
			device().Name = text
		}
	case "device.owner":
		if text != "" {
			device().Owner = text
		}
	default:
		v.setMember(f, text, device)
	}
}

// setMember sets a member of a family of fields.
func (v *value) setMember(f *facts.Facts, text string, device func() *facts.Device) {
	switch family, _, _ := strings.Cut(v.subject, "."); {
	case text == "" && len(v.texts) < 2:
	case family == "client":
		f.ClientTags[v.key] = text
	case family == "attribute":
		f.Attributes = append(f.Attributes, facts.Attribute{Name: v.key, Value: text})
	case family == "device":
		device().Tags[v.key] = text
	case family == "person":
		f.Person.Attributes[v.key] = v.texts
	}
}

// nameLike makes a name of a form, keeping what the name already shows.
func nameLike(name, part, text string) string {
	form, _, realm := facts.SplitName(name)
	if part == "name.form" {
		form = text
	} else if realm = text; form == "" || form == "bare" {
		form = "suffix"
	}
	if realm == "" {
		realm = "realm.example"
	}
	if part == "name.realm" && text == "" {
		return "name"
	}
	switch form {
	case "suffix":
		return "name@" + realm
	case "prefix":
		return realm + `\name`
	case "host":
		return "host/name." + realm
	case "bare":
		return "name"
	}
	return ""
}

// Lines describes the facts in words, one for each field that was asked about.
func (w *Witness) Lines() []string {
	out := []string{}
	for i := range w.values {
		v := &w.values[i]
		text := ""
		switch {
		case v.subject == "time":
			text = v.at.Format("Mon 2006-01-02 15:04 MST")
		case v.known:
			text = v.age.String()
		case v.address != netip.Addr{}:
			text = v.address.String()
		default:
			text = strings.Join(v.texts, ", ")
		}
		if text == "" {
			text = "none"
		}
		out = append(out, v.subject+" "+text)
	}
	slices.Sort(out)
	return slices.Compact(out)
}
