package main

import (
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

var authorities = kind[apitype.Authority]{
	noun: "authority", path: "/authorities",
	headings: []string{"NAME", "SUBJECT", "UNTIL", "ISSUED"},
	row: func(a apitype.Authority) []string {
		return []string{a.Name, a.Info.Subject, until(a.Days, a.Info.Until.Format("2006-01-02")), fmt.Sprint(a.Issued)}
	},
	show: func(s *invocation, a apitype.Authority) {
		s.fields([2]string{"name", a.Name}, [2]string{"subject", a.Info.Subject},
			[2]string{"until", until(a.Days, a.Info.Until.Format("2006-01-02"))}, [2]string{"key", a.Info.Key},
			[2]string{"SHA-256", a.Info.SHA256}, [2]string{"issued here", fmt.Sprint(a.Issued)})
		s.problems(a.Problems)
	},
}

var certificates = kind[apitype.ServerCertificate]{
	noun: "certificate", path: "/certificates",
	headings: []string{"NAME", "DNS NAMES", "ISSUED BY", "UNTIL", "LANES"},
	row: func(c apitype.ServerCertificate) []string {
		if len(c.Chain) == 0 {
			return []string{c.Name, "", "waits to be signed", "", strings.Join(c.UsedBy, ", ")}
		}
		return []string{c.Name, strings.Join(c.Chain[0].DNS, ", "), c.Chain[0].Issuer,
			until(c.Days, c.Chain[0].Until.Format("2006-01-02")), strings.Join(c.UsedBy, ", ")}
	},
	show: func(s *invocation, c apitype.ServerCertificate) {
		s.fields([2]string{"name", c.Name}, [2]string{"shown by", strings.Join(c.UsedBy, ", ")})
		for _, info := range c.Chain {
			s.fields([2]string{"subject", info.Subject}, [2]string{"DNS names", strings.Join(info.DNS, ", ")},
				[2]string{"issued by", info.Issuer}, [2]string{"until", info.Until.Format("2006-01-02")},
				[2]string{"SHA-256", info.SHA256})
		}
		if c.Request != "" {
			s.say("\n%s", c.Request)
		}
		s.problems(c.Problems)
	},
}

var trusts = kind[apitype.Trust]{
	noun: "trust", path: "/trusts",
	headings: []string{"NAME", "AUTHORITIES", "NAME FROM", "UNANSWERED", "LANES"},
	row: func(t apitype.Trust) []string {
		var names []string
		for _, info := range t.Infos {
			names = append(names, info.Subject)
		}
		return []string{t.Name, strings.Join(names, "; "), strings.Join(t.Identity, ", "), t.Unanswered,
			strings.Join(t.UsedBy, ", ")}
	},
	show: func(s *invocation, t apitype.Trust) {
		s.fields([2]string{"name", t.Name}, [2]string{"our authorities", strings.Join(t.Authorities, ", ")},
			[2]string{"name from", strings.Join(t.Identity, ", ")},
			[2]string{"lists", strings.Join(t.CRLs, ", ")}, [2]string{"responder", t.OCSP}, [2]string{"unanswered",
				t.Unanswered}, [2]string{"used by", strings.Join(t.UsedBy, ", ")})
		for _, info := range t.Infos {
			s.fields([2]string{"authority", info.Subject}, [2]string{"until", info.Until.Format("2006-01-02")},
				[2]string{"SHA-256", info.SHA256})
		}
		s.problems(t.Problems)
	},
}

func until(days int, date string) string {
	switch {
	case days < 0:
		return date + " EXPIRED"
	case days <= 45:
		return fmt.Sprintf("%s, in %d days", date, days)
	}
	return date
}

// makeFlags say what kind of certificate to make.
func makeFlags(f *flag.FlagSet) *apitype.Make {
	m := &apitype.Make{}
	f.StringVar(&m.Subject, "subject", "", "common name")
	f.Var((*list)(&m.Names), "dns", "DNS name or address; repeatable")
	f.IntVar(&m.Days, "days", 0, "how long it is valid, in days; 0 for the default")
	f.StringVar(&m.Key, "key-type", "p256", "p256, or rsa2048 for old devices")
	return m
}

func certificateCommands() []command {
	out := append(authorities.commands(), certificates.commands()...)
	out = append(out, trusts.commands()...)
	return append(out,
		command{"authority", "make", "NAME", "create an authority", func(f *flag.FlagSet) func(*invocation,
			[]string) error {
			m, p := makeFlags(f), publishFlags(f)
			return func(s *invocation, args []string) error {
				name, err := one(args, "name")
				if err != nil {
					return err
				}
				return saved(s, authorities, http.MethodPost, "/authorities"+p.query(),
					apitype.AuthorityInput{Name: name, Make: m})
			}
		}},
		command{"authority", "import", "NAME CERTIFICATE KEY", "import an authority from PEM files",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				p := publishFlags(f)
				return func(s *invocation, args []string) error {
					texts, err := files(args, 3, "name, the certificate and the key")
					if err != nil {
						return err
					}
					return saved(s, authorities, http.MethodPost, "/authorities"+p.query(),
						apitype.AuthorityInput{Name: args[0], Certificate: texts[0], Key: texts[1]})
				}
			}},
		command{"authority", "issue", "NAME DIR", "issue a client certificate; its key is kept only in DIR",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				in := apitype.IssueInput{}
				m := makeFlags(f)
				f.StringVar(&in.UPN, "upn", "", "user principal name of a person")
				f.StringVar(&in.Email, "email", "", "email address")
				f.BoolVar(&in.Legacy, "legacy", false, "PKCS #12 with old ciphers, for devices that know no others")
				return func(s *invocation, args []string) error {
					if len(args) != 2 {
						return usageError("give the authority and a directory for the files")
					}
					in.Make = *m
					return s.issue(args[0], args[1], in)
				}
			}},
		command{"authority", "issued", "[NAME]", "list what was issued", func(*flag.FlagSet) func(*invocation,
			[]string) error {
			return func(s *invocation, args []string) error {
				items, err := client.All[apitype.IssuedCertificate](s.ctx, s.api, "/issued",
					url.Values{"authority": {strings.Join(args, " ")}})
				if err != nil {
					return err
				}
				return s.print(items, func() {
					var rows [][]string
					for _, i := range items {
						state := "until " + i.Until.Format("2006-01-02")
						if i.RevokedAt != nil {
							state = "REVOKED " + i.RevokedAt.Format("2006-01-02")
						}
						rows = append(rows, []string{i.ID, i.Subject, i.Authority, state, i.IssuedBy})
					}
					s.table([]string{"ID", "SUBJECT", "AUTHORITY", "STATE", "BY"}, rows)
				})
			}
		}},
		command{"authority", "revoke", "SUBJECT", "revoke an issued certificate, at once and permanently",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					subject, err := one(args, "subject, or serial number")
					if err != nil {
						return err
					}
					list, err := client.All[apitype.IssuedCertificate](s.ctx, s.api, "/issued",
						url.Values{"q": {subject}})
					if err != nil {
						return err
					}
					ref, err := pick(list, "issued certificates", subject, func(c apitype.IssuedCertificate) (string,
						[]string) {
						if c.RevokedAt != nil {
							return c.ID, []string{c.Serial}
						}
						return c.ID, []string{c.Subject, strings.TrimPrefix(c.Subject, "CN="), c.Serial}
					})
					if err != nil {
						return err
					}
					var out apitype.IssuedCertificate
					if err := s.api.Do(s.ctx, http.MethodPost, "/issued/"+url.PathEscape(ref)+"/revoke", nil,
						&out); err != nil {
						return err
					}
					return s.print(out, func() { s.say("%s is revoked, and refused from now on.", out.Subject) })
				}
			}},
		command{"certificate", "make", "NAME", "make a server certificate, or a signing request",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				m, p := makeFlags(f), publishFlags(f)
				authority := f.String("authority", "", "authority of our own that signs it; without one a signing "+
					"request is made")
				return func(s *invocation, args []string) error {
					name, err := one(args, "name")
					if err != nil {
						return err
					}
					return replace(s, certificates, name, p, apitype.CertificateInput{Name: name, Make: m,
						Authority: *authority})
				}
			}},
		command{"certificate", "import", "NAME FILE [KEY]", "import PEM or PKCS #12, or a signed request",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				p := publishFlags(f)
				return func(s *invocation, args []string) error {
					if len(args) < 2 {
						return usageError("give a name and a file")
					}
					in := apitype.CertificateInput{Name: args[0]}
					if ext := strings.ToLower(filepath.Ext(args[1])); ext == ".p12" || ext == ".pfx" {
						data, err := os.ReadFile(args[1])
						if err != nil {
							return err
						}
						if in.Password, err = s.secret("Password of " + args[1]); err != nil {
							return err
						}
						in.PKCS12 = data
					} else {
						texts, err := files(args, len(args), "name and files")
						if err != nil {
							return err
						}
						in.Chain = texts[0]
						if len(texts) > 1 {
							in.Key = texts[1]
						}
					}
					return replace(s, certificates, args[0], p, in)
				}
			}},
		command{"trust", "add", "NAME", "add a trust list for client certificates", trustCommand(true)},
		command{"trust", "change", "NAME", "change a trust list", trustCommand(false)},
		command{"lane", "supplicant", "NAME", "what to set on a device for a lane",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					name, err := one(args, "lane")
					if err != nil {
						return err
					}
					var out apitype.SupplicantText
					if err := s.api.Do(s.ctx, http.MethodGet, "/lanes/"+url.PathEscape(name)+"/supplicant", nil,
						&out); err != nil {
						return err
					}
					return s.print(out, func() {
						s.say("%s", out.Text)
						for _, text := range out.Files {
							s.say("%s", text)
						}
					})
				}
			}})
}

