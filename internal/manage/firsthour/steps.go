// Package firsthour knows what an empty installation still lacks until its first device is admitted, and makes what can
// be made in one step.
package firsthour

import (
	"fmt"
	"strings"

	"tollgate.example/key/internal/core/config"
)

// The steps, in their order.
const (
	People      = "people"
	Names       = "names"
	Certificate = "certificate"
	Results     = "results"
	Client      = "client"
	Seen        = "seen"
	Keeping     = "keeping"
)

// State is how far a step is.
type State string

const (
	// Done is seen from what is there; Off was put off by an operator.
	Done State = "done"
	Off  State = "off"
	// Now is the first that remains, Later those behind it.
	Now   State = "now"
	Later State = "later"
)

// Step is one step with what is there of it, or what it is about.
type Step struct {
	Key    string
	Title  string
	State  State
	Text   string
	Detail string
	// Page is where more of it can be set.
	Page string
}

// World is what the steps look at beside the draft.
type World struct {
	Running  *config.Config
	Accounts int
	Owners   int
	// Certificate is the first server certificate, in words.
	Certificate string
	// Admitted is the first or last admitted attempt in words, Refused the last that was not.
	Admitted, Refused string
	// Off are the steps that were put off.
	Off map[string]bool
}

// Steps tells of each step how far it is, for a draft.
func Steps(c *config.Config, w World) []Step {
	list := []Step{people(c, w), names(c), certificate(c, w), results(c), client(c, w), seen(w), keeping(w)}
	open := false
	for i := range list {
		s := &list[i]
		switch {
		case s.State == Done:
		case w.Off[s.Key]:
			s.State = Off
		case open:
			s.State = Later
		default:
			s.State, open = Now, true
		}
	}
	return list
}

// Remains reports whether anything is left to do.
func Remains(steps []Step) bool {
	for _, s := range steps {
		if s.State == Now {
			return true
		}
	}
	return false
}

func people(c *config.Config, w World) Step {
	s := Step{
		Key:   People,
		Title: "People",
		Page:  "/directories",
		Text: "Where people are found: a directory, or accounts " +
			"here",
		Detail: "Its domain or one of its servers is enough; nothing is sent before it is trusted.",
	}
	var found, where []string
	for _, d := range c.Directories {
		found = append(found, "directory "+d.Name)
		where = append(where, strings.Join(d.Servers, ", "))
	}
	if w.Accounts > 0 {
		found = append(found, count(w.Accounts, "account", "accounts")+" here")
	}
	if len(found) > 0 {
		s.State, s.Text, s.Detail = Done, first(strings.Join(found, ", ")), strings.Join(where, "; ")
	}
	return s
}

func names(c *config.Config) Step {
	s := Step{Key: Names, Title: "Names", Page: "/realms", Text: "Which names are theirs: a realm",
		Detail: "The forms in which devices send names, and where each is looked up."}
	if len(c.Realms) == 0 {
		return s
	}
	r := c.Realms[0]
	var stores []string
	for _, l := range r.Lookup {
		stores = append(stores, l.Store)
	}
	s.State, s.Text, s.Detail = Done, fmt.Sprintf("Realm %s: %s", r.Name, Forms(r.Forms)), "looked up in "+
		strings.Join(stores, ", then ")
	if n := len(c.Realms) - 1; n > 0 {
		s.Text += ", and " + count(n, "other", "others")
	}
	return s
}

// Forms are the forms of a name as people write them.
func Forms(forms []config.Form) string {
	var out []string
	for _, f := range forms {
		if f.Kind == config.Bare {
			out = append(out, "bare names")
			continue
		}
		out = append(out, f.String())
	}
	return strings.Join(out, ", ")
}

func certificate(c *config.Config, w World) Step {
	s := Step{
		Key:    Certificate,
		Title:  "Certificate",
		Page:   "/certificates",
		Text:   "What devices recognise this server by",
		Detail: "Methods that keep passwords from the path run in TLS. An authority of your own is made with it.",
	}
	if len(c.Certificates) > 0 {
		s.State, s.Text, s.Detail = Done, w.Certificate, ""
	}
	return s
}

func results(c *config.Config) Step {
	s := Step{Key: Results, Title: "What they get", Page: "/lanes", Text: "Put the people of a group into a VLAN",
		Detail: "Makes one lane with its policy and a pass for each VLAN; all of it can be changed later."}
	for _, l := range c.Lanes {
		if len(l.Policies) == 0 && len(l.Forward) == 0 {
			continue
		}
		s.State = Done
		s.Text = fmt.Sprintf("Lane %s: %s, %s", l.Name, count(len(l.Policies), "policy", "policies"),
			count(len(c.Passes), "pass", "passes"))
		var titles []string
		for _, m := range l.Methods {
			titles = append(titles, config.Title(m))
		}
		s.Detail = "by " + strings.Join(titles, ", ")
		break
	}
	return s
}

func client(c *config.Config, w World) Step {
	s := Step{
		Key:    Client,
		Title:  "Client",
		Page:   "/clients",
		Text:   "The first switch, controller, VPN gateway or firewall",
		Detail: "Its address; the secret is made here. Everything so far takes effect with it.",
	}
	if len(w.Running.Clients) > 0 {
		s.State = Done
		one := w.Running.Clients[0]
		s.Text, s.Detail = one.Name+", "+strings.Join(one.Addresses[:min(3, len(one.Addresses))], ", "), ""
		if n := len(w.Running.Clients) - 1; n > 0 {
			s.Text += ", and " + count(n, "other", "others")
		}
	} else if len(c.Clients) > 0 {
		s.Text, s.Detail = c.Clients[0].Name+" is in the draft", "It counts once the draft is published."
	}
	return s
}

func seen(w World) Step {
	s := Step{
		Key:   Seen,
		Title: "Seen",
		Page:  "/attempts",
		Text: "It asks; the first attempt appears here, admitted or " +
			"with the reason",
	}
	if w.Admitted != "" {
		s.State, s.Text = Done, w.Admitted
	} else if w.Refused != "" {
		s.Text = w.Refused
	}
	return s
}

func keeping(w World) Step {
	s := Step{
		Key:   Keeping,
		Title: "Safe keeping",
		Page:  "/operators",
		Text:  "A second owner, and a copy of the key file",
		Detail: "Without another owner, a lost password takes somebody to the machine; without the key file, a " +
			"backup " +
			"cannot be read.",
	}
	if w.Owners > 1 && w.Off[Keeping] { // put off is how somebody says that the key file is kept
		s.State, s.Text, s.Detail = Done, count(w.Owners, "owner", "owners")+", and the key file is kept", ""
	}
	return s
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func first(text string) string { return strings.ToUpper(text[:1]) + text[1:] }
