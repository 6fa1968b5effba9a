// Package api is the HTTP API under /api/v1: JSON in and out, problem details (RFC 9457) for errors, server-sent
// events where things change by themselves, and the console's files. It decides nothing; it calls those who do.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"path"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/base/tally"
	"tollgate.example/key/internal/cluster"
	"tollgate.example/key/internal/core/document"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/identity/account"
	"tollgate.example/key/internal/identity/copies"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/manage/attention"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/backup"
	"tollgate.example/key/internal/manage/change"
	"tollgate.example/key/internal/manage/checkup"
	"tollgate.example/key/internal/manage/mail"
	"tollgate.example/key/internal/manage/onward"
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/manage/provider"
	"tollgate.example/key/internal/manage/readiness"
	"tollgate.example/key/internal/manage/rehearsal"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/presence"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/feed"
)

// Service is everything that the API works with.
type Service struct {
	Checkup    *checkup.Checkup
	Copies     *copies.Keeper
	Rehearsals *rehearsal.Keeper
	Version    string
	Store      *store.Store
	Revisions  *revision.Keeper
	Analyst    *revision.Analyst
	Attention  *attention.Sources
	Accounts   *account.Keeper
	Factors    *factor.Keeper
	// ReleaseApprovals has a person asked on the phone again, and ends the alarms about the sign-ins.
	ReleaseApprovals func(store, name string)
	// ApprovalState is until when a person is not asked on the phone, zero for somebody who is, and whether an alarm of
	// the person stands.
	ApprovalState func(store, name string) (until time.Time, alarm bool)
	// Ready reads who is ready for a second factor.
	Ready *readiness.Reader
	// KeyFault tells what is wrong with the file that secrets are sealed with, "" for nothing.
	KeyFault  func() string
	Operators *operator.Registry
	Audit     *audit.Trail
	Provider  *provider.Client
	Sources   *sources.Registry
	Gate      *gate.Gate
	Box       *seal.Box
	IDs       *ident.Source
	Tally     *tally.Tally
	Attempts  *store.Attempts
	// Trial answers one RADIUS packet as if it came from the address.
	Trial func(ctx context.Context, packet []byte, from netip.Addr, by string) ([]byte, error)
	// GearTrial is a connection over TACACS+ as if it came from the address, GearOpen counts those there are.
	GearTrial func(from netip.Addr, by string) net.Conn
	GearOpen  func() int
	Journal   *store.Journal
	Sessions  *session.Sessions
	// Changes asks clients to end or change sessions.
	Changes *change.Keeper
	// Follower asks for sessions whose people would get something else now.
	Follower *change.Follower
	Backup   *backup.Source
	// Cluster is this node among others.
	Cluster *cluster.Cluster
	// OfOthers is what other nodes recorded, as far as it is copied to this one.
	OfOthers *store.Copies
	// Portal is how people reach their own pages, "" where there are none.
	Portal string
	// PortalEnds is when the certificate of those ends, zero for none; PortalOwn tells that the service made it itself.
	PortalEnds time.Time
	PortalOwn  bool
	// Mail sends mail to people, nil if there is no server for it.
	Mail *mail.Sender
	// Presence keeps who is where.
	Presence *presence.Keeper
	// Onward sends records on.
	Onward *onward.Keeper
	// Waiting counts the attempts under way.
	Waiting func() int
	// Secure tells that the console is served by TLS; in clear it answers to names of loopback and to Hosts alone.
	Secure bool
	Hosts  []string
	// Listening are the addresses at which devices ask, KeyFile is the path of the file with the sealing key.
	Listening []Listening
	KeyFile   string
	// Done is closed when the service ends, so that live streams end too.
	Done <-chan struct{}
}

// server is the API over a service.
type server struct {
	*Service
	api     huma.API
	tickets tickets
	shelf   shelf
	lists   lists
	shadows shadows
	// relays are the streams and exports for which other nodes are asked.
	relays chan struct{}
	// seeks search the kinds of objects of the draft.
	seeks []seek
	// takers take an object out of a configuration, by the plural of its kind.
	takers map[string]taker
}