// files reads all arguments after the first.
func files(args []string, n int, what string) ([]string, error) {
	if len(args) != n || n < 2 {
		return nil, usageError("give " + what)
	}
	var out []string
	for _, path := range args[1:] {
		text, err := os.ReadFile(path)
		if err != nil {
			return nil, err
		}
		out = append(out, string(text))
	}
	return out, nil
}

// saved sends an edit and shows what came of it.
func saved[V any](s *invocation, k kind[V], method, path string, in any, options ...client.Option) error {
	var out apitype.Saved[V]
	if err := s.api.Do(s.ctx, method, path, in, &out, options...); err != nil {
		return err
	}
	return s.print(out, func() {
		k.show(s, out.Object)
		if out.Revision > 0 {
			s.say("Published as revision %d.", out.Revision)
		} else {
			s.say("Saved in the draft.")
		}
	})
}

// replace changes the object of that name, or adds it.
func replace[V any](s *invocation, k kind[V], name string, p publishing, in any) error {
	path := k.path + "/" + url.PathEscape(name)
	if err := s.api.Do(s.ctx, http.MethodGet, path, nil, nil); err == nil {
		return saved(s, k, http.MethodPut, path+p.query(), in, client.IfMatch("*"))
	}
	return saved(s, k, http.MethodPost, k.path+p.query(), in)
}

