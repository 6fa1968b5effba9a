package api

import (
	"strings"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
)

// presenceKinds registers what presence is configured with.
func (s *server) presenceKinds() {
	register(s, &kind[config.Source, *config.Source, apitype.SourceInput, apitype.Source]{
		name: "source", plural: "sources",
		list: func(c *config.Config) *[]*config.Source { return &c.Sources },
		apply: func(_ *config.Config, o *config.Source, in *apitype.SourceInput) (string, error) {
			o.Name, o.Enabled, o.Way, o.From, o.Trust, o.Minutes = in.Name, in.Enabled, in.Way, in.From, in.Trust,
				in.Minutes
			o.Shared, o.Readers, o.Note = in.Shared, in.Readers, in.Note
			if o.Way != config.SourceReports && o.Way != config.SourceHosts && o.Way != config.SourceLogons {
				o.Secret = ""
				return "", nil
			}
			return s.newToken(&o.Secret, o.SecretPlace(), in.NewToken), nil
		},
		text: func(o *config.Source) string { return o.Name + " " + o.Way + " " + strings.Join(o.From, " ") },
		views: func(*config.Config) func(*config.Source, apitype.Meta) apitype.Source {
			return func(o *config.Source, m apitype.Meta) apitype.Source {
				return apitype.Source{
					Meta:     m,
					TokenSet: o.Secret.Set(),
					SourceFields: apitype.SourceFields{Name: o.Name,
						Enabled: o.Enabled, Way: o.Way, From: o.From, Trust: o.Trust, Minutes: o.Minutes,
						Shared:  o.Shared,
						Readers: o.Readers, Note: o.Note},
				}
			}
		},
	})
	register(s, &kind[config.Scope, *config.Scope, apitype.ScopeFields, apitype.Scope]{
		name: "scope", plural: "scopes",
		list: func(c *config.Config) *[]*config.Scope { return &c.Scopes },
		apply: func(_ *config.Config, o *config.Scope, in *apitype.ScopeFields) (string, error) {
			o.Name, o.LeaveOut, o.Networks, o.Accounts, o.Hosts, o.MACs, o.Note = in.Name, in.LeaveOut, in.Networks,
				in.Accounts, in.Hosts, in.MACs, in.Note
			return "", nil
		},
		text: func(o *config.Scope) string {
			return o.Name + " " + strings.Join(o.Networks, " ") + " " + strings.Join(o.Accounts, " ")
		},
		views: func(*config.Config) func(*config.Scope, apitype.Meta) apitype.Scope {
			dropped, _ := s.Presence.Dropped()
			return func(o *config.Scope, m apitype.Meta) apitype.Scope {
				return apitype.Scope{
					Meta:    m,
					Dropped: dropped[o.Name],
					ScopeFields: apitype.ScopeFields{Name: o.Name,
						LeaveOut: o.LeaveOut, Networks: o.Networks, Accounts: o.Accounts, Hosts: o.Hosts, MACs: o.MACs,
						Note: o.Note},
				}
			}
		},
	})
	register(s, &kind[config.Subscriber, *config.Subscriber, apitype.SubscriberInput, apitype.Subscriber]{
		name: "subscriber", plural: "subscribers",
		list: func(c *config.Config) *[]*config.Subscriber { return &c.Subscribers },
		apply: func(_ *config.Config, o *config.Subscriber, in *apitype.SubscriberInput) (string, error) {
			o.To = in.To
			switch {
			case in.To == "":
				o.PushSecret = ""
			case in.PushSecret != "":
				o.PushSecret = s.Box.Seal(o.PushPlace(), in.PushSecret)
			}
			o.Name, o.Enabled, o.From, o.Networks, o.Groups, o.Note = in.Name, in.Enabled, in.From, in.Networks,
				in.Groups, in.Note
			return s.newToken(&o.Secret, o.SecretPlace(), in.NewToken), nil
		},
		text: func(o *config.Subscriber) string { return o.Name + " " + strings.Join(o.Groups, " ") },
		views: func(*config.Config) func(*config.Subscriber, apitype.Meta) apitype.Subscriber {
			return func(o *config.Subscriber, m apitype.Meta) apitype.Subscriber {
				return apitype.Subscriber{
					Meta:     m,
					TokenSet: o.Secret.Set(),
					SubscriberFields: apitype.SubscriberFields{
						Name: o.Name, Enabled: o.Enabled, From: o.From, Networks: o.Networks, Groups: o.Groups,
						To: o.To, Note: o.Note},
				}
			}
		},
	})
}

// newToken makes a token where there is none yet, or another one is wanted, and returns it.
func (s *server) newToken(secret *config.Secret, at config.Place, wanted bool) string {
	if secret.Set() && !wanted {
		return ""
	}
	made := seal.Generate()
	*secret = s.Box.Seal(at, made)
	return made
}
