package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/pass"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/web/apitype"
)

func (s *server) objects() {
	register(s, &kind[config.Client, *config.Client, apitype.ClientInput, apitype.Client]{
		name: "client", plural: "clients",
		list:  func(c *config.Config) *[]*config.Client { return &c.Clients },
		apply: s.applyClient,
		text:  clientText,
		views: s.clientView,
	})
	register(s, &kind[config.Directory, *config.Directory, apitype.DirectoryInput, apitype.Directory]{
		name: "directory", plural: "directories",
		list: func(c *config.Config) *[]*config.Directory { return &c.Directories },
		apply: func(_ *config.Config, d *config.Directory, in *apitype.DirectoryInput) (string, error) {
			return "", s.applyDirectory(d, in)
		},
		text: func(d *config.Directory) string { return d.Name + " " + strings.Join(d.Servers, " ") },
		views: func(*config.Config) func(*config.Directory, apitype.Meta) apitype.Directory {
			return func(d *config.Directory, m apitype.Meta) apitype.Directory {
				var set *time.Time
				if d.Member() {
					name := s.Gate.MachineAccounts.Name(d.Domain, d.Computer)
					if at := s.Gate.MachineAccounts.Changed(d.Domain, name); !at.IsZero() {
						set = &at
					}
				}
				return apitype.Directory{Meta: m, PasswordSet: set, BindPasswordSet: d.BindPassword.Set(),
					Domain: d.Domain, Computer: d.Computer, DirectoryFields: apitype.DirectoryFields{Name: d.Name,
						Kind: string(d.Kind), Servers: d.Servers,
						TLS: string(d.TLS), CA: d.CA, ServerName: d.ServerName, BindName: d.BindName, Base: d.Base,
						GroupBase: d.GroupBase, Attributes: d.Attributes,
						TimeoutMillis: d.TimeoutMillis, Note: d.Note, Groups: d.Groups, CacheSeconds: &d.CacheSeconds,
						DNS: d.DNS, Source: d.Source, GuardAfter: d.GuardAfter, CopyBelow: d.CopyBelow,
						CopyWanted: d.CopyWanted, CopyMinutes: d.CopyMinutes}}
			}
		},
	})
	register(s, &kind[config.Realm, *config.Realm, apitype.RealmFields, apitype.Realm]{
		name: "realm", plural: "realms",
		list: func(c *config.Config) *[]*config.Realm { return &c.Realms },
		apply: func(_ *config.Config, r *config.Realm, in *apitype.RealmFields) (string, error) {
			r.Name, r.Forms, r.Rewrite, r.Lookup, r.Note = in.Name, in.Forms, in.Rewrite, in.Lookup, in.Note
			return "", nil
		},
		text: func(r *config.Realm) string { return r.Name },
		views: func(*config.Config) func(*config.Realm, apitype.Meta) apitype.Realm {
			return func(r *config.Realm, m apitype.Meta) apitype.Realm {
				return apitype.Realm{Meta: m, RealmFields: apitype.RealmFields{Name: r.Name, Forms: r.Forms,
					Rewrite: r.Rewrite, Lookup: r.Lookup, Note: r.Note}}
			}
		},
	})
	register(s, &kind[config.Lane, *config.Lane, apitype.LaneFields, apitype.Lane]{
		name: "lane", plural: "lanes", ordered: true,
		list:  func(c *config.Config) *[]*config.Lane { return &c.Lanes },
		apply: s.applyLane,
		text:  func(l *config.Lane) string { return l.Name + " " + l.When },
		views: func(c *config.Config) func(*config.Lane, apitype.Meta) apitype.Lane {
			place := map[string]int{}
			for i := range c.Lanes {
				place[c.Lanes[i].ID] = i + 1
			}
			return func(l *config.Lane, m apitype.Meta) apitype.Lane {
				return apitype.Lane{Meta: m, Number: place[l.ID], LaneFields: apitype.LaneFields{Name: l.Name,
					When: l.When, Methods: l.Methods, Realm: l.Realm, Forward: l.Forward, TLS: l.TLS,
					RejectDelayMillis: l.RejectDelayMillis, SecondFactor: l.SecondFactor,
					FactorRestMinutes: l.FactorRestMinutes, Factor: l.Factor, Follow: l.Follow,
					Policies: l.Policies, Note: l.Note}}
			}
		},
	})
	register(s, &kind[config.Pass, *config.Pass, apitype.PassFields, apitype.Pass]{
		name: "pass", plural: "passes",
		list: func(c *config.Config) *[]*config.Pass { return &c.Passes },
		apply: func(_ *config.Config, p *config.Pass, in *apitype.PassFields) (string, error) {
			in.Apply(p)
			return "", nil
		},
		text:  func(p *config.Pass) string { return p.Name + " " + p.VLAN + " " + p.Role },
		views: passView,
	})
	s.policyKinds()
	s.feeds()
	s.unlearn()
	s.laneOrder()
}