const (
	maxBody     = 2 << 20
	maxImport   = 9 << 20
	maxFile     = document.MaxSize + 1<<20
	sessionName = "tollgate_session"
	browserName = "tollgate_browser"
)

// New makes the handler of the API and the console.
func New(s *Service) http.Handler {
	router := chi.NewRouter()
	router.Use(caught(s.Gate.Panics), inTime, securityHeaders(s.Secure))
	if !s.Secure {
		router.Use(onlyHosts(s.Hosts))
	}
	router.Use(http.NewCrossOriginProtection().Handler)
	var api *server
	router.Route("/api", func(r chi.Router) {
		r.Use(func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
				req.Body = http.MaxBytesReader(w, req.Body, maxFile)
				w.Header().Set("Cache-Control", "no-store")
				next.ServeHTTP(w, req)
			})
		})
		r.Route("/v1", func(r chi.Router) {
			r.Use(func(next http.Handler) http.Handler {
				return http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
					api.everywhere(next).ServeHTTP(w, req)
				})
			})
			api = newServer(s, r)
		})
		r.NotFound(func(w http.ResponseWriter, _ *http.Request) {
			http.Error(w, "there is no such call", http.StatusNotFound)
		})
	})
	router.Mount("/presence/v1", feed.Handler(s.Presence, s.Done))
	router.Get("/lists/{file}", func(w http.ResponseWriter, r *http.Request) { api.revocationList(w, r) })
	router.NotFound(consoleFiles().ServeHTTP)
	router.Get("/", consoleFiles().ServeHTTP)
	return router
}

// OpenAPI returns the OpenAPI document.
func OpenAPI() ([]byte, error) {
	return newServer(&Service{Version: "1"}, chi.NewRouter()).api.OpenAPI().MarshalJSON()
}

func newServer(s *Service, r chi.Router) *server {
	huma.DefaultArrayNullable = false
	huma.NewError = newProblem
	huma.NewErrorWithContext = func(_ huma.Context, status int, msg string, errs ...error) huma.StatusError {
		return newProblem(status, msg, errs...)
	}
	config := huma.DefaultConfig("Tollgate Key", "1")
	config.Components = &huma.Components{Schemas: huma.NewMapRegistry("#/components/schemas/", schemaName)}
	config.DocsPath = ""
	config.CreateHooks = nil
	config.RejectUnknownQueryParameters = true
	config.Servers = []*huma.Server{{URL: "/api/v1"}}
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"session": {Type: "apiKey", In: "cookie", Name: sessionName},
		"token":   {Type: "http", Scheme: "bearer"},
	}
	out := &server{Service: s, api: humachi.New(r, config), takers: map[string]taker{},
		relays: make(chan struct{}, maxRelays)}
	out.api.UseMiddleware(out.authenticate)
	out.sessions()
	out.objects()
	out.certificates()
	out.devices()
	out.search()
	out.uses()
	out.firstHour()
	out.fleet()
	out.trials()
	out.gearTrials()
	out.journal()
	out.networkSessions()
	out.presenceCalls()
	out.factors()
	out.readiness()
	out.rollout()
	out.factorReport()
	out.temporaryCodes()
	out.invitations()
	out.importFactors()
	out.draft()
	out.directories()
	out.membership()
	out.checkup()
	out.rehearsals()
	out.samples()
	out.accounts()
	out.attempts()
	out.now()
	out.reference()
	out.analyses()
	out.expectations()
	out.dryRun()
	out.hits()
	out.leases()
	out.files()
	out.backups()
	out.auditCalls()
	out.eyes()
	out.nodes()
	requireInViews(out.api.OpenAPI())
	return out
}

