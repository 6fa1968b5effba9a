// Package directory asks LDAP directories (RFC 4511) for people and groups and checks passwords by binding as the
// person. It keeps pools of connections, fails over between servers in the configured order, and tells apart
// everything that can go wrong.
package directory

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/base/resolve"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/failover"
)

const (
	// poolSize bounds the connections of each of the two pools: one for searches, one for binding as people.
	poolSize = 8
	// maxIdle is how long an unused connection is kept.
	maxIdle = 2 * time.Minute
	// maxWaiting bounds how many attempts wait for one directory at once. The others do not wait behind them: what they
	// would hold up are attempts that need no directory.
	maxWaiting = 256
)

func init() {
	ber.MaxPacketLengthBytes = maxPacket
}

// maxPacket bounds one answer of a directory; a longer one ends the connection.
const maxPacket = 4 << 20

// Directory is one directory in use. It is safe for concurrent use.
type Directory struct {
	cfg      config.Directory
	password string
	tls      *tls.Config

	search pool
	verify pool
	places chan struct{}

	groups groupNames
	people memory
	book   book
	dialer *resolve.Dialer
	health *failover.Keeper

	mu   sync.Mutex
	base string // as configured or discovered
	// lockout is the rule of the domain, as it was read at lockoutAt.
	lockout   Lockout
	lockoutAt time.Time
	domains   domains
}

// Open prepares a directory; it connects when first asked. The error tells of unreadable certificates.
func Open(cfg config.Directory, password string) (*Directory, error) {
	tlsConfig, err := tlsConfig(&cfg)
	if err != nil {
		return nil, err
	}
	d := &Directory{cfg: cfg, password: password, places: make(chan struct{}, maxWaiting), tls: tlsConfig,
		base: cfg.Base, dialer: dialer(&cfg)}
	d.health = failover.New(cfg.Timeout(), d.probe, d.back)
	d.groups.init(cfg.Groups)
	d.search.init()
	d.verify.init()
	return d, nil
}

// Name is the name of the directory.
func (d *Directory) Name() string { return d.cfg.Name }

// Dialer connects as the directory is to be connected.
func (d *Directory) Dialer() *resolve.Dialer { return d.dialer }

// Close drops all connections.
func (d *Directory) Close() {
	d.health.Close()
	d.search.close()
	d.verify.close()
}

// dialer connects from the address and with the DNS servers that the directory is to use.
func dialer(cfg *config.Directory) *resolve.Dialer {
	out := &resolve.Dialer{Dialer: net.Dialer{Timeout: failover.Share(cfg.Timeout(), len(cfg.Servers))},
		Names: resolve.For(config.DNSServers(cfg.DNS)...)}
	if ip := net.ParseIP(cfg.Source); ip != nil {
		out.LocalAddr = &net.TCPAddr{IP: ip}
	}
	return out
}

func tlsConfig(cfg *config.Directory) (*tls.Config, error) {
	out := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: cfg.ServerName}
	if cfg.CA != "" {
		out.RootCAs = x509.NewCertPool()
		if !out.RootCAs.AppendCertsFromPEM([]byte(cfg.CA)) {
			return nil, fmt.Errorf("directory %s: the trusted authority is not a PEM certificate", cfg.Name)
		}
	}
	return out, nil
}

// Failure is an error with the part that failed and what to do about it.
type Failure struct {
	// Bind is set if the directory refuses our own service account.
	Bind bool
	// Connect is set if no server could be reached at all.
	Connect bool
	Detail  string
	Remedy  string
}

func (f *Failure) Error() string { return f.Detail }

// failed notes that a server does not answer, and drops the other connections to it.
func (d *Directory) failed(server, why string) {
	d.health.Failed(server, why)
	d.search.purge(server)
	d.verify.purge(server)
}

// gone works on a connection that broke. One that had been idle may have been closed for that alone, so it says nothing
// about the server; a new one, or one that was silent, does.
func (d *Directory) gone(c *conn, made bool, err error) {
	if made || ldap.IsErrorWithCode(err, ldap.LDAPResultTimeout) || timedOut(err) {
		d.failed(c.server, c.server+": "+message(err))
		return
	}
	d.search.purge(c.server)
	d.verify.purge(c.server)
}

