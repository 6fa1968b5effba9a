package cluster

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"
	"google.golang.org/grpc"
	"google.golang.org/grpc/backoff"
)

// Outside is an etcd cluster that is there already, and serves the nodes instead of engines of their own.
type Outside struct {
	// URLs are its members, https://HOST:PORT.
	URLs []string `json:"urls"`
	// CA, Cert and Key are PEM files: whom to trust, "" for whom the system does, and what this node shows. They are
	// read again at each connection, so they may be renewed.
	CA   string `json:"ca,omitempty"`
	Cert string `json:"cert,omitempty"`
	Key  string `json:"key,omitempty"`
	// Prefix is what the names of our entries begin with, so that others may use the same cluster.
	Prefix string `json:"prefix"`
}

// DefaultPrefix is what the names of entries begin with, also in an engine of a node's own.
const DefaultPrefix = "tollgate"

var (
	goodPrefix = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._/-]{0,62}[A-Za-z0-9]$`)

	// ErrEngine is returned where nodes that share state by an etcd cluster meet some that have engines of their own.
	ErrEngine = errors.New("the nodes do not share state by the same engine")
	// ErrNoWitness is returned where a witness is invited that would be one of nothing.
	ErrNoWitness = errors.New("these nodes share state by an etcd cluster, which keeps its own majority: a witness " +
		"would do nothing")
	// errNoLog is returned where an engine holds no log of nodes.
	errNoLog = errors.New("the engine holds no log of nodes")
)

// Check says what is wrong with the settings by themselves.
func (o *Outside) Check() error {
	if len(o.URLs) == 0 {
		return errors.New("-engine names no member of an etcd cluster")
	}
	for _, text := range o.URLs {
		u, err := url.Parse(text)
		if err != nil || u.Scheme != "https" || u.Hostname() == "" || u.Port() == "" || u.User != nil ||
			strings.Trim(u.Path, "/") != "" || u.RawQuery != "" {
			return fmt.Errorf("-engine: %q is not https://HOST:PORT", text)
		}
	}
	if (o.Cert == "") != (o.Key == "") {
		return errors.New("-engine-cert and -engine-key belong together: give both or none")
	}
	if !goodPrefix.MatchString(o.Prefix) {
		return fmt.Errorf("-engine-prefix: %q is not 2 to 64 letters, digits, and . _ / - between them", o.Prefix)
	}
	_, err := o.tls()
	return err
}

// Where names its members.
func (o *Outside) Where() string { return strings.Join(o.URLs, ", ") }

func (o *Outside) tls() (*tls.Config, error) {
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if o.CA != "" {
		text, err := os.ReadFile(o.CA)
		if err != nil {
			return nil, fmt.Errorf("-engine-ca: %w", err)
		}
		config.RootCAs = x509.NewCertPool()
		if !config.RootCAs.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("-engine-ca: %s holds no PEM certificate", o.CA)
		}
	}
	if o.Cert == "" {
		return config, nil
	}
	if _, err := tls.LoadX509KeyPair(o.Cert, o.Key); err != nil {
		return nil, fmt.Errorf("-engine-cert and -engine-key: %w", err)
	}
	config.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
		own, err := tls.LoadX509KeyPair(o.Cert, o.Key)
		return &own, err
	}
	return config, nil
}

// client opens the way to an etcd cluster.
func (o *Outside) client() (*clientv3.Client, error) {
	config, err := o.tls()
	if err != nil {
		return nil, err
	}
	return newClient(o.URLs, config)
}

// newClient opens the way to an engine. It connects by itself, also later, and again whenever that ends.
func newClient(endpoints []string, config *tls.Config) (*clientv3.Client, error) {
	c, err := clientv3.New(clientv3.Config{Endpoints: endpoints, TLS: config, Logger: zap.NewNop(),
		DialKeepAliveTime: 5 * time.Second, DialKeepAliveTimeout: 2 * time.Second,
		MaxCallSendMsgSize: 128 << 20, MaxCallRecvMsgSize: 1 << 30,
		BackoffWaitBetween: 50 * time.Millisecond, DialOptions: []grpc.DialOption{grpc.WithConnectParams(
			grpc.ConnectParams{Backoff: backoff.Config{BaseDelay: 50 * time.Millisecond, Multiplier: 1.5,
				MaxDelay: 300 * time.Millisecond}, MinConnectTimeout: dialTime(config)})}})
	if err != nil {
		return nil, fmt.Errorf("the way to the engine: %w", err)
	}
	return c, nil
}

// dialTime is how long a connection may take at least: next to nothing on a socket, longer to another machine.
func dialTime(config *tls.Config) time.Duration {
	if config == nil {
		return 300 * time.Millisecond
	}
	return 2 * time.Second
}

// probeTime is how long an etcd cluster may take to tell which log it holds.
const probeTime = 10 * time.Second

// epoch asks which log is there.
func (o *Outside) epoch(ctx context.Context) (string, error) {
	if err := o.Check(); err != nil {
		return "", err
	}
	c, err := o.client()
	if err != nil {
		return "", err
	}
	defer c.Close()
	asked, cancel := context.WithTimeout(ctx, probeTime)
	defer cancel()
	r, err := c.Get(asked, o.Prefix+headKey)
	switch {
	case err != nil:
		return "", fmt.Errorf("asking the etcd cluster at %s: %w", o.Where(), err)
	case len(r.Kvs) == 0:
		return "", fmt.Errorf("the etcd cluster at %s: %w under %q", o.Where(), errNoLog, o.Prefix)
	}
	epoch, _, _ := strings.Cut(string(r.Kvs[0].Value), "/")
	return epoch, nil
}

// outside brings together by what engine this node shares state, and what it is told to use: the members of an etcd
// cluster and the files may change, not what it is.
func (m *members) outside(told *Outside) (changed bool, err error) {
	switch was := m.Outside; {
	case told == nil:
		return false, nil
	case was == nil:
		return false, fmt.Errorf("%w: this one and the others have engines of their own; leave -engine away", ErrEngine)
	case was.Prefix != told.Prefix:
		return false, fmt.Errorf("%w: the log is under -engine-prefix %s, not %s", ErrEngine, was.Prefix, told.Prefix)
	case slices.Equal(was.URLs, told.URLs) && *fields(was) == *fields(told):
		return false, nil
	}
	m.Outside = told
	return true, nil
}

// fields are those that can be compared.
func fields(o *Outside) *[3]string { return &[3]string{o.CA, o.Cert, o.Key} }

// where says where the engine of this node is, and why it does not do what it was asked.
func (r *running) where() string {
	if r.outside != nil {
		return "the etcd cluster at " + r.outside.Where()
	}
	return "the engine: " + r.engine.State().Why
}

// Flags are those that another node is started with to share state by the same engine; the files are its own.
func (c *Cluster) Flags() string {
	r := c.running()
	if r == nil || r.outside == nil {
		return ""
	}
	out := "-engine " + strings.Join(r.outside.URLs, ",") + " "
	if r.outside.CA != "" {
		out += "-engine-ca FILE "
	}
	if r.outside.Cert != "" {
		out += "-engine-cert FILE -engine-key FILE "
	}
	if r.outside.Prefix != DefaultPrefix {
		out += "-engine-prefix " + r.outside.Prefix + " "
	}
	return out
}