// schemaName names the schema of a type: types of the API by their own name, those of other packages with the
// package in front, so that facts.Attribute and config.Attribute are two.
func schemaName(t reflect.Type, hint string) string {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	name := huma.DefaultSchemaNamer(t, hint)
	if pkg := path.Base(t.PkgPath()); t.PkgPath() != "" && pkg != "apitype" && pkg != "api" {
		return strings.ToUpper(pkg[:1]) + pkg[1:] + name
	}
	return name
}

// requireInViews marks every field of the objects that are only sent, never received, as present, although the same
// field may be left out of an input.
func requireInViews(doc *huma.OpenAPI) {
	for name, schema := range doc.Components.Schemas.Map() {
		switch name {
		case "Client", "Directory", "Realm", "Lane", "Pass", "Account", "Authority", "ServerCertificate", "Trust",
			"Device", "ConfigPolicy", "ConfigLookup", "ConfigLaneTLS", "Calendar", "Pool", "Remote", "Vendor",
			"Override", "Expectation", "CommandList", "Feed", "Source", "Scope", "Subscriber", "DeviceKind":
			schema.Required = nil
			for field := range schema.Properties {
				if !optional[field] && !optional[name+"."+field] {
					schema.Required = append(schema.Required, field)
				}
			}
			slices.Sort(schema.Required)
		}
	}
}

// optional are the fields of those objects that may be missing in what is sent.
var optional = func() map[string]bool {
	out := map[string]bool{"previousUntil": true, "tacacsPreviousUntil": true, "openedAt": true, "lastSeen": true,
		"problem": true, "expires": true, "ConfigPolicy.pass": true, "message": true, "$schema": true,
		"ConfigPolicy.note": true, "ConfigPolicy.owner": true, "ConfigPolicy.from": true, "ConfigPolicy.until": true,
		"Override.until": true, "Expectation.at": true, "request": true, "ConfigLaneTLS.certificate": true,
		"ConfigLaneTLS.trust": true, "Trust.listed": true, "machinePasswordSet": true, "Trust.responder": true,
		"Client.sessions": true, "Client.learned": true}
	for _, kind := range []string{"Client", "Directory", "Realm", "Lane", "Pass", "Authority", "ServerCertificate",
		"Trust", "Calendar", "Pool", "Remote", "Vendor", "Override", "Expectation", "CommandList", "Feed",
		"Source", "Scope", "Subscriber", "DeviceKind"} {
		out[kind+".changedBy"], out[kind+".changedAt"] = true, true
	}
	return out
}()

type whoKey struct{}

// caller is who makes a call, by what they showed, from where, and the right that the call needs.
type caller struct {
	operator.Who
	bearer, from string
	right        operator.Right
}

// who returns the operator of a call.
func who(ctx context.Context) operator.Who {
	c, _ := ctx.Value(whoKey{}).(caller)
	return c.Who
}

// refuse answers a call that is not made.
func (s *server) refuse(ctx huma.Context, p *apitype.Problem) {
	ctx.SetHeader("Content-Type", "application/problem+json")
	ctx.SetStatus(p.Status)
	json.NewEncoder(ctx.BodyWriter()).Encode(p)
}

// still reports whether the bearer of a call may still make it: a stream goes on for hours, and a role or token may end
// meanwhile.
func (s *server) still(ctx context.Context) bool {
	c, _ := ctx.Value(whoKey{}).(caller)
	w, err := s.Operators.Verify(ctx, c.bearer, c.from)
	return err == nil && w.May(c.right)
}

