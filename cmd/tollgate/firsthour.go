package main

import (
	"cmp"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// firstHour leads through what remains until the first device is admitted. Each step can be left with an empty line,
// and is there again the next time.
func (s *invocation) firstHour() error {
	steps := map[string]func(apitype.FirstHour) error{"people": s.firstPeople, "names": s.firstNames,
		"certificate": s.firstCertificate, "results": s.firstResults, "client": s.firstClient}
	left := map[string]bool{}
	for {
		hour, err := client.Get[apitype.FirstHour](s.ctx, s.api, "/first-hour")
		if err != nil {
			return err
		}
		next := ""
		for _, step := range hour.Steps {
			if steps[step.Key] != nil && (step.State == "now" || step.State == "later") && !left[step.Key] {
				next = step.Key
				s.say("\n%s: %s", s.paint(bold, step.Title), step.Text)
				if step.Detail != "" {
					s.say("  %s", s.paint(faint, step.Detail))
				}
				break
			}
		}
		if next == "" || s.ended {
			s.firstState(hour)
			return nil
		}
		left[next] = true // what was left out is not asked for again now
		if err := steps[next](hour); err != nil && !s.ended {
			return err
		}
	}
}

// firstState says how far the first hour is.
func (s *invocation) firstState(hour apitype.FirstHour) {
	s.say("\n%d of %d steps are done.", hour.Done, len(hour.Steps))
	var rows [][]string
	for _, step := range hour.Steps {
		rows = append(rows, []string{step.Title, step.State, step.Text})
	}
	s.table([]string{"STEP", "STATE", "WHAT"}, rows)
	if hour.Remains {
		s.say("\nGo on with: tollgate setup")
	}
}

// ask reads a line; what is proposed is taken for an empty one. Where the input ended nothing is taken, so that whoever
// breaks off agrees to nothing.
func (s *invocation) ask(what, proposed string) string {
	if proposed != "" {
		what += " [" + proposed + "]"
	}
	fmt.Fprint(s.err, what+": ")
	text, err := s.line(what)
	if err != nil {
		s.ended = true
		return ""
	}
	return cmp.Or(strings.TrimSpace(text), proposed)
}

func (s *invocation) firstPeople(apitype.FirstHour) error {
	where := s.ask("Domain or server of your directory (local for accounts here, Enter to leave it)", "")
	switch where {
	case "":
		return nil
	case "local":
		in := apitype.AccountInput{}
		in.Enabled, in.Keeps = true, "nt-hash"
		if in.Name = s.ask("Name of the first account", ""); in.Name == "" {
			return nil
		}
		password, err := s.secret("Its password")
		if err != nil {
			return err
		}
		in.Password = password
		if group := s.ask("Its group, by which it gets a VLAN", ""); group != "" {
			in.Groups = []string{group}
		}
		return s.api.Do(s.ctx, http.MethodPost, "/accounts", in, nil)
	}
	in := apitype.Discovery{Text: where, BindName: s.ask("Service account that reads it", "")}
	var err error
	if in.Password, err = s.secret("Its password"); err != nil {
		return err
	}
	found, _, err := s.discovery(in, true)
	if err != nil {
		return err
	}
	if !found.Trusted && len(found.Certificates) > 0 {
		c := found.Certificates[len(found.Certificates)-1]
		s.fields([2]string{"shown by", c.Subject}, [2]string{"until", c.NotAfter.Format("2006-01-02")},
			[2]string{"SHA-256", c.SHA256})
		if !strings.EqualFold(s.ask("Trust it? Compare the fingerprint first (yes or no)", "no"), "yes") {
			return nil
		}
		in.CA = c.PEM
		if found, _, err = s.discovery(in, true); err != nil {
			return err
		}
	}
	if len(found.Servers) == 0 || !found.Trusted || !found.Bound {
		s.say("It is not connected: see the steps above.")
		return nil
	}
	name := s.ask("What it is called here", found.Name)
	if s.ended {
		return nil
	}
	return s.addFound(found, in, name)
}

func (s *invocation) firstNames(hour apitype.FirstHour) error {
	if hour.Realm == nil {
		return nil
	}
	var forms []string
	for _, f := range hour.Realm.Forms {
		forms = append(forms, f.String())
	}
	answer := s.ask(
		`Names of its people, such as @example.org, SHORT\, bare (none to leave it)`,
		strings.Join(forms, " "),
	)
	if answer == "none" || answer == "" {
		return nil
	}
	r := hour.Realm
	in := apitype.RealmFields{Name: r.Name, Rewrite: r.Rewrite, Lookup: r.Lookup, Forms: []config.Form{}}
	for _, text := range strings.Fields(answer) {
		in.Forms = append(in.Forms, readForm(text))
	}
	return s.api.Do(s.ctx, http.MethodPost, "/realms", in, nil)
}

func (s *invocation) firstCertificate(hour apitype.FirstHour) error {
	name := s.ask("DNS name of this server (none to leave it)", hour.ServerName)
	if name == "none" || name == "" {
		return nil
	}
	return s.api.Do(s.ctx, http.MethodPost, "/first-hour/certificate", apitype.FirstCertificate{Name: name}, nil)
}

func (s *invocation) firstResults(apitype.FirstHour) error {
	in := apitype.FirstResults{Rows: []apitype.FirstRow{}}
	directories, err := client.All[apitype.Directory](s.ctx, s.api, "/directories", nil)
	if err != nil {
		return err
	}
	for {
		group := s.ask("Group whose people get a VLAN (Enter when there are no more)", "")
		if group == "" {
			break
		}
		row := apitype.FirstRow{Group: group}
		for _, d := range directories {
			found, err := client.Get[apitype.Groups](s.ctx, s.api, "/directories/"+d.ID+"/groups?limit=20&q="+
				url.QueryEscape(group))
			if err != nil {
				return err
			}
			for _, g := range found.Items {
				if strings.EqualFold(g.Name, group) {
					row.Group, row.Directory, row.ID = g.Name, d.Name, g.ID
				}
			}
		}
		row.VLAN = s.ask("Its VLAN", "")
		in.Rows = append(in.Rows, row)
	}
	in.Others = s.ask("VLAN of everybody else (Enter refuses them)", "")
	if len(in.Rows) == 0 && in.Others == "" {
		return nil
	}
	if in.Ports = s.ask("On which ports: wired, wireless or any", "wired"); s.ended {
		return nil
	}
	return s.api.Do(s.ctx, http.MethodPost, "/first-hour/results", in, nil)
}

func (s *invocation) firstClient(hour apitype.FirstHour) error {
	name := s.ask("Name of the first client (Enter to leave it)", "")
	if name == "" {
		return nil
	}
	proposed := ""
	if len(hour.Strangers) > 0 {
		proposed = hour.Strangers[0]
	}
	in := apitype.ClientInput{GenerateSecret: true}
	in.Name, in.Enabled, in.MessageAuthenticator = name, true, string(config.Auto)
	if in.Addresses = strings.Fields(s.ask("Its address", proposed)); s.ended {
		return nil
	}
	var out apitype.Saved[apitype.Client]
	if err := s.api.Do(s.ctx, http.MethodPost, "/clients", in, &out); err != nil {
		return err
	}
	s.say("\nSettings for the device; the secret is shown only here:")
	var fields [][2]string
	for _, l := range hour.Servers {
		if strings.HasPrefix(l.What, "RADIUS") {
			fields = append(fields, [2]string{l.What, fmt.Sprintf("%s port %d", l.Address, l.Port)})
		}
	}
	s.fields(append(fields, [2]string{"Shared secret", out.Secret}, [2]string{"Message-Authenticator",
		"in every request"})...)
	if err := s.api.Do(s.ctx, http.MethodPost, "/draft/publish", map[string]string{"note": "the first hour"},
		nil); err != nil {
		return fmt.Errorf("the client is in the draft, which is not published: %w", err)
	}
	s.say("Published. Plug a device in, or try a sign-in: tollgate try SERVER -user NAME")
	return nil
}
