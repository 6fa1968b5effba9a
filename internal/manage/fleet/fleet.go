// Package fleet changes many clients of a draft at once: from a file, or all that were chosen in one way.
package fleet

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/sheet"
)

// Columns are those of a file of clients; name is the only one that must be there. Addresses are separated by spaces,
// tags are written site=north-pier;kind=switch. A secret is read, and never written.
var Columns = []string{"name", "addresses", "tags", "enabled", "message_authenticator", "note", "secret"}

// Max is how many clients one call changes at most.
const Max = 100_000

// Maker makes what only the service can.
type Maker struct {
	ID       func() string
	Generate func() string
	Seal     func(config.Place, string) config.Secret
	// Holds tells whether a secret is what was typed.
	Holds func(at config.Place, secret config.Secret, typed string) bool
	// Running is what is in effect: the secrets that devices have. They are accepted beside typed ones until KeepUntil.
	Running   *config.Config
	KeepUntil time.Time
}

// Made is a secret that was made for a client, which is told only once.
type Made struct {
	Client *config.Client
	Secret string
}

// Import reads clients into a draft. A line changes the client of its name, or adds one; a new one without a secret is
// given one; where a file gives another secret than there is, the present one is accepted for a while beside it.
// Columns that are left out leave what there is. The draft is changed line by line, so that whoever does not
// want it throws it away.
func Import(c *config.Config, text string, m Maker) (results.Import, []Made, error) {
	w := newWriter(c)
	var made []Made
	report, err := sheet.Read(text, Columns, func(r *sheet.Row) (string, string, func(), error) {
		client, secret, what, err := w.read(r, m)
		if err != nil {
			return "", "", nil, err
		}
		return client.Name, what, func() {
			w.keep(client)
			if secret != "" {
				made = append(made, Made{client, secret})
			}
		}, nil
	})
	if err == nil && len(w.c.Clients) > Max {
		err = sheet.Fail("csv", fmt.Sprintf("there would be more than %d clients", Max), "Use prefixes.")
	}
	return report, made, err
}

// writer knows the clients of a draft by name and by address.
type writer struct {
	c       *config.Config
	places  map[string]int
	holders map[string]string
}

func newWriter(c *config.Config) *writer {
	w := &writer{c: c, places: map[string]int{}, holders: map[string]string{}}
	for i, client := range c.Clients {
		w.places[strings.ToLower(client.Name)] = i
		for _, a := range client.Addresses {
			w.holders[a] = client.ID
		}
	}
	return w
}

func (w *writer) read(r *sheet.Row, m Maker) (client *config.Client, secret, what string, err error) {
	name, _ := r.Get("name")
	name = sheet.Unquoted(name)
	at, there := w.places[strings.ToLower(name)]
	what = "changed"
	if there {
		own := *w.c.Clients[at]
		own.Tags, own.Addresses = maps.Clone(own.Tags), slices.Clone(own.Addresses)
		client = &own
	} else {
		what = "added"
		client = &config.Client{ID: m.ID(), Name: strings.Clone(name), Enabled: true, Tags: map[string]string{},
			MessageAuthenticator: config.Require}
	}
	if err := fill(client, r); err != nil {
		return nil, "", "", err
	}
	switch typed, _ := r.Get("secret"); {
	case typed != "" && !m.Holds(client.RADIUSPlace(), client.Secret, typed):
		running, _ := config.Find(m.Running.Clients, client.ID)
		client.Rotate(m.Seal(client.RADIUSPlace(), typed), running, m.KeepUntil)
	case !there:
		secret = m.Generate()
		client.Secret = m.Seal(client.RADIUSPlace(), secret)
	}
	if faults := client.Faults(); len(faults) > 0 {
		f := faults[0]
		return nil, "", "", sheet.Fail(f.Field, f.Message, f.Remedy)
	}
	for _, a := range client.Addresses {
		if holder := w.holders[a]; holder != "" && holder != client.ID {
			other, _ := config.Find(w.c.Clients, holder)
			return nil, "", "", sheet.Fail("addresses", a+" belongs to "+other.Name+" already", "Give each its own.")
		}
	}
	if there && reflect.DeepEqual(w.c.Clients[at], client) {
		what = "same"
	}
	return client, secret, what, nil
}

// separates tells what stands between addresses, and between tags.
func separates(r rune) bool { return r == ' ' || r == ';' }