func (s *server) authenticate(ctx huma.Context, next func(huma.Context)) {
	bearer := ""
	if token, ok := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); ok {
		bearer = token
	} else if cookie, err := huma.ReadCookie(ctx, sessionName); err == nil {
		bearer = cookie.Value
	}
	right := calls[ctx.Operation().OperationID]
	from := remote(ctx)
	if bearer != "" && len(bearer) < 200 {
		w, err := s.Operators.Verify(ctx.Context(), bearer, from)
		switch {
		case err == nil && !w.May(right) && right != operator.Anyone:
			p := forbidden(w, right)
			line := begun(ctx, &w, from)
			line.Why = p.Detail
			s.Audit.Refused(ctx.Context(), line)
			s.refuse(ctx, p)
			return
		case err == nil && beyond(&w, ctx.Operation().OperationID, right) != nil:
			p := beyond(&w, ctx.Operation().OperationID, right)
			line := begun(ctx, &w, from)
			line.Why = p.Detail
			s.Audit.Refused(ctx.Context(), line)
			s.refuse(ctx, p)
			return
		case err == nil:
			s.audited(huma.WithValue(ctx, whoKey{}, caller{w, bearer, from, right}), &w, from, right, next)
			return
		case errors.Is(err, operator.ErrPlace) && right != operator.Anyone:
			line := begun(ctx, &w, from)
			line.Why = err.Error()
			s.Audit.Refused(ctx.Context(), line)
			huma.WriteErr(s.api, ctx, http.StatusUnauthorized, err.Error())
			return
		}
	}
	if right == operator.Anyone {
		s.audited(ctx, nil, from, right, next)
		return
	}
	huma.WriteErr(s.api, ctx, http.StatusUnauthorized, "not signed in: sign in, or give a token")
}

// remote is the address a call came from, without the port.
func remote(ctx huma.Context) string {
	host, _, err := net.SplitHostPort(ctx.RemoteAddr())
	if err != nil {
		return ctx.RemoteAddr()
	}
	return host
}

// newProblem makes problem details of huma's errors, without the input values it would repeat.
func newProblem(status int, message string, errs ...error) huma.StatusError {
	p := &apitype.Problem{Title: http.StatusText(status), Status: status, Detail: message}
	for _, err := range errs {
		if several := betweenNodes(err); several != nil {
			return several
		}
		if err == nil {
			continue
		}
		if detail, ok := err.(huma.ErrorDetailer); ok {
			d := detail.ErrorDetail()
			p.Errors = append(p.Errors, apitype.Fault{Field: strings.TrimPrefix(d.Location, "body."),
				Message: d.Message})
			continue
		}
		p.Errors = append(p.Errors, apitype.Fault{Message: err.Error()})
	}
	return p
}

// betweenNodes is the problem of a change that other nodes stand in the way of, nil for others.
func betweenNodes(err error) *apitype.Problem {
	switch {
	case errors.Is(err, store.ErrCutOff):
		return &apitype.Problem{Code: "nodes.cut-off", Title: http.StatusText(http.StatusServiceUnavailable),
			Status: http.StatusServiceUnavailable,
			Detail: "Not done: " + err.Error() + ". Devices are answered as before.",
			Remedy: "Make the change on a node that reaches the others, or bring those back: tollgate node list."}
	case errors.Is(err, store.ErrChanged):
		return &apitype.Problem{Title: http.StatusText(http.StatusConflict), Status: http.StatusConflict,
			Detail: "Not done: " + err.Error() + ".", Remedy: "Look at it again, then repeat the change."}
	}
	return nil
}

// problem makes a problem with a remedy.
func problem(status int, detail, remedy string, faults ...apitype.Fault) error {
	return &apitype.Problem{Title: http.StatusText(status), Status: status, Detail: detail, Remedy: remedy,
		Errors: faults}
}

// operation describes a call.
func operation(method, path, id, summary string) huma.Operation {
	return huma.Operation{Method: method, Path: path, OperationID: id, Summary: summary,
		Security:     []map[string][]string{{"session": {}}, {"token": {}}},
		MaxBodyBytes: maxBody, BodyReadTimeout: 10 * time.Second}
}

// body is the answer of calls that return one value.
type body[T any] struct{ Body T }

func ok[T any](v T) *body[T] { return &body[T]{v} }

// none is the input of calls without any.
type none struct{}
