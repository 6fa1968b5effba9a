package main

import (
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/web/apitype"
)

var clients = kind[apitype.Client]{
	noun: "client", path: "/clients",
	headings: []string{"NAME", "ADDRESSES", "TAGS", "STATE", "LAST SEEN"},
	row: func(c apitype.Client) []string {
		return []string{c.Name, strings.Join(c.Addresses, " "), tags(c.Tags), clientState(c), since(c.LastSeen)}
	},
	show: func(s *invocation, c apitype.Client) {
		s.fields([2]string{"name", c.Name}, [2]string{"addresses", strings.Join(c.Addresses, ", ")},
			[2]string{"tags", tags(c.Tags)}, [2]string{"message-authenticator", authenticatorState(c)},
			[2]string{"state", clientState(c)}, [2]string{"last seen", since(c.LastSeen)},
			[2]string{"answered", fmt.Sprint(c.Good)}, [2]string{"discarded", fmt.Sprint(c.Dropped)},
			[2]string{"note", c.Note})
		s.fields([2]string{"over TLS", strings.Join(c.TLSNames, ", ")}, [2]string{"tacacs+", gearState(c)},
			[2]string{"accounting", accountingState(c)},
			[2]string{"takes changes at", changesState(c)})
		if c.PreviousUntil != nil {
			s.fields([2]string{"previous secret until", c.PreviousUntil.Local().Format(time.RFC1123)})
		}
		if c.Problem != nil {
			s.fields([2]string{"last problem", fmt.Sprintf("%s %s (%d times, last %s). %s", c.Problem.Address,
				c.Problem.Sentence, c.Problem.Count, since(&c.Problem.Last), c.Problem.Remedy)})
			if c.Problem.Current && c.Problem.Fault == missingAuthenticator &&
				c.MessageAuthenticator == "require" {
				s.fields([2]string{"for it alone", acceptUnsigned(c.Name)})
			}
		}
	},
}

// authenticatorState says what a client has to do about Message-Authenticator.
func authenticatorState(c apitype.Client) string {
	if len(c.Learned) == 0 {
		return c.MessageAuthenticator
	}
	return fmt.Sprintf("auto, and required from %s since it was seen; back with: tollgate client unlearn %s",
		strings.Join(c.Learned, ", "), c.Name)
}

// missingAuthenticator is the fault of a request without Message-Authenticator.
const missingAuthenticator = "no-message-authenticator"

