package reporter

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/godbus/dbus/v5"
)

// logind is what systemd-logind, or whatever serves org.freedesktop.login1 on the system bus, knows.
type logind struct {
	conn    *dbus.Conn
	signals chan *dbus.Signal
	changed chan struct{}
}

const (
	loginName    = "org.freedesktop.login1"
	loginPath    = "/org/freedesktop/login1"
	loginManager = loginName + ".Manager"
	loginSession = loginName + ".Session"
)

// OpenLogind connects to the system bus, at the address in DBUS_SYSTEM_BUS_ADDRESS if there is one.
func OpenLogind(ctx context.Context) (Sessions, error) {
	conn, err := dbus.ConnectSystemBus(dbus.WithContext(ctx))
	if err != nil {
		return nil, fmt.Errorf("connecting to the system bus (is D-Bus running?): %w", err)
	}
	l := &logind{conn: conn, signals: make(chan *dbus.Signal, 64), changed: make(chan struct{}, 1)}
	for _, match := range [][]dbus.MatchOption{
		{dbus.WithMatchInterface(loginManager), dbus.WithMatchObjectPath(loginPath)},
		{dbus.WithMatchInterface("org.freedesktop.DBus.Properties"), dbus.WithMatchMember("PropertiesChanged"),
			dbus.WithMatchPathNamespace(loginPath + "/session")},
	} {
		if err := conn.AddMatchSignalContext(ctx, append(match, dbus.WithMatchSender(loginName))...); err != nil {
			conn.Close()
			return nil, fmt.Errorf("asking %s for its signals: %w", loginName, err)
		}
	}
	conn.Signal(l.signals)
	go func() {
		defer close(l.changed)
		for range l.signals {
			select {
			case l.changed <- struct{}{}:
			default: // one is waiting already
			}
		}
	}()
	return l, nil
}

func (l *logind) Changed() <-chan struct{} { return l.changed }

func (l *logind) Close() error { return l.conn.Close() }

// List asks for all sessions. One that ends meanwhile is left out.
func (l *logind) List(ctx context.Context) (out []Session, err error) {
	var rows []struct {
		ID   string
		UID  uint32
		Name string
		Seat string
		Path dbus.ObjectPath
	}
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	call := l.conn.Object(loginName, loginPath).CallWithContext(ctx, loginManager+".ListSessions", 0)
	if err := call.Store(&rows); err != nil {
		return nil, fmt.Errorf("asking %s for the sessions: %w", loginName, err)
	}
	for _, row := range rows {
		var has map[string]dbus.Variant
		err := l.conn.Object(loginName, row.Path).CallWithContext(ctx, "org.freedesktop.DBus.Properties.GetAll", 0,
			loginSession).Store(&has)
		var failed dbus.Error
		switch {
		case errors.As(err, &failed): // it has ended
			continue
		case err != nil:
			return nil, fmt.Errorf("asking %s for session %s: %w", loginName, row.ID, err)
		}
		class, _ := has["Class"].Value().(string)
		state, _ := has["State"].Value().(string)
		if class != "user" && !strings.HasPrefix(class, "user-") || state == "closing" {
			continue // a greeter, a lock screen, or what is only left of a session
		}
		s := Session{UID: row.UID, Name: row.Name}
		s.Remote, _ = has["Remote"].Value().(bool)
		if micros, ok := has["Timestamp"].Value().(uint64); ok {
			s.Since = time.UnixMicro(int64(micros))
		}
		out = append(out, s)
	}
	return out, nil
}

// Running lists the numbers of the accounts that run something on this host (Linux).
func Running() (map[uint32]bool, error) {
	list, err := os.ReadDir("/proc")
	if err != nil {
		return nil, fmt.Errorf("looking for what runs: %w", err)
	}
	out := map[uint32]bool{}
	for _, entry := range list {
		if name := entry.Name(); name[0] < '0' || name[0] > '9' {
			continue
		}
		info, err := entry.Info()
		if err != nil {
			continue // it has ended
		}
		if uid, ok := ownerOf(info); ok {
			out[uid] = true
		}
	}
	return out, nil
}