// clientText is what searching looks at.
func clientText(c *config.Client) string {
	text := c.Name + " " + strings.Join(c.Addresses, " ") + " " + c.Note
	for key, value := range c.Tags {
		text += " " + key + "=" + value
	}
	return text
}

func (s *server) applyClient(_ *config.Config, c *config.Client, in *apitype.ClientInput) (string, error) {
	c.Name, c.Enabled, c.Addresses, c.Tags, c.Note = in.Name, in.Enabled, in.Addresses, in.Tags, in.Note
	c.MessageAuthenticator = config.MessageAuthenticator(in.MessageAuthenticator)
	c.TACACSPlain, c.TACACSByAddress, c.TLSNames, c.TLSCertificate, c.TLSTrust = in.TACACSPlain,
		in.TACACSByAddress, in.TLSNames, in.TLSCertificate, in.TLSTrust
	c.Sessions = in.Sessions
	switch {
	case in.RemoveChangeSecret:
		c.ChangeSecret = ""
	case in.ChangeSecret != "":
		c.ChangeSecret = s.Box.Seal(c.ChangePlace(), in.ChangeSecret)
	}
	if in.GenerateSecret && in.GenerateTACACSSecret {
		return "", faulty("generateTacacsSecret", "two secrets cannot be made in one call, since one is returned",
			"Make one after the other.")
	}
	if !in.KeepPreviousUntil.IsZero() && in.KeepPreviousUntil.Before(time.Now()) {
		return "", faulty("keepPreviousUntil", "the end of the previous secret lies in the past",
			"Give a moment to come.")
	}
	running, _ := s.Revisions.Running()
	used, _ := config.Find(running.Clients, c.ID)
	made := s.applyTACACS(c, used, in)
	secret := in.Secret
	if in.GenerateSecret {
		secret = seal.Generate()
		made = secret
	}
	if secret == "" {
		return made, nil
	}
	c.Rotate(s.Box.Seal(c.RADIUSPlace(), secret), used, in.KeepPreviousUntil)
	return made, nil
}

// applyTACACS sets the TACACS+ secret of a client, and returns one that was made. The devices have that of the client
// that is used.
func (s *server) applyTACACS(c, used *config.Client, in *apitype.ClientInput) string {
	secret, made := in.TACACSSecret, ""
	if in.GenerateTACACSSecret {
		made = seal.Generate()
		secret = made
	}
	switch {
	case in.RemoveTACACSSecret:
		c.TACACSSecret, c.TACACSPrevious, c.TACACSPreviousUntil = "", "", time.Time{}
		return ""
	case secret != "":
		c.RotateTACACS(s.Box.Seal(c.TACACSPlace(), secret), used, in.KeepPreviousUntil)
	}
	return made
}

// clientView shows clients with what was seen of them.
func (s *server) clientView(*config.Config) func(*config.Client, apitype.Meta) apitype.Client {
	seen := map[string][]sources.Source{}
	for _, c := range s.Sources.All() {
		if c.Client != "" {
			seen[c.Client] = append(seen[c.Client], c)
		}
	}
	return func(c *config.Client, m apitype.Meta) apitype.Client {
		out := apitype.Client{Meta: m, SecretSet: c.Secret.Set(), ClientFields: apitype.ClientFields{Name: c.Name,
			Enabled: c.Enabled, Addresses: c.Addresses,
			MessageAuthenticator: string(c.MessageAuthenticator), Tags: c.Tags, Note: c.Note,
			TACACSPlain: c.TACACSPlain, TACACSByAddress: c.TACACSByAddress, TLSNames: c.TLSNames,
			TLSCertificate: c.TLSCertificate, TLSTrust: c.TLSTrust,
			Sessions: c.Sessions}, TACACSSecretSet: c.TACACSSecret.Set(), ChangeSecretSet: c.ChangeSecret.Set()}
		if c.TACACSPrevious.Set() {
			out.TACACSPreviousUntil = &c.TACACSPreviousUntil
		}
		if c.Previous.Set() {
			out.PreviousUntil = &c.PreviousUntil
		}
		for _, at := range seen[c.ID] {
			out.Good += at.Good
			out.Dropped += at.Dropped
			if at.Signs && c.MessageAuthenticator == config.Auto {
				out.Learned = append(out.Learned, at.Address.String())
			}
			if seen := at.LastGood(); !seen.IsZero() && (out.LastSeen == nil || seen.After(*out.LastSeen)) {
				out.LastSeen = &seen
			}
			if at.Problem != nil && (out.Problem == nil || at.Problem.Last.After(out.Problem.Last)) {
				out.Problem = contactView(&at, c.Name)
			}
		}
		return out
	}
}