func (s *invocation) issue(authority, dir string, in apitype.IssueInput) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	var out apitype.NewlyIssued
	if err := s.api.Do(s.ctx, http.MethodPost, "/authorities/"+url.PathEscape(authority)+"/issue", in,
		&out); err != nil {
		return err
	}
	for name, data := range map[string][]byte{"device.pem": []byte(out.Chain), "device.key": []byte(out.Key),
		"device.p12": out.PKCS12} {
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o600); err != nil {
			return err
		}
	}
	return s.print(out.Certificate, func() {
		s.say("%s issued, serial %s, until %s.", out.Certificate.Subject, out.Certificate.Serial,
			out.Certificate.Until.Format("2006-01-02"))
		s.say("device.pem, device.key and device.p12 are in %s; password of device.p12: %s", dir, out.Password)
	})
}

func trustCommand(fresh bool) func(f *flag.FlagSet) func(*invocation, []string) error {
	return func(f *flag.FlagSet) func(*invocation, []string) error {
		var ours, identity, crls list
		f.Var(&ours, "authority", "authority of our own; repeatable")
		f.Var(&identity, "identity", "where the name is read from, in order: upn, dns, email, uri, subject")
		f.Var(&crls, "crl", "address or file of a revocation list; repeatable")
		pem := f.String("pem", "", "PEM file of other authorities")
		ocsp, unanswered := f.String("ocsp", "", "address of a responder"), f.String("unanswered", "refuse",
			"refuse or take, if revocation cannot be checked")
		listed, responder := f.Bool("listed", false, "also the lists that certificates name"),
			f.Bool("responder", false, "also the responder that a certificate names")
		name, p := f.String("name", "", "new name"), publishFlags(f)
		return func(s *invocation, args []string) error {
			ref, err := one(args, "name")
			if err != nil {
				return err
			}
			old := apitype.Trust{TrustFields: apitype.TrustFields{Name: ref, Unanswered: "refuse"}}
			if !fresh {
				if err := s.api.Do(s.ctx, http.MethodGet, "/trusts/"+url.PathEscape(ref), nil, &old); err != nil {
					return err
				}
			}
			was, in := given(f), old.TrustFields
			for flag, apply := range map[string]func(){"authority": func() { in.Authorities = ours },
				"identity": func() { in.Identity = identity }, "crl": func() { in.CRLs = crls }, "ocsp": func() {
					in.OCSP = *ocsp
				},
				"unanswered": func() { in.Unanswered = *unanswered }, "listed": func() { in.Listed = *listed },
				"responder": func() { in.Responder = *responder }, "name": func() { in.Name = *name }} {
				if was[flag] {
					apply()
				}
			}
			if was["pem"] {
				text, err := os.ReadFile(*pem)
				if err != nil {
					return err
				}
				in.PEM = string(text)
			}
			if fresh {
				return saved(s, trusts, http.MethodPost, "/trusts"+p.query(), in)
			}
			return saved(s, trusts, http.MethodPut, "/trusts/"+old.ID+p.query(), in, client.IfMatch(old.Tag))
		}
	}
}
