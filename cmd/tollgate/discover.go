package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"os"
	"strings"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

func discoverCommand() command {
	return command{"directory", "discover", "HOST-OR-DOMAIN", "find a directory, and the safest way to reach it",
		func(f *flag.FlagSet) func(*invocation, []string) error {
			in := apitype.Discovery{}
			f.StringVar(&in.DNS, "dns", "", "DNS server to ask")
			f.StringVar(&in.Source, "source", "", "address to connect from")
			f.StringVar(&in.BindName, "bind", "", "service account, in any form")
			ca := f.String("ca", "", "PEM file that is trusted already")
			password := f.Bool("password", false, "read its password from the standard input, or ask for it")
			trust := f.String("trust", "", "trust the certificate with this SHA-256 fingerprint")
			add := f.String("add", "", "add the directory to the draft under this name")
			return func(s *invocation, args []string) error {
				text, err := one(args, "host or domain")
				if err != nil {
					return err
				}
				in.Text = text
				if *ca != "" {
					pem, err := os.ReadFile(*ca)
					if err != nil {
						return fmt.Errorf("reading what is trusted: %w", err)
					}
					in.CA = string(pem)
				}
				if *password {
					if in.Password, err = s.secret("Password of " + in.BindName); err != nil {
						return err
					}
				}
				return s.discover(in, *trust, *add)
			}
		}}
}

// discover runs a discovery; with a fingerprint to trust it runs again, trusting that certificate.
func (s *invocation) discover(in apitype.Discovery, trust, add string) error {
	found, steps, err := s.discovery(in, trust == "")
	if err != nil {
		return err
	}
	if trust != "" {
		for _, c := range found.Certificates {
			if digits(c.SHA256) == digits(trust) {
				in.CA = c.PEM
			}
		}
		if in.CA == "" {
			return fmt.Errorf("no server shows a certificate with the fingerprint %s: run it without -trust, and "+
				"compare", trust)
		}
		if found, steps, err = s.discovery(in, true); err != nil {
			return err
		}
	}
	if s.json {
		err = s.print(map[string]any{"steps": steps, "proposal": found}, nil)
	} else {
		s.proposal(found)
	}
	if err != nil || len(found.Servers) == 0 {
		return errFailed
	}
	if add == "" {
		return nil
	}
	if !found.Trusted {
		return fmt.Errorf("the server is not trusted yet: compare the fingerprint, and give it with -trust")
	}
	return s.addFound(found, in, add)
}

// addFound adds a directory as it was found.
func (s *invocation) addFound(found apitype.Proposal, in apitype.Discovery, name string) error {
	settings := apitype.DirectoryInput{BindPassword: in.Password, DirectoryFields: apitype.DirectoryFields{Name: name,
		Kind: string(found.Kind), Servers: found.Servers, TLS: string(found.TLS), CA: in.CA,
		ServerName: found.ServerName, BindName: found.BindName, DNS: found.DNS, Source: found.Source,
		Attributes: []string{}, TimeoutMillis: 3000, CacheSeconds: new(60)}}
	var out apitype.Saved[apitype.Directory]
	if err := s.api.Do(s.ctx, http.MethodPost, "/directories", settings, &out); err != nil {
		return err
	}
	if !s.json {
		s.saved("directory", out.Object.Name, "added", out.Revision)
	}
	return nil
}

func digits(fingerprint string) string {
	return strings.ToLower(strings.NewReplacer(":", "", " ", "").Replace(fingerprint))
}

func (s *invocation) discovery(in apitype.Discovery, show bool) (found apitype.Proposal, steps []results.Step,
	err error) {
	err = s.api.Stream(s.ctx, http.MethodPost, "/directory-discovery", in, func(e client.Event) bool {
		if e.Name == "end" {
			json.Unmarshal(e.Data, &found)
			return false
		}
		var step results.Step
		if json.Unmarshal(e.Data, &step) == nil && step.State != results.Running {
			if steps = append(steps, step); show && !s.json {
				s.step(step)
			}
		}
		return true
	})
	return found, steps, err
}

func (s *invocation) proposal(p apitype.Proposal) {
	if len(p.Servers) == 0 {
		return
	}
	s.say("")
	s.fields([2]string{"kind", string(p.Kind)}, [2]string{"servers", strings.Join(p.Servers, ", ")},
		[2]string{"tls", string(p.TLS)}, [2]string{"name in certificate", p.ServerName},
		[2]string{"signs in as", p.BindName}, [2]string{"base", p.Base}, [2]string{"other contexts",
			strings.Join(p.Contexts, ", ")})
	if !p.Trusted {
		for _, c := range p.Certificates {
			what := "certificate"
			if c.Authority {
				what = "authority"
			}
			s.say("")
			s.fields([2]string{what, c.Subject}, [2]string{"issued by", c.Issuer},
				[2]string{"until", c.NotAfter.Format("2006-01-02")}, [2]string{"SHA-256", c.SHA256})
		}
		s.say("Not trusted yet: compare a fingerprint, and run it again with -trust FINGERPRINT.")
	}
}
