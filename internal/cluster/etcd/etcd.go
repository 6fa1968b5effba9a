// Package etcd is the engine by which nodes share state, as a process of its own: it takes nothing else along when it
// dies.
package etcd

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/url"
	"os"
	"os/signal"
	"syscall"

	"go.etcd.io/etcd/server/v3/embed"
	"go.uber.org/zap"
	"go.uber.org/zap/zapcore"

	"tollgate.example/key/internal/cluster/engine"
)

const (
	tick     = 50  // milliseconds
	election = 500 // milliseconds
	// quota bounds the file of the engine, largest an entry, in octets. Old entries are removed long before.
	quota   = 2 << 30
	largest = 96 << 20
	// snapshotCount and catchUp are in entries: few, since they stay in memory.
	snapshotCount = 500
	catchUp       = 100
)

// Main runs an engine as its whole process, until standard input ends or a signal comes: the service that started it is
// at the other end. It returns the exit status.
func Main() int {
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	if err := run(log); err != nil {
		log.Error(err.Error())
		return 1
	}
	return 0
}

func run(log *slog.Logger) error {
	var c engine.Config
	in := json.NewDecoder(os.Stdin)
	if err := in.Decode(&c); err != nil {
		return fmt.Errorf("reading the settings of the engine: %w", err)
	}
	cfg, err := settings(&c)
	if err != nil {
		return err
	}
	e, err := embed.StartEtcd(cfg)
	if err != nil {
		return fmt.Errorf("starting the engine in %s: %w", c.Dir, err)
	}
	defer e.Close()
	gone, signals := make(chan struct{}), make(chan os.Signal, 1)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	go func() {
		io.Copy(io.Discard, io.MultiReader(in.Buffered(), os.Stdin))
		close(gone)
	}()
	select {
	case <-gone:
	case <-signals:
	case err := <-e.Err():
		return fmt.Errorf("the engine ended: %w", err)
	case <-e.Server.StopNotify():
		return errors.New(engine.Removed)
	}
	return nil
}

// settings are those of etcd.
func settings(c *engine.Config) (*embed.Config, error) {
	listen, err := url.Parse(c.Listen)
	if err != nil {
		return nil, fmt.Errorf("the address of the engine: %w", err)
	}
	advertise, err := url.Parse(c.Advertise)
	if err != nil {
		return nil, fmt.Errorf("the address of the engine: %w", err)
	}
	cfg := embed.NewConfig()
	cfg.Name, cfg.Dir = c.Name, c.Dir
	cfg.ListenPeerUrls, cfg.AdvertisePeerUrls = []url.URL{*listen}, []url.URL{*advertise}
	socket := url.URL{Scheme: "unix", Path: c.Socket}
	cfg.ListenClientUrls, cfg.AdvertiseClientUrls = []url.URL{socket}, []url.URL{socket}
	cfg.PeerTLSInfo.CertFile, cfg.PeerTLSInfo.KeyFile = c.Cert, c.Key
	cfg.PeerTLSInfo.TrustedCAFile, cfg.PeerTLSInfo.ClientCertAuth = c.CA, true
	cfg.PeerTLSInfo.SkipClientSANVerify = true // a node may ask from another of its addresses; its certificate tells
	cfg.TlsMinVersion = "TLS1.3"
	cfg.TickMs, cfg.ElectionMs = tick, election
	cfg.InitialCluster, cfg.InitialClusterToken = c.Members, c.Token
	if c.Join {
		cfg.ClusterState = embed.ClusterStateFlagExisting
	}
	cfg.ForceNewCluster = c.Force
	cfg.EnableGRPCGateway = false
	cfg.SnapshotCount, cfg.SnapshotCatchUpEntries = snapshotCount, catchUp
	cfg.QuotaBackendBytes, cfg.MaxRequestBytes = quota, largest
	cfg.AutoCompactionMode, cfg.AutoCompactionRetention = embed.CompactorModeRevision, "1000"
	cfg.ZapLoggerBuilder = embed.NewZapLoggerBuilder(quiet())
	return cfg, cfg.Validate()
}

// quiet logs what is worth a look, a line each.
func quiet() *zap.Logger {
	enc := zap.NewProductionEncoderConfig()
	enc.TimeKey = ""
	return zap.New(zapcore.NewCore(zapcore.NewConsoleEncoder(enc), zapcore.Lock(os.Stderr), zapcore.WarnLevel))
}
