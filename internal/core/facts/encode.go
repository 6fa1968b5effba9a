package facts

import (
	"encoding/json"
	"slices"
	"strconv"
	"time"
)

// AppendJSON appends the JSON form of the facts, the same value that encoding/json gives. Every attempt is recorded,
// and reflection would take longer than the whole decision.
func (f *Facts) AppendJSON(b []byte) []byte {
	b = append(b, `{"at":"`...)
	b = f.At.AppendFormat(b, time.RFC3339Nano)
	b = append(b, '"')
	b = appendField(b, "protocol", f.Protocol)
	b = appendOptional(b, "transport", f.Transport)
	b = appendField(b, "service", f.Service)
	b = appendField(b, "client", f.Client)
	if len(f.ClientTags) > 0 {
		b = append(b, `,"clientTags":{`...)
		first := true
		for key, value := range f.ClientTags {
			b = comma(b, &first)
			b = appendText(append(appendText(b, key), ':'), value)
		}
		b = append(b, '}')
	}
	b = append(b, `,"address":"`...)
	if f.Address.IsValid() {
		b = f.Address.AppendTo(b)
	}
	b = append(b, '"')
	for _, field := range [...]struct{ name, value string }{{"portType", f.PortType}, {"port", f.Port},
		{"ssid", f.SSID}, {"mac", f.MAC}, {"called", f.Called}, {"nas", f.NAS}} {
		b = appendOptional(b, field.name, field.value)
	}
	b = appendField(b, "sent", f.Sent)
	b = appendOptional(b, "tried", f.Tried)
	b = appendOptional(b, "inner", f.Inner)
	b = appendOptional(b, "method", f.Method)
	if f.EAP != nil {
		b = appendValue(b, "eap", f.EAP)
	}
	if f.Certificate != nil {
		b = appendValue(b, "certificate", f.Certificate)
	}
	if f.Device != nil {
		b = appendValue(b, "device", f.Device)
	}
	if f.Traits != nil {
		b = appendValue(b, "traits", f.Traits)
	}
	if f.Machine != nil {
		b = f.Machine.append(append(b, `,"machine":`...))
	}
	if f.MachineSeen != nil {
		b = appendValue(b, "machineSeen", f.MachineSeen)
	}
	if f.Open != nil {
		b = appendValue(b, "open", f.Open)
	}
	if f.Present != nil {
		b = appendValue(b, "present", f.Present)
	}
	if len(f.Attributes) > 0 {
		b = AppendAttributes(append(b, `,"attributes":`...), f.Attributes)
	}
	if f.From.IsValid() {
		b = append(f.From.AppendTo(append(b, `,"from":"`...)), '"')
	}
	if f.Gear != nil {
		b = f.Gear.append(b)
	}
	b = f.appendLookups(b)
	if f.Person != nil {
		b = f.Person.append(append(b, `,"person":`...))
	}
	if f.Claimed != nil {
		b = f.Claimed.append(append(b, `,"claimed":`...))
	}
	b = appendOptional(b, "credential", string(f.Credential))
	b = appendOptional(b, "credentialDetail", f.CredentialDetail)
	if f.Factor != nil {
		b = f.Factor.append(b)
	}
	if f.Forwarded != nil {
		b = appendValue(b, "forwarded", f.Forwarded)
	}
	if f.Lease != nil {
		b = appendValue(b, "lease", f.Lease)
	}
	b = append(b, `,"spent":{"client":`...)
	b = strconv.AppendInt(b, f.Spent.Client, 10)
	for _, field := range [...]struct {
		name  string
		value int64
	}{{"name", f.Spent.Name}, {"lane", f.Spent.Lane}, {"directory", f.Spent.Directory},
		{"credential", f.Spent.Credential}, {"policy", f.Spent.Policy}} {
		b = append(append(append(b, `,"`...), field.name...), `":`...)
		b = strconv.AppendInt(b, field.value, 10)
	}
	return append(b, "}}"...)
}

func (f *Facts) appendLookups(b []byte) []byte {
	if len(f.Lookups) == 0 {
		return b
	}
	b = append(b, `,"lookups":[`...)
	first := true
	for i := range f.Lookups {
		l := &f.Lookups[i]
		b = append(comma(b, &first), `{"store":`...)
		b = appendField(appendText(b, l.Store), "outcome", string(l.Outcome))
		b = appendOptional(b, "detail", l.Detail)
		b = strconv.AppendInt(append(b, `,"micros":`...), l.Micros, 10)
		b = append(b, '}')
	}
	return append(b, ']')
}

func (p *Person) append(b []byte) []byte {
	b = appendText(append(b, `{"store":`...), p.Store)
	b = appendField(b, "id", p.ID)
	b = appendField(b, "name", p.Name)
	b = appendOptional(b, "display", p.Display)
	b = appendOptional(b, "domain", p.Domain)
	b = appendOptional(b, "kind", p.Kind)
	b = appendField(b, "state", string(p.State))
	if len(p.Groups) > 0 {
		b = appendTexts(append(b, `,"groups":`...), p.Groups)
	}
	if len(p.Attributes) > 0 {
		b = append(b, `,"attributes":{`...)
		first := true
		for name, values := range p.Attributes {
			b = appendTexts(append(appendText(comma(b, &first), name), ':'), values)
		}
		b = append(b, '}')
	}
	if !p.Created.IsZero() {
		b = append(p.Created.AppendFormat(append(b, `,"created":"`...), time.RFC3339Nano), '"')
	}
	return append(b, '}')
}

// appendValue leaves to encoding/json what only some attempts have, whose cost lies elsewhere.
func appendValue(b []byte, name string, value any) []byte {
	text, err := json.Marshal(value)
	if err != nil { // a time beyond the year 9999 can do this; the rest of the facts is still worth recording
		return b
	}
	return append(append(append(append(b, `,"`...), name...), `":`...), text...)
}

func comma(b []byte, first *bool) []byte {
	if *first {
		*first = false
		return b
	}
	return append(b, ',')
}

// AppendAttributes writes attributes as JSON.
func AppendAttributes(b []byte, list []Attribute) []byte {
	b = append(b, '[')
	first := true
	for i := range list {
		b = append(comma(b, &first), `{"name":`...)
		b = append(appendField(appendText(b, list[i].Name), "value", list[i].Value), '}')
	}
	return append(b, ']')
}

func appendTexts(b []byte, list []string) []byte {
	b = append(b, '[')
	first := true
	for _, text := range list {
		b = appendText(comma(b, &first), text)
	}
	return append(b, ']')
}

func appendField(b []byte, name, value string) []byte {
	return appendText(append(append(append(b, `,"`...), name...), `":`...), value)
}

func appendOptional(b []byte, name, value string) []byte {
	if value == "" {
		return b
	}
	return appendField(b, name, value)
}

// appendText writes a string; what needs escaping is left to encoding/json.
func appendText(b []byte, text string) []byte {
	for i := 0; i < len(text); i++ {
		if c := text[i]; c < 0x20 || c > 0x7e || c == '"' || c == '\\' {
			quoted, err := json.Marshal(text)
			if err != nil {
				return append(b, `""`...)
			}
			return append(b, quoted...)
		}
	}
	b = slices.Grow(b, len(text)+2)
	return append(append(append(b, '"'), text...), '"')
}