// timedOut reports whether nothing came for the whole time; the library says so in words alone.
func timedOut(err error) bool { return err != nil && strings.Contains(err.Error(), "timed out") }

// back lets go of the connections to servers that come after one that answers again.
func (d *Directory) back(server string) {
	if at := slices.Index(d.cfg.Servers, server); at >= 0 {
		for _, later := range d.cfg.Servers[at+1:] {
			d.search.purge(later)
			d.verify.purge(later)
		}
	}
}

// probe tells whether a server that failed answers again: it has to take our service account, since some take
// connections and nothing else.
func (d *Directory) probe(ctx context.Context, server string) error {
	c, err := d.dial(ctx, server)
	if err != nil {
		return err
	}
	defer c.Close()
	c.SetTimeout(d.share())
	if err := d.bind(c); err != nil {
		var f *Failure
		if errors.As(err, &f) && f.Bind { // it answers; that it does not take the account is for the checkup to say
			return nil
		}
		return err
	}
	_, err = readRoot(c)
	return err
}

// place takes a place among those who wait for the directory; ok is false if there is none left.
func (d *Directory) place() (leave func(), ok bool) {
	select {
	case d.places <- struct{}{}:
		return func() { <-d.places }, true
	default:
		return nil, false
	}
}

// crowded says that there is none left.
func (d *Directory) crowded() string {
	return fmt.Sprintf("%d attempts wait for %s already", maxWaiting, d.cfg.Name)
}

// share is how long one server may take.
func (d *Directory) share() time.Duration { return failover.Share(d.cfg.Timeout(), len(d.cfg.Servers)) }

// connect makes a connection to the first server that takes one. While all of them are down nobody waits for them: they
// are probed in the background.
func (d *Directory) connect(ctx context.Context) (*conn, error) {
	if why := d.health.AllDown(d.cfg.Servers); why != "" {
		return nil, &Failure{Connect: true, Detail: why, Remedy: "Look at the servers, and at what lies between."}
	}
	var said []string
	var remedy string
	for _, server := range d.health.Order(d.cfg.Servers) {
		if ctx.Err() != nil {
			break
		}
		c, err := d.dial(ctx, server)
		if err == nil {
			return &conn{Conn: c, server: server}, nil
		}
		detail, fix := explain(err, d.cfg.TLS, server)
		d.failed(server, detail)
		said, remedy = append(said, detail), fix
	}
	if len(said) == 0 {
		said = []string{"no answer within the time limit"}
	}
	return nil, &Failure{Connect: true, Detail: strings.Join(said, "; "), Remedy: remedy}
}

// dial connects to one server and protects the connection as configured.
func (d *Directory) dial(ctx context.Context, server string) (*ldap.Conn, error) {
	raw, err := d.dialer.DialContext(ctx, "tcp", server)
	if err != nil {
		return nil, err
	}
	if d.cfg.TLS == config.LDAPS {
		secured := tls.Client(raw, d.tlsFor(server))
		limited, cancel := context.WithTimeout(ctx, d.cfg.Timeout())
		defer cancel()
		if err := secured.HandshakeContext(limited); err != nil {
			raw.Close()
			return nil, err
		}
		raw = secured
	}
	c := ldap.NewConn(raw, d.cfg.TLS == config.LDAPS)
	c.SetTimeout(d.cfg.Timeout())
	c.Start()
	if d.cfg.TLS == config.StartTLS {
		if err := c.StartTLS(d.tlsFor(server)); err != nil {
			c.Close()
			return nil, err
		}
	}
	return c, nil
}

func (d *Directory) tlsFor(server string) *tls.Config {
	out := d.tls.Clone()
	if out.ServerName == "" {
		out.ServerName, _, _ = net.SplitHostPort(server)
	}
	return out
}

// bind signs in with the service account; without a bind name the connection stays anonymous.
func (d *Directory) bind(c *ldap.Conn) error {
	if d.cfg.BindName == "" {
		return nil
	}
	if d.password == "" { // would be taken for anonymous
		return &Failure{Bind: true, Detail: "the service account has no password",
			Remedy: "Give the password of the bind name."}
	}
	name, err := d.bindName(c)
	if err != nil {
		return err
	}
	if err := c.Bind(name, d.password); err != nil {
		return bindFailure(err, d.cfg.BindName)
	}
	return nil
}

