package api

import (
	"context"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/certificate"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
)

// file is an answer that is a file.
type file struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

// issuing registers what our own authorities do.
func (s *server) issuing() {
	huma.Register(s.api, operation("POST", "/authorities/{ref}/issue", "issue-certificate",
		"Issue a client certificate; the key is shown only here"), func(ctx context.Context, in *struct {
		OneInput
		Body apitype.IssueInput
	}) (*body[apitype.NewlyIssued], error) {
		return s.issue(ctx, in.Ref, &in.Body)
	})
	huma.Register(s.api, operation("GET", "/issued", "list-issued", "Certificates that our authorities issued"),
		func(_ context.Context, in *struct {
			Authority string `query:"authority" maxLength:"200" doc:"Name or identifier of the authority"`
			Query     string `query:"q" maxLength:"200" doc:"Text to search for"`
			After     string `query:"after" maxLength:"50" doc:"Cursor"`
			Limit     int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
		}) (*body[apitype.Page[apitype.IssuedCertificate]], error) {
			c, id := s.Revisions.Draft(), ""
			if in.Authority != "" {
				a, at := config.Find(c.Authorities, in.Authority)
				if at < 0 {
					return nil, problem(
						http.StatusNotFound,
						fmt.Sprintf("there is no authority %q", in.Authority),
						"",
					)
				}
				id = a.ID
			}
			out := apitype.Page[apitype.IssuedCertificate]{Items: []apitype.IssuedCertificate{}}
			skip := in.After != ""
			for _, row := range s.Gate.Issued.List(id) {
				if skip {
					skip = row.ID != in.After
					continue
				}
				if !strings.Contains(strings.ToLower(row.Subject+" "+row.Serial), strings.ToLower(in.Query)) {
					continue
				}
				if len(out.Items) == in.Limit {
					out.Next = out.Items[in.Limit-1].ID
					break
				}
				out.Items = append(out.Items, issuedView(c, row))
			}
			return ok(out), nil
		})
	huma.Register(s.api, operation("POST", "/issued/{ref}/revoke", "revoke-certificate",
		"Revoke an issued certificate, for good and at once"), func(ctx context.Context,
		in *OneInput) (*body[apitype.IssuedCertificate], error) {
		row, found := s.Gate.Issued.Get(in.Ref)
		if !found {
			return nil, problem(http.StatusNotFound, "there is no issued certificate "+in.Ref, "")
		}
		if row.RevokedAt == 0 {
			audit.Of(ctx).On("issued", row.ID, row.Subject).Say("revoked the certificate of " + row.Subject)
			if err := s.Gate.Issued.Revoke(ctx, row.ID, time.Now()); err != nil {
				return nil, err
			}
			row, _ = s.Gate.Issued.Get(row.ID)
		}
		return ok(issuedView(s.Revisions.Draft(), row)), nil
	})
	for _, of := range []string{"authorities", "certificates"} {
		huma.Register(s.api, operation("GET", "/"+of+"/{ref}/file", "download-"+of,
			"Download in the form that a device takes; private keys are not in it"), func(_ context.Context,
			in *struct {
				OneInput
				Form string `query:"form" enum:"pem,der" default:"pem" doc:"pem holds the whole chain, der the one certificate"`
			}) (*file, error) {
			return s.download(of, in.Ref, in.Form)
		})
	}
}

func (s *server) download(of, ref, form string) (*file, error) {
	c := s.Revisions.Draft()
	name, text := "", ""
	if of == "authorities" {
		if a, at := config.Find(c.Authorities, ref); at >= 0 {
			name, text = a.Name, a.Certificate
		}
	} else if t, at := config.Find(c.Certificates, ref); at >= 0 {
		if name, text = t.Name, t.Chain; text == "" {
			text = t.Request
		}
	}
	if text == "" {
		return nil, problem(http.StatusNotFound, fmt.Sprintf("there is nothing of the name %q to download", ref), "")
	}
	out := &file{ContentType: "application/x-pem-file", Body: []byte(text)}
	if form == "der" {
		block, _ := pem.Decode([]byte(text))
		out.ContentType, out.Body = "application/pkix-cert", block.Bytes
	}
	out.Disposition = fmt.Sprintf("attachment; filename=%q", fileName(name)+"."+map[string]string{"pem": "pem",
		"der": "cer"}[form])
	return out, nil
}

// fileName makes a name that every system takes.
func fileName(name string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '.' {
			return r
		}
		return '-'
	}, name)
}

