package main

import (
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// fleetCommands change many clients at once.
func fleetCommands() []command {
	return []command{
		{"client", "import", "FILE", "add or change clients from CSV; - reads the standard input",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				check, partial := f.Bool("check", false, "only report what would happen"), f.Bool("partial", false,
					"import the valid lines even if others are wrong")
				secrets := secretsFlag(f)
				return func(s *invocation, args []string) error {
					path, err := one(args, "file")
					if err != nil {
						return err
					}
					return s.importClients(path, *secrets, *check, *partial)
				}
			}},
		{"client", "export", "[TEXT]", "clients of the draft as CSV, without secrets",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					return s.api.Do(s.ctx, http.MethodGet, "/client-export?q="+
						url.QueryEscape(strings.Join(args, " ")), nil, client.To{Writer: s.file})
				}
			}},
		{"client", "bulk", "[NAME...]", "change many clients at once: tags, switch, secrets", bulk},
	}
}

func secretsFlag(f *flag.FlagSet) *string {
	return f.String("secrets", "", "new file for the secrets that are made; without it they are printed")
}

func bulk(f *flag.FlagSet) func(*invocation, []string) error {
	var in apitype.ClientsChange
	f.StringVar(&in.Matching, "match", "", "all that hold this text, instead of names")
	f.BoolVar(&in.All, "all", false, "all there are, instead of names")
	tags, untag := f.String("tag", "", "tags to set: site=north-pier,kind=switch"), f.String("untag", "",
		"tags to take away: site,kind")
	on, off := f.Bool("on", false, "switch on"), f.Bool("off", false, "switch off")
	f.StringVar(&in.Mode, "message-authenticator", "", "require, auto or off")
	f.BoolVar(&in.Rotate, "rotate", false, "make new shared secrets")
	keep := f.Duration("keep", 24*time.Hour, "with -rotate: how long the present ones are accepted")
	f.BoolVar(&in.Check, "check", false, "only count")
	secrets := secretsFlag(f)
	return func(s *invocation, args []string) error {
		in.Clients = args
		if *on && *off {
			return usageError("give -on or -off")
		}
		if *on || *off {
			in.Enabled = on
		}
		if *tags != "" {
			in.Tags = map[string]string{}
			for _, tag := range strings.Split(*tags, ",") {
				key, value, ok := strings.Cut(tag, "=")
				if !ok {
					return usageError(fmt.Sprintf("%q is not key=value", tag))
				}
				in.Tags[key] = value
			}
		}
		if *untag != "" {
			in.Untag = strings.Split(*untag, ",")
		}
		in.KeepFor = int(keep.Round(time.Hour) / time.Hour)
		file, err := s.secretsFile(*secrets)
		if err != nil {
			return err
		}
		var out apitype.ClientsChanged
		if err := s.api.Do(s.ctx, http.MethodPost, "/client-changes", in, &out); err != nil {
			return file.drop(err)
		}
		if err := file.keep(out.Secrets); err != nil || s.json {
			return firstError(err, func() error { return s.print(out, nil) })
		}
		if in.Check {
			s.say("%s would be changed.", many(out.Chosen, "client"))
			return nil
		}
		s.say("%s changed in the draft. Publish with: tollgate draft publish", many(out.Chosen, "client"))
		if out.KeptUntil != nil {
			s.say("The present secrets are accepted until %s.", out.KeptUntil.Local().Format("2006-01-02 15:04"))
		}
		return nil
	}
}

func firstError(err error, then func() error) error {
	if err != nil {
		return err
	}
	return then()
}

func (s *invocation) importClients(path, secrets string, check, partial bool) error {
	if path == "-" {
		path = "/dev/stdin"
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	file, err := s.secretsFile(secrets)
	if err != nil {
		return err
	}
	var out apitype.ClientImport
	if err := s.api.Do(s.ctx, http.MethodPost, "/client-import", apitype.Sheet{CSV: string(text), Check: check,
		Partial: partial}, &out); err != nil {
		return file.drop(err)
	}
	if err := file.keep(out.Secrets); err != nil {
		return err
	}
	err = s.print(out, func() { s.sheetReport(&out.Import) })
	if err == nil && out.Wrong > 0 {
		return errFailed
	}
	return err
}

// secretsOut is where secrets go that are told only once. A file is made before the call, so that nothing is lost for
// want of a place.
type secretsOut struct {
	to   io.Writer
	file *os.File
}

func (s *invocation) secretsFile(path string) (*secretsOut, error) {
	if path == "" {
		return &secretsOut{to: s.out}, nil
	}
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, fmt.Errorf("making the file for the secrets: %w", err)
	}
	return &secretsOut{to: file, file: file}, nil
}

// drop removes the file where nothing was made.
func (o *secretsOut) drop(err error) error {
	if o.file != nil {
		o.file.Close()
		os.Remove(o.file.Name())
	}
	return err
}

// keep writes the secrets, to the disk if they go into a file.
func (o *secretsOut) keep(secrets string) error {
	if secrets == "" {
		return o.drop(nil)
	}
	_, err := io.WriteString(o.to, secrets)
	if o.file == nil {
		return err
	}
	if err == nil {
		err = o.file.Sync()
	}
	if closed := o.file.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return fmt.Errorf("writing the secrets, which are told only once: %w; make new ones", err)
	}
	return nil
}