func contactView(c *sources.Source, name string) *apitype.Contact {
	sentence, remedy := c.Problem.Fault.Words()
	var earlier []apitype.Trouble
	for _, p := range slices.Backward(c.Earlier) {
		sentence, _ := p.Fault.Words()
		earlier = append(earlier, apitype.Trouble{Fault: string(p.Fault), Sentence: sentence, Detail: p.Detail,
			Since: p.Since, Last: p.Last, Count: p.Count})
	}
	return &apitype.Contact{Address: c.Address.String(), Client: name, ClientID: c.Client, Earlier: earlier,
		Fault: string(c.Problem.Fault), Sentence: sentence, Remedy: remedy,
		Detail: c.Problem.Detail, Since: c.Problem.Since, Last: c.Problem.Last, Count: c.Problem.Count,
		Current: c.Current()}
}

// applyDirectory puts the input over a directory. Its stored password goes to the servers it was typed for, protected
// as it was then, and to no others: they might be those of somebody who wants to hear it.
func (s *server) applyDirectory(d *config.Directory, in *apitype.DirectoryInput) error {
	before, old := d.Destination(), d.BindPassword
	d.Name, d.Kind, d.Servers, d.TLS, d.CA = in.Name, config.DirectoryKind(in.Kind), in.Servers,
		config.TLSMode(in.TLS), in.CA
	d.ServerName, d.BindName, d.Base, d.GroupBase = in.ServerName, in.BindName, in.Base, in.GroupBase
	d.Attributes, d.TimeoutMillis, d.Note = in.Attributes, in.TimeoutMillis, in.Note
	d.Groups, d.CacheSeconds, d.DNS, d.Source, d.GuardAfter = in.Groups, given(in.CacheSeconds), in.DNS, in.Source,
		in.GuardAfter
	d.CopyBelow, d.CopyWanted, d.CopyMinutes = in.CopyBelow, in.CopyWanted, in.CopyMinutes
	switch {
	case strings.TrimSpace(in.BindName) == "":
		d.BindPassword = ""
	case in.BindPassword != "":
		d.BindPassword = s.Box.Seal(d.BindPlace(), in.BindPassword)
	case old.Set():
		typed := config.Config{Directories: []*config.Directory{d}}
		config.Own(typed.Directories, 0)
		if typed.Normalise(); typed.Directories[0].Destination() != before {
			return faulty(
				"bindPassword",
				"the servers, their TLS, authority or name, or the DNS server are others "+
					"than those that the stored password was given for",
				"Type the password of the service account again.",
			)
		}
	}
	return nil
}

func (s *server) applyLane(_ *config.Config, l *config.Lane, in *apitype.LaneFields) (string, error) {
	l.Name, l.When, l.Methods, l.Realm, l.Forward, l.TLS, l.RejectDelayMillis, l.Note = in.Name, in.When, in.Methods,
		in.Realm, in.Forward, in.TLS, in.RejectDelayMillis, in.Note
	l.SecondFactor, l.FactorRestMinutes, l.Follow = in.SecondFactor, in.FactorRestMinutes, in.Follow
	l.Factor = in.Factor
	known := map[string]bool{}
	for _, p := range l.Policies {
		known[p.ID] = true
	}
	l.Policies = slices.Clone(in.Policies)
	for i := range l.Policies {
		p := config.Own(l.Policies, i)
		if !known[p.ID] { // a new policy, or an identifier that came from elsewhere
			p.ID = s.IDs.New(time.Now()).String()
		}
		delete(known, p.ID)
	}
	return "", nil
}