// bindName turns the configured bind name into one that the kind of directory accepts. The Active Directory kind
// takes DN, UPN and DOMAIN\name; a bare name gets the domain. Other kinds take only a DN, so it is looked up.
func (d *Directory) bindName(c *ldap.Conn) (string, error) {
	name := d.cfg.BindName
	if _, err := ldap.ParseDN(name); err == nil && strings.Contains(name, "=") {
		return name, nil
	}
	if d.cfg.Kind == config.ActiveDirectory {
		if strings.ContainsAny(name, `@\`) {
			return name, nil
		}
		root, err := readRoot(c)
		if err != nil {
			return "", err
		}
		return name + "@" + domainOf(root.defaultContext()), nil
	}
	bare := name
	if _, after, ok := strings.Cut(bare, `\`); ok {
		bare = after
	}
	bare, _, _ = strings.Cut(bare, "@")
	base, err := d.baseOn(c)
	if err != nil {
		return "", err
	}
	result, err := c.Search(ldap.NewSearchRequest(base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 2, d.seconds(),
		false,
		fmt.Sprintf("(|(uid=%s)(cn=%s)(mail=%s))", ldap.EscapeFilter(bare), ldap.EscapeFilter(bare),
			ldap.EscapeFilter(name)), []string{"1.1"}, nil))
	if err != nil || len(result.Entries) != 1 {
		return "", &Failure{Bind: true, Detail: fmt.Sprintf("the bind name %q is not a DN, and an anonymous search "+
			"did not find it", name),
			Remedy: "Write the bind name as a DN, such as cn=tollgate,ou=services,dc=lanternferries,dc=example."}
	}
	return result.Entries[0].DN, nil
}

func (d *Directory) seconds() int { return max(1, int(d.cfg.Timeout()/time.Second)) }

func (d *Directory) groupBase(base string) string {
	if d.cfg.GroupBase != "" {
		return d.cfg.GroupBase
	}
	return base
}

// with runs a search on a bound connection. A connection that broke while idle is replaced once.
func (d *Directory) with(ctx context.Context, do func(*ldap.Conn) error) error {
	return d.within(ctx, 2*d.cfg.Timeout(), d.share(), do)
}

// within is with by other limits: of all, and of each request. What broke is tried again, at last on another server.
func (d *Directory) within(ctx context.Context, limit, each time.Duration, do func(*ldap.Conn) error) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	fresh := 0
	for {
		c, err := d.search.take(ctx)
		if err != nil {
			return &Failure{Connect: true, Detail: err.Error(), Remedy: "The directory answers too slowly; add a " +
				"server."}
		}
		made := c == nil
		if made {
			fresh++
			if c, err = d.connect(ctx); err != nil {
				d.search.drop(nil)
				return err
			}
			c.SetTimeout(each)
			// whoever is not bound never gets into the pool
			if err = d.search.safely(c, d.bind); err != nil && !broken(err) {
				d.search.drop(c)
				return err
			}
		}
		if err == nil {
			c.SetTimeout(each)
			err = d.search.safely(c, do)
		}
		if !broken(err) {
			d.health.Answers(c.server)
			d.search.done(c, err)
			return err
		}
		d.gone(c, made, err)
		d.search.drop(c)
		if fresh > len(d.cfg.Servers) || ctx.Err() != nil {
			return err
		}
	}
}

// broken reports errors after which a connection cannot be used any more.
func broken(err error) bool {
	if err == nil {
		return false
	}
	var said *ldap.Error
	if errors.As(err, &said) {
		switch said.ResultCode {
		case ldap.ErrorNetwork, ldap.LDAPResultTimeout, ldap.LDAPResultUnavailable, ldap.LDAPResultBusy:
			return true
		}
		return false
	}
	// The library has no type for a connection that ended in the middle of an answer.
	return errors.Is(err, io.EOF) || errors.Is(err, net.ErrClosed) || strings.Contains(err.Error(),
		"unable to read LDAP response packet")
}
