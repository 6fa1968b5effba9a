package api

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/identity/certificate"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

// tickets keeps the TLS tickets of trials, so that a second trial with resume can show a resumed one.
type tickets struct {
	mu   sync.Mutex
	kept map[string]tls.ClientSessionCache
}

const maxTickets = 200

// of returns the tickets of one operator, client, name and method.
func (t *tickets) of(key string) tls.ClientSessionCache {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.kept[key] == nil {
		if t.kept == nil || len(t.kept) >= maxTickets {
			t.kept = map[string]tls.ClientSessionCache{}
		}
		t.kept[key] = tls.NewLRUClientSessionCache(4)
	}
	return t.kept[key]
}

func (s *server) trials() {
	huma.Register(s.api, operation("POST", "/trials", "try", "Sign in as a device would, through one of the clients; "+
		"it walks the real road and is recorded"), func(ctx context.Context, in *struct {
		Body apitype.TrialInput
	}) (*body[apitype.TrialResult], error) {
		b := &in.Body
		if err := audit.Of(ctx).Say(fmt.Sprintf("tried to sign in as %s by %s through %s", b.User, b.Method,
			b.Client)).Now(ctx); err != nil {
			return nil, unrecorded(err)
		}
		return s.tryOut(ctx, b)
	})
}

func (s *server) tryOut(ctx context.Context, in *apitype.TrialInput) (*body[apitype.TrialResult], error) {
	running := s.Gate.Current()
	client, at := config.Find(running.Plan.Config.Clients, in.Client)
	if at < 0 {
		return nil, faulty("client", fmt.Sprintf("no client %q has been published", in.Client),
			"Choose one of the clients, and publish it first.")
	}
	if err := touch(ctx, client); err != nil {
		return nil, err
	}
	from, err := netip.ParsePrefix(client.Addresses[0])
	if err != nil {
		addr, err := netip.ParseAddr(client.Addresses[0])
		if err != nil {
			return nil, err
		}
		from = netip.PrefixFrom(addr, addr.BitLen())
	}
	secret, err := s.Box.Open(client.RADIUSPlace(), client.Secret)
	if err != nil {
		return nil, err
	}
	who := who(ctx).Name
	r := trial.Request{Secret: secret, Method: in.Method, Bypass: in.Bypass, User: in.User, Password: in.Password,
		Code:       in.Code,
		Dictionary: running.Plan.Dictionary,
		Exchange: func(ctx context.Context, packet []byte) ([]byte, error) {
			return s.Trial(ctx, packet, from.Addr(), who)
		}}
	for _, a := range in.Attributes {
		r.Attributes = append(r.Attributes, results.Attribute{Name: a.Name, Value: a.Value})
	}
	if in.Method == "mac" && in.User == "" {
		return nil, faulty("user", "a MAC address is needed", "Write the address of the device.")
	}
	if err := s.outfit(&r.Supplicant, in); err != nil {
		return nil, err
	}
	r.Supplicant.NewPassword = in.New
	if in.Resume {
		r.Supplicant.Sessions = s.tickets.of(who + "\x00" + client.ID + "\x00" + in.User + "\x00" + in.Method)
	}
	begun := time.Now()
	limited, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	reply, err := trial.Send(limited, r)
	out := apitype.TrialResult{Reply: reply, At: begun}
	if err != nil {
		out.Fault = err.Error()
	}
	return ok(out), nil
}

// outfit sets the device up.
func (s *server) outfit(to *supplicant.Settings, in *apitype.TrialInput) error {
	to.Outer, to.ServerName, to.Binding = in.Outer, in.ServerName, true
	if in.CA != "" {
		list, err := certificate.ParsePEM(in.CA)
		if err != nil {
			return faulty("ca", err.Error(), "Give it in PEM form.")
		}
		to.Roots = x509.NewCertPool()
		for _, c := range list {
			to.Roots.AddCert(c)
		}
	}
	version, known := supplicant.Versions[in.TLS]
	if !known {
		return faulty("tls", fmt.Sprintf("%q is no version of TLS", in.TLS), "Use 1.0, 1.1, 1.2 or 1.3.")
	}
	to.MinTLS, to.MaxTLS = version, version
	for _, pair := range []struct {
		field, chain, key string
		to                **tls.Certificate
	}{{"certificate", in.Certificate, in.Key, &to.Certificate}, {"machineCertificate", in.MachineCertificate,
		in.MachineKey, &to.Machine}} {
		if strings.TrimSpace(pair.chain) == "" {
			continue
		}
		made, err := tls.X509KeyPair([]byte(pair.chain), []byte(pair.key))
		if err != nil {
			return problem(http.StatusUnprocessableEntity, "the trial was not made, since the input has faults", "",
				apitype.Fault{Field: pair.field, Message: strings.TrimPrefix(err.Error(), "tls: "),
					Remedy: "Give a certificate and its key in PEM form."})
		}
		*pair.to = &made
	}
	if to.Machine != nil {
		to.MachineIdentity = in.Machine
	}
	return nil
}