func passView(c *config.Config) func(*config.Pass, apitype.Meta) apitype.Pass {
	uses := map[string][]string{}
	dictionary, _ := pass.Dictionary(c.Vendors)
	for _, other := range c.Passes {
		if other.Extends != "" {
			key := strings.ToLower(other.Extends)
			uses[key] = append(uses[key], "pass "+other.Name)
		}
	}
	for _, o := range c.Overrides {
		key := strings.ToLower(o.Pass)
		uses[key] = append(uses[key], "override "+o.Name)
	}
	for _, lane := range c.Lanes {
		for _, policy := range lane.Policies {
			names := []string{policy.Pass}
			for _, row := range policy.Groups {
				names = append(names, row.Pass)
			}
			for _, name := range names {
				key, use := strings.ToLower(name), lane.Name+" / "+policy.Name
				if name != "" && !slices.Contains(uses[key], use) {
					uses[key] = append(uses[key], use)
				}
			}
		}
	}
	return func(p *config.Pass, m apitype.Meta) apitype.Pass {
		out := apitype.Pass{Meta: m, Reply: []results.Text{}, Gear: []results.Text{}, UsedBy: []string{},
			PassFields: apitype.FieldsOfPass(p)}
		if whole, err := c.Resolve(p); err == nil {
			reply, _ := pass.Compile(&whole, dictionary, c.Vendors)
			out.Reply = reply.Texts()
			grant, _ := pass.CompileGrant(&whole)
			out.Gear = grant.Texts()
		}
		if list := uses[strings.ToLower(p.Name)]; list != nil {
			out.UsedBy = list
		}
		return out
	}
}

// laneOrder moves lanes.
func (s *server) laneOrder() {
	type order struct {
		Lanes []string `json:"lanes" doc:"Identifiers of all lanes in the wanted order"`
	}
	huma.Register(s.api, operation("PUT", "/lane-order", "order-lanes", "Put the lanes of the draft in order"),
		func(ctx context.Context, in *struct {
			PublishInput
			Body order
		}) (*body[apitype.Published], error) {
			moved := ""
			err := s.Revisions.Edit(ctx, who(ctx).Name, func(c *config.Config, _ revision.Authors) (string, error) {
				out := make([]*config.Lane, 0, len(c.Lanes))
				for i, id := range in.Body.Lanes {
					lane, at := config.Find(c.Lanes, id)
					if at < 0 || slices.Contains(in.Body.Lanes[:i], id) {
						return "", problem(http.StatusUnprocessableEntity,
							fmt.Sprintf("lane %q does not exist, or is named twice", id), "Read the lanes again.",
							apitype.Fault{Field: fmt.Sprintf("lanes[%d]", i), Message: "unknown or repeated"})
					}
					if moved == "" && at != i {
						moved = id
					}
					out = append(out, lane)
				}
				if len(out) != len(c.Lanes) {
					return "", problem(http.StatusConflict, "the draft holds other lanes than these",
						"Read the lanes again.")
				}
				c.Lanes = out
				return moved, nil
			})
			if err != nil {
				return nil, editProblem(err)
			}
			number, err := s.publishOne(ctx, in.PublishInput, moved)
			return ok(apitype.Published{Revision: number, Warnings: []config.Problem{}}), err
		})
}

// given is a number of a call; what was left out has its default by now.
func given(n *int) int {
	if n == nil {
		return 0
	}
	return *n
}

// unlearn registers the way back of mode auto.
func (s *server) unlearn() {
	huma.Register(s.api, operation("POST", "/clients/{ref}/unlearn", "unlearn-client",
		"Take requests without Message-Authenticator again from a client in mode auto, until it is seen with one"),
		func(ctx context.Context, in *struct {
			Ref string `path:"ref" maxLength:"200"`
		}) (*body[apitype.Unlearned], error) {
			c, at := config.Find(s.Revisions.Draft().Clients, in.Ref)
			if at < 0 {
				return nil, problem(http.StatusNotFound, "there is no client "+in.Ref, "List the clients.")
			}
			if err := touch(ctx, c); err != nil {
				return nil, err
			}
			audit.Of(ctx).On("client", c.ID, c.Name).Say("forgot what was learned of client " + c.Name)
			return ok(apitype.Unlearned{Addresses: s.Sources.Unlearn(c.ID)}), nil
		})
}