func (s *server) issue(ctx context.Context, ref string, in *apitype.IssueInput) (*body[apitype.NewlyIssued], error) {
	authority, cert, signer, err := s.signer(s.Revisions.Draft(), ref)
	if err != nil {
		return nil, err
	}
	key, text, err := newKey(in.Key)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	subject := certificate.Subject{Name: orElse(in.Subject, orElse(in.UPN, in.Email)), DNS: cleaned(in.Names),
		UPN: cleaned([]string{in.UPN}), Email: cleaned([]string{in.Email}), Client: true,
		From: now.Add(-time.Hour), Until: now.Add(days(in.Days, clientDays))}
	if subject.Name == "" && len(subject.DNS) > 0 {
		subject.Name = subject.DNS[0]
	}
	if subject.Name == "" {
		return nil, faulty("subject", "the certificate would name nobody",
			"Give a user principal name, a DNS name, an email address or a subject.")
	}
	made, err := certificate.Issue(cert, signer, subject, key.Public())
	if err != nil {
		return nil, faulty("subject", err.Error(), "Correct the names.")
	}
	out := apitype.NewlyIssued{Key: text, Chain: certificate.PEM(made, cert), Password: in.Password}
	if out.Password == "" {
		out.Password = seal.Generate()
	}
	if out.PKCS12, err = certificate.WritePKCS12(key, []*x509.Certificate{made, cert}, out.Password,
		in.Legacy); err != nil {
		return nil, err
	}
	row := store.Issued{ID: s.IDs.New(now).String(), Authority: authority.ID, Serial: certificate.Serial(made),
		Subject: made.Subject.String(), Purpose: "client", PEM: certificate.PEM(made),
		Until: made.NotAfter.UnixMilli(), IssuedAt: now.UnixMilli(), IssuedBy: who(ctx).Name}
	audit.Of(ctx).On("issued", row.ID, row.Subject).Say(fmt.Sprintf("issued a certificate to %s by %s", subject.Name,
		authority.Name))
	if err := s.Gate.Issued.Add(ctx, row); err != nil {
		return nil, err
	}
	out.Certificate = issuedView(s.Revisions.Draft(), row)
	return ok(out), nil
}

func issuedView(c *config.Config, row store.Issued) apitype.IssuedCertificate {
	out := apitype.IssuedCertificate{ID: row.ID, Authority: "(removed)", Subject: row.Subject, Serial: row.Serial,
		Purpose: row.Purpose, Until: time.UnixMilli(row.Until), IssuedAt: time.UnixMilli(row.IssuedAt),
		IssuedBy: row.IssuedBy, PEM: row.PEM}
	if a, at := config.Find(c.Authorities, row.Authority); at >= 0 {
		out.Authority = a.Name
	}
	if row.RevokedAt != 0 {
		at := time.UnixMilli(row.RevokedAt)
		out.RevokedAt = &at
	}
	return out
}

// revocationList serves the CRL of an authority to whoever asks; lists are public.
func (s *server) revocationList(w http.ResponseWriter, r *http.Request) {
	ref := strings.TrimSuffix(chi.URLParam(r, "file"), ".crl")
	list, err := s.lists.get(s, ref, time.Now())
	switch {
	case errors.Is(err, errNoAuthority):
		http.Error(w, "there is no such authority", http.StatusNotFound)
		return
	case err != nil:
		http.Error(w, "the list could not be made", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "application/pkix-crl")
	w.Write(list)
}

var errNoAuthority = errors.New("there is no such authority")

// listLife is how long a list that was signed is served again. Anybody may ask for it, and signing costs.
const listLife = 10 * time.Minute

// lists are revocation lists as they were signed, by authority.
type lists struct {
	mu   sync.Mutex
	kept map[string]signedList
}

type signedList struct {
	octets []byte
	at     time.Time
	// entries and last tell whether something was revoked since, key which key signed it.
	entries int
	last    time.Time
	key     config.Secret
}

// get returns the list of an authority, signed anew if something was revoked since, or it is no longer young.
func (l *lists) get(s *server, ref string, now time.Time) ([]byte, error) {
	authority, at := config.Find(s.Revisions.Draft().Authorities, ref)
	if at < 0 {
		return nil, errNoAuthority
	}
	entries := s.Gate.Issued.RevocationEntries(authority.ID)
	last := time.Time{}
	for i := range entries {
		if entries[i].RevocationTime.After(last) {
			last = entries[i].RevocationTime
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if k, ok := l.kept[authority.ID]; ok && k.entries == len(entries) && k.last.Equal(last) &&
		k.key == authority.Key && now.Sub(k.at) < listLife && !now.Before(k.at) {
		return k.octets, nil
	}
	_, cert, signer, err := s.signer(s.Revisions.Draft(), ref)
	if err != nil {
		return nil, err
	}
	octets, err := certificate.CRL(cert, signer, entries, now)
	if err != nil {
		return nil, err
	}
	if l.kept == nil || len(l.kept) > maxKeptLists {
		l.kept = map[string]signedList{}
	}
	l.kept[authority.ID] = signedList{octets, now, len(entries), last, authority.Key}
	return octets, nil
}

const maxKeptLists = 100