// fill takes the columns of a line.
func fill(client *config.Client, r *sheet.Row) error {
	if value, given := r.Get("addresses"); given {
		client.Addresses = strings.FieldsFunc(strings.Clone(value), separates)
	}
	if value, given := r.Get("tags"); given {
		client.Tags = map[string]string{}
		for _, tag := range strings.FieldsFunc(strings.Clone(value), separates) {
			key, value, ok := strings.Cut(tag, "=")
			if !ok {
				return sheet.Fail("tags", fmt.Sprintf("%q is not key=value", tag), "Write site=north-pier.")
			}
			client.Tags[key] = value
		}
	}
	if value, given := r.Get("enabled"); given {
		switch strings.ToLower(value) {
		case "yes", "true", "1", "":
			client.Enabled = true
		case "no", "false", "0":
			client.Enabled = false
		default:
			return sheet.Fail("enabled", fmt.Sprintf("%q is neither yes nor no", value), "Write yes or no.")
		}
	}
	if value, given := r.Get("message_authenticator"); given && value != "" {
		client.MessageAuthenticator = config.MessageAuthenticator(strings.ToLower(value))
	}
	if value, given := r.Get("note"); given {
		client.Note = sheet.Unquoted(strings.Clone(value))
	}
	return nil
}

// keep puts a client into the draft.
func (w *writer) keep(client *config.Client) {
	key := strings.ToLower(client.Name)
	if at, there := w.places[key]; there {
		for _, a := range w.c.Clients[at].Addresses {
			delete(w.holders, a)
		}
		w.c.Clients[at] = client
	} else {
		w.places[key] = len(w.c.Clients)
		w.c.Clients = append(w.c.Clients, client)
	}
	for _, a := range client.Addresses {
		w.holders[a] = client.ID
	}
}

// Export writes clients as they are read, without secrets.
func Export(list []*config.Client) []byte {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	columns := Columns[:len(Columns)-1]
	w.Write(columns)
	for _, c := range list {
		enabled := "yes"
		if !c.Enabled {
			enabled = "no"
		}
		w.Write(
			[]string{
				sheet.Quoted(c.Name),
				strings.Join(c.Addresses, " "),
				tagText(c.Tags),
				enabled,
				string(c.MessageAuthenticator),
				sheet.Quoted(c.Note),
			},
		)
	}
	w.Flush() // into memory, which does not fail
	return b.Bytes()
}

func tagText(tags map[string]string) string {
	var out []string
	for _, key := range slices.Sorted(maps.Keys(tags)) {
		out = append(out, key+"="+tags[key])
	}
	return strings.Join(out, ";")
}

// Change is what happens to all clients that were chosen.
type Change struct {
	// Tags are set, and those in Untag taken away.
	Tags  map[string]string
	Untag []string
	// Enabled switches them, nil leaves them.
	Enabled *bool
	// MessageAuthenticator is set unless it is empty.
	MessageAuthenticator string
	// Rotate makes new shared secrets; the present ones are accepted until KeepUntil, unless that is zero.
	Rotate    bool
	KeepUntil time.Time
}

// Apply changes clients of a draft, by their place in it.
func Apply(c *config.Config, places []int, ch Change, m Maker) (made []Made, err error) {
	for _, at := range places {
		own := config.Own(c.Clients, at)
		own.Tags = maps.Clone(own.Tags)
		if own.Tags == nil {
			own.Tags = map[string]string{}
		}
		for _, key := range ch.Untag {
			delete(own.Tags, strings.ToLower(key))
		}
		maps.Copy(own.Tags, ch.Tags)
		if ch.Enabled != nil {
			own.Enabled = *ch.Enabled
		}
		if ch.MessageAuthenticator != "" {
			own.MessageAuthenticator = config.MessageAuthenticator(ch.MessageAuthenticator)
		}
		if ch.Rotate && own.Secret.Set() {
			secret := m.Generate()
			running, _ := config.Find(m.Running.Clients, own.ID)
			own.Rotate(m.Seal(own.RADIUSPlace(), secret), running, ch.KeepUntil)
			made = append(made, Made{own, secret})
		}
		if faults := own.Faults(); len(faults) > 0 {
			f := faults[0]
			return nil, sheet.Fail(f.Field, own.Name+": "+f.Message, f.Remedy)
		}
	}
	return made, nil
}

// Secrets writes secrets that were made, for whoever sets them on the devices.
func Secrets(made []Made) []byte {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.Write([]string{"name", "addresses", "secret"})
	for _, one := range made {
		w.Write([]string{sheet.Quoted(one.Client.Name), strings.Join(one.Client.Addresses, " "), one.Secret})
	}
	w.Flush()
	return b.Bytes()
}
