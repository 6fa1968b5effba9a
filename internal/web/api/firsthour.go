package api

import (
	"cmp"
	"context"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/certificate"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/firsthour"
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
)

// namingPatience bounds how long a directory is asked for the names of its domain.
const namingPatience = 3 * time.Second

func (s *server) firstHour() {
	huma.Register(s.api, operation("GET", "/first-hour", "get-first-hour",
		"What a new installation still lacks until its first device is admitted"),
		func(ctx context.Context, _ *none) (*body[apitype.FirstHour], error) {
			out, err := s.firstSteps(ctx)
			return ok(out), err
		})
	huma.Register(s.api, operation("POST", "/first-hour/certificate", "make-first-certificate",
		"Make a server certificate in the draft, and an authority of our own that issues it"),
		func(ctx context.Context, in *struct {
			Body apitype.FirstCertificate
		}) (*body[apitype.FirstHour], error) {
			if err := s.firstCertificate(ctx, strings.TrimSpace(in.Body.Name)); err != nil {
				return nil, err
			}
			out, err := s.firstSteps(ctx)
			return ok(out), err
		})
	huma.Register(s.api, operation("POST", "/first-hour/results", "make-first-results",
		"Make a lane in the draft that gives the people of groups a VLAN, with its policy and passes"),
		func(ctx context.Context, in *struct {
			Body apitype.FirstResults
		}) (*body[apitype.FirstHour], error) {
			if err := s.firstResults(ctx, &in.Body); err != nil {
				return nil, err
			}
			out, err := s.firstSteps(ctx)
			return ok(out), err
		})
	huma.Register(s.api, operation("PUT", "/first-hour/{step}", "put-off-first-step",
		"Put a step of the first hour off, or take it up again"), func(ctx context.Context, in *struct {
		Step string `path:"step" enum:"people,names,certificate,results,client,seen,keeping"`
		Body apitype.FirstPutOff
	}) (*body[apitype.FirstHour], error) {
		what := map[bool]string{true: "put off: ", false: "took up again: "}[in.Body.Off]
		audit.Of(ctx).On("first-hour", in.Step, in.Step).Say("the first hour, " + what + in.Step)
		if err := s.Store.SetPutOff(ctx, in.Step, who(ctx).Name, in.Body.Off); err != nil {
			return nil, err
		}
		out, err := s.firstSteps(ctx)
		return ok(out), err
	})
}

func (s *server) firstSteps(ctx context.Context) (out apitype.FirstHour, err error) {
	c := s.Revisions.Draft()
	w := firsthour.World{Accounts: s.Gate.Accounts.Len(), Certificate: certificateInWords(c)}
	w.Running, _ = s.Revisions.Running()
	if w.Off, err = s.Store.PutOff(ctx); err != nil {
		return out, err
	}
	list, err := s.Store.Operators(ctx)
	if err != nil {
		return out, err
	}
	for _, o := range list {
		if o.Role == string(operator.Owner) {
			w.Owners++
		}
	}
	if err := s.firstSeen(ctx, &w, &out); err != nil {
		return out, err
	}
	steps := firsthour.Steps(c, w)
	out.Remains = firsthour.Remains(steps)
	for _, step := range steps {
		if step.State == firsthour.Done {
			out.Done++
		}
		out.Steps = append(out.Steps, apitype.FirstStep{Key: step.Key, Title: step.Title, State: string(step.State),
			Text: step.Text, Detail: step.Detail, Page: step.Page})
	}
	domain := ""
	if len(c.Realms) == 0 {
		domain = s.firstRealm(ctx, c, w.Accounts, &out)
	} else {
		for _, form := range c.Realms[0].Forms {
			if form.Kind == config.Suffix {
				domain = form.Value
			}
		}
	}
	host, _ := os.Hostname()
	if out.ServerName = "radius." + domain; domain == "" {
		out.ServerName = strings.ToLower(cmp.Or(host, "radius"))
	}
	out.Methods, out.KeyFile = append([]string{}, c.Offer("", s.Gate.Accounts.Least())...), s.KeyFile
	out.Servers, out.Strangers = s.listeners(), []string{}
	for _, contact := range s.Sources.All() {
		if contact.Client == "" && len(out.Strangers) < 5 {
			out.Strangers = append(out.Strangers, contact.Address.String())
		}
	}
	return out, nil
}

// firstSeen tells of the last attempt, and of an admitted one.
func (s *server) firstSeen(ctx context.Context, w *firsthour.World, out *apitype.FirstHour) error {
	f := store.Filter{Limit: 1, Patience: patience}
	last, err := s.Attempts.Find(ctx, f)
	if err != nil || len(last.Items) == 0 {
		return err
	}
	view := s.attemptView(ctx, &last.Items[0])
	out.Attempt = &view
	f.Verdict = "admitted"
	admitted, err := s.Attempts.Find(ctx, f)
	if err != nil {
		return err
	}
	words := func(a *apitype.Attempt) string {
		text := cmp.Or(a.Person, a.User, a.Sent, a.MAC) + " on " + a.Client + ": " + a.Verdict
		if a.VLAN != "" {
			text += ", VLAN " + a.VLAN
		}
		return text
	}
	if len(admitted.Items) > 0 {
		first := s.attemptView(ctx, &admitted.Items[0])
		out.Attempt, w.Admitted = &first, words(&first)
		return nil
	}
	w.Refused = words(&view) + ". " + view.Sentence
	return nil
}