func tags(m map[string]string) string {
	var out []string
	for k, v := range m {
		out = append(out, k+"="+v)
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

func clientState(c apitype.Client) string {
	switch {
	case !c.Enabled:
		return "switched off"
	case c.Problem != nil && c.Problem.Current:
		return c.Problem.Sentence
	case c.LastSeen != nil:
		return "answers"
	}
	return "never seen"
}

// gearState says in words how a client speaks TACACS+.
func gearState(c apitype.Client) string {
	var out []string
	for _, part := range []struct {
		set  bool
		text string
	}{{c.TACACSSecretSet, "by a shared secret"}, {c.TACACSPreviousUntil != nil, "and the previous one"},
		{c.TACACSByAddress, "over TLS by its address alone"}, {c.TACACSPlain, "not obfuscated"}} {
		if part.set {
			out = append(out, part.text)
		}
	}
	return strings.Join(out, ", ")
}

func since(at *time.Time) string {
	if at == nil {
		return ""
	}
	d := time.Since(*at)
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 24*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return at.Local().Format("2006-01-02 15:04")
}

// clientFlags are the flags of add and change.
type clientFlags struct {
	addresses, dropTags                                          list
	tags                                                         pairs
	name, mode, note                                             *string
	typed, generate, on, off                                     *bool
	keep                                                         *time.Duration
	tacacsTyped, tacacsGenerate, tacacsRemove, plain, obfuscated *bool
	byAddress, byName                                            *bool
	certNames                                                    list
	certificate, trust                                           *string
	sessions                                                     sessionSettings
	publishing
}

func newClientFlags(f *flag.FlagSet) *clientFlags {
	c := &clientFlags{tags: pairs{}}
	f.Var(&c.addresses, "address", "address or prefix; several with commas or repeated")
	f.Var(c.tags, "tag", "KEY=VALUE; repeatable")
	f.Var(&c.dropTags, "untag", "tag to take off")
	c.name = f.String("name", "", "new name")
	c.mode = f.String("message-authenticator", "require", "require, auto or off")
	c.typed = f.Bool("secret", false, "read the shared secret from the standard input, or ask for it")
	c.generate = f.Bool("generate", false, "generate a shared secret and print it once")
	c.keep = f.Duration("keep-previous", 0, "with a new secret: how long the current one is still accepted, "+
		"such as 24h")
	c.tacacsTyped, c.tacacsGenerate = f.Bool("tacacs-secret", false,
		"read the TACACS+ secret from the standard input, or ask for it"), f.Bool("tacacs-generate", false,
		"generate a TACACS+ secret and print it once")
	c.tacacsRemove = f.Bool("tacacs-remove", false, "remove the TACACS+ secret")
	c.plain, c.obfuscated = f.Bool("tacacs-plain", false, "accept TACACS+ packets that are not obfuscated"),
		f.Bool("tacacs-obfuscated", false, "accept only obfuscated TACACS+ packets")
	c.byAddress, c.byName = f.Bool("tacacs-by-address", false, "accept it over TLS by its address alone, without a "+
		"certificate"), f.Bool("tacacs-by-certificate", false, "accept it over TLS by its certificate only")
	f.Var(&c.certNames, "tls-name", "name in the client's certificate over TLS; repeatable, none for none")
	c.certificate, c.trust = f.String("tls-certificate", "", "server certificate shown to it over TLS"),
		f.String("tls-trust", "", "trust list for its certificate")
	c.sessions.flags(f)
	c.note, c.on, c.off = f.String("text", "", "note about the client"), f.Bool("on", false, "switch on"),
		f.Bool("off", false, "switch off")
	c.publishing = publishFlags(f)
	return c
}

// input applies the flags that were given.
func (c *clientFlags) input(s *invocation, was map[string]bool, in *apitype.ClientInput) error {
	if was["address"] {
		in.Addresses = c.addresses
	}
	if in.Tags == nil {
		in.Tags = map[string]string{}
	}
	for k, v := range c.tags {
		in.Tags[k] = v
	}
	for _, k := range c.dropTags {
		delete(in.Tags, k)
	}
	if was["name"] {
		in.Name = *c.name
	}
	if was["message-authenticator"] || in.MessageAuthenticator == "" {
		in.MessageAuthenticator = *c.mode
	}
	if was["text"] {
		in.Note = *c.note
	}
	in.Enabled = (in.Enabled || *c.on) && !*c.off
	in.GenerateSecret, in.GenerateTACACSSecret, in.RemoveTACACSSecret = *c.generate, *c.tacacsGenerate, *c.tacacsRemove
	in.TACACSPlain = (in.TACACSPlain || *c.plain) && !*c.obfuscated
	in.TACACSByAddress = (in.TACACSByAddress || *c.byAddress) && !*c.byName
	assign(was, "tls-certificate", &in.TLSCertificate, *c.certificate)
	assign(was, "tls-trust", &in.TLSTrust, *c.trust)
	if was["tls-name"] {
		if in.TLSNames = c.certNames; len(c.certNames) == 1 && c.certNames[0] == "none" {
			in.TLSNames = []string{}
		}
	}
	if err := c.sessions.apply(s, was, in); err != nil {
		return err
	}
	if *c.tacacsTyped {
		secret, err := s.secret("TACACS+ secret")
		if err != nil {
			return err
		}
		in.TACACSSecret = secret
	}
	if *c.keep > 0 {
		in.KeepPreviousUntil = time.Now().Add(*c.keep)
	}
	if *c.typed {
		secret, err := s.secret("Shared secret")
		if err != nil {
			return err
		}
		in.Secret = secret
	}
	return nil
}

func (s *invocation) clientSaved(out apitype.Saved[apitype.Client], what string) error {
	s.warned(out.Object.Meta, "client", out.Object.Name)
	return s.print(out, func() {
		s.saved("client", out.Object.Name, what, out.Revision)
		if out.Secret != "" {
			s.say("Shared secret, shown only here: %s", out.Secret)
		}
		if c := out.Object; what == "added" && c.SecretSet && c.MessageAuthenticator == "require" {
			s.say("Requests without Message-Authenticator are discarded. If the device is too old to send one: %s",
				acceptUnsigned(c.Name))
		}
	})
}

// acceptUnsigned is the change that takes requests without Message-Authenticator from one client.
func acceptUnsigned(client string) string {
	return "tollgate client change " + client + " -message-authenticator auto -publish"
}

func clientCommands() []command {
	return append(clients.commands(),
		command{"client", "add", "NAME", "add a client to the draft", func(f *flag.FlagSet) func(*invocation,
			[]string) error {
			c := newClientFlags(f)
			return func(s *invocation, args []string) error {
				name, err := one(args, "name")
				if err != nil {
					return err
				}
				in := apitype.ClientInput{ClientFields: apitype.ClientFields{Enabled: true, Addresses: []string{}}}
				if err := c.input(s, given(f), &in); err != nil {
					return err
				}
				in.Name = name
				tacacs := in.GenerateTACACSSecret || in.TACACSSecret != "" || in.TACACSPlain || in.TACACSByAddress ||
					len(in.TLSNames) > 0
				in.GenerateSecret = in.GenerateSecret || in.Secret == "" && !tacacs
				out, err := add[apitype.Client](s, "/clients", c.publishing, in)
				if err != nil {
					return err
				}
				return s.clientSaved(out, "added")
			}
		}},
		command{"client", "change", "NAME", "change a client of the draft",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				c := newClientFlags(f)
				return func(s *invocation, args []string) error {
					name, err := one(args, "name")
					if err != nil {
						return err
					}
					out, err := change(s, "/clients", name, c.publishing, func(old apitype.Client) (any, string,
						error) {
						in := apitype.ClientInput{ClientFields: old.ClientFields}
						err := c.input(s, given(f), &in)
						return in, old.Tag, err
					})
					if err != nil {
						return err
					}
					return s.clientSaved(out, "changed")
				}
			}},
		command{"client", "unlearn", "NAME", "mode auto: back from require to auto",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					name, err := one(args, "name")
					if err != nil {
						return err
					}
					var out apitype.Unlearned
					if err := s.api.Do(s.ctx, http.MethodPost, "/clients/"+url.PathEscape(name)+"/unlearn", nil,
						&out); err != nil {
						return err
					}
					return s.print(out, func() {
						s.say("%s: no longer required from %s.", name, many(out.Addresses, "address"))
					})
				}
			}},
		command{"client", "problems", "", "sources whose requests were discarded, unknown ones too",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, _ []string) error {
					list, err := listAll[apitype.Contact](s, "/contacts")
					if err != nil {
						return err
					}
					return s.print(list, func() {
						var rows [][]string
						for _, c := range list {
							rows = append(rows, []string{c.Address, c.Client, c.Sentence, fmt.Sprint(c.Count),
								since(&c.Last)})
							for _, e := range c.Earlier {
								rows = append(rows, []string{"", "  before", e.Sentence, fmt.Sprint(e.Count),
									since(&e.Last)})
							}
						}
						s.table([]string{"ADDRESS", "CLIENT", "PROBLEM", "TIMES", "LAST"}, rows)
					})
				}
			}})
}