// firstRealm proposes a realm, and returns the domain that it is named after.
func (s *server) firstRealm(ctx context.Context, c *config.Config, accounts int, out *apitype.FirstHour) string {
	domain, short := "", ""
	if len(c.Directories) > 0 {
		if d, _, err := s.directory(c.Directories[0].ID); err == nil {
			ctx, cancel := context.WithTimeout(ctx, namingPatience)
			defer cancel()
			domain, short = d.Naming(ctx) // a directory that does not answer now proposes nothing
		}
	}
	realm := firsthour.Realm(c, accounts, domain, short)
	out.Realm = &realm
	return domain
}

func certificateInWords(c *config.Config) string {
	if len(c.Certificates) == 0 {
		return ""
	}
	one := c.Certificates[0]
	chain, err := certificate.ParsePEM(one.Chain)
	if err != nil {
		return one.Name + " waits to be signed"
	}
	leaf := certificate.Describe(chain[0])
	return cmp.Or(strings.Join(leaf.DNS, ", "), one.Name) + " from " + leaf.Issuer + ", until " +
		chain[0].NotAfter.Format(time.DateOnly)
}

// dnsName is a host name (RFC 1123 section 2.1).
var dnsName = regexp.MustCompile(
	`^([a-zA-Z0-9]([a-zA-Z0-9-]{0,61}[a-zA-Z0-9])?\.)*[a-zA-Z0-9]([a-zA-Z0-9-]{0,61}[a-zA-Z0-9])?$`,
)

// firstCertificate makes an authority and a server certificate of it, in one edit.
func (s *server) firstCertificate(ctx context.Context, name string) error {
	if !dnsName.MatchString(name) {
		return faulty("name", "this is no DNS name", "Use one such as radius.lanternferries.example.")
	}
	at := time.Now()
	return editProblem(
		s.Revisions.Replace(ctx, who(ctx).Name, "", func(draft *config.Config) (*config.Config, error) {
			c := draft.Copy()
			if len(c.Certificates) > 0 {
				return nil, problem(
					http.StatusConflict,
					"there is a server certificate already",
					"Look at Certificates.",
				)
			}
			var authority *config.Authority
			if len(c.Authorities) > 0 {
				authority = c.Authorities[0]
			} else {
				authority = &config.Authority{}
				authority.Identify(s.IDs.New(at).String())
				if _, err := s.applyAuthority(c, authority, &apitype.AuthorityInput{Name: name + " authority",
					Make: &apitype.Make{Subject: "Authority of " + name}}); err != nil {
					return nil, err
				}
				c.Authorities = append(c.Authorities, authority)
			}
			made := &config.Certificate{}
			made.Identify(s.IDs.New(at).String())
			if _, err := s.applyCertificate(c, made, &apitype.CertificateInput{Name: name,
				Authority: authority.Name, Make: &apitype.Make{Subject: name, Names: []string{name}}}); err != nil {
				return nil, err
			}
			c.Certificates = append(c.Certificates, made)
			return c, nil
		}),
	)
}

// firstResults makes what was wished for, with its groups picked, in one edit.
func (s *server) firstResults(ctx context.Context, in *apitype.FirstResults) error {
	wish := firsthour.Wish{Others: in.Others, Ports: in.Ports}
	for _, row := range in.Rows {
		wish.Rows = append(wish.Rows, firsthour.Row{Group: row.Group, VLAN: row.VLAN})
	}
	at := time.Now()
	err := s.Revisions.Replace(ctx, who(ctx).Name, "", func(draft *config.Config) (*config.Config, error) {
		c := draft.Copy()
		for _, row := range in.Rows {
			if row.ID == "" {
				continue
			}
			d, found := config.Find(c.Directories, row.Directory)
			if found < 0 {
				return nil, problem(http.StatusNotFound, "there is no directory "+row.Directory+" in the draft", "")
			}
			if config.PickedAs(d.Groups, row.ID) == "" {
				own := config.Own(c.Directories, found)
				own.Groups = config.Pick(own.Groups, config.PickedGroup{ID: row.ID, Name: row.Group})
			}
		}
		methods := c.Offer("", s.Gate.Accounts.Least())
		_, err := wish.Make(c, methods, func() string { return s.IDs.New(at).String() })
		return c, err
	})
	var fault *firsthour.Fault
	if errors.As(err, &fault) {
		return faulty(fault.Field, fault.Message, fault.Remedy)
	}
	return editProblem(err)
}

// Listening is an address at which the service is asked.
type Listening struct {
	What string
	At   netip.AddrPort
}

// listeners are the addresses at which devices can ask: for one that stands for all, each that the machine has.
func (s *server) listeners() []apitype.Listener {
	out := []apitype.Listener{}
	for _, l := range s.Listening {
		addrs := []netip.Addr{l.At.Addr()}
		if l.At.Addr().IsUnspecified() {
			addrs = machineAddresses(l.At.Addr())
		}
		for _, addr := range addrs {
			out = append(out, apitype.Listener{What: l.What, Address: addr.String(), Port: l.At.Port()})
		}
	}
	return out
}

func machineAddresses(unspecified netip.Addr) (out []netip.Addr) {
	list, _ := net.InterfaceAddrs()
	for _, a := range list {
		n, isNet := a.(*net.IPNet)
		if !isNet {
			continue
		}
		addr, valid := netip.AddrFromSlice(n.IP)
		addr = addr.Unmap()
		if valid && !addr.IsLoopback() && !addr.IsLinkLocalUnicast() && (addr.Is4() || unspecified.Is6()) {
			out = append(out, addr)
		}
	}
	if len(out) == 0 {
		return []netip.Addr{unspecified}
	}
	return out
}
