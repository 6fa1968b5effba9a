package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/godbus/dbus/v5"
	"github.com/godbus/dbus/v5/prop"
)

// busConfig lets everybody do everything on a bus that is a test's own.
const busConfig = `<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN"
 "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig><type>system</type><listen>unix:path=%s</listen><policy context="default"><allow user="*"/><allow own="*"/>
<allow send_destination="*" eavesdrop="true"/><allow send_type="method_call"/><allow send_type="signal"/>
<allow receive_type="method_call"/><allow receive_type="signal"/><allow receive_type="method_return"/>
<allow receive_type="error"/></policy></busconfig>`

// newSharedHost lays a cable to a namespace, adds people to the system, and starts a service at our end of the cable.
func newSharedHost(t *testing.T, people ...string) *sharedHost {
	t.Helper()
	need(t, "ip", "nft", "dbus-daemon", "setpriv", "/lib/systemd/systemd-logind", "/usr/bin/perl")
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces and people")
	}
	name, subnet := fmt.Sprintf("tk%dh", os.Getpid()), os.Getpid()%64*4
	h := &sharedHost{ns: name + "o", outside: fmt.Sprintf("198.51.100.%d", subnet+1),
		address: fmt.Sprintf("198.51.100.%d", subnet+2), people: map[string]uint32{}}
	run := func(args ...string) {
		t.Helper()
		if out, err := exec.Command(args[0], args[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v %s", args, err, out)
		}
	}
	ip := func(args string) { run(append([]string{"ip"}, strings.Fields(args)...)...) }
	ip("netns add " + h.ns)
	t.Cleanup(func() { exec.Command("ip", "netns", "del", h.ns).Run() })
	ip("link add " + name + " type veth peer name lan netns " + h.ns)
	t.Cleanup(func() { exec.Command("ip", "link", "del", name).Run() })
	ip("addr add " + h.outside + "/30 dev " + name)
	ip("link set " + name + " up")
	ip("-n " + h.ns + " addr add " + h.address + "/30 dev lan")
	ip("-n " + h.ns + " link set lan up")
	ip("-n " + h.ns + " link set lo up")
	for i, who := range people {
		h.people[who] = uint32(61000 + (os.Getpid()*len(people)+i)%4000)
		run("useradd", "-M", "-N", "-u", strconv.Itoa(int(h.people[who])), "-s", "/bin/sh", who)
		t.Cleanup(func() { exec.Command("userdel", who).Run() })
	}
	dir := t.TempDir()
	h.world = &world{t: t, dir: filepath.Join(dir, "data"), web: webAt(t, dir, h.outside)}
	h.first()
	return h
}

// units stands in for the manager of units, which here is not the first process: it does what the login manager asks
// and says that it is done.
type units struct {
	conn *dbus.Conn
	jobs atomic.Uint32
}

const (
	unitsName = "org.freedesktop.systemd1"
	unitsPath = "/org/freedesktop/systemd1"
)

func (u *units) Subscribe() *dbus.Error { return nil }

func (u *units) job(name string) (dbus.ObjectPath, *dbus.Error) {
	id := u.jobs.Add(1)
	path := dbus.ObjectPath(fmt.Sprintf("%s/job/%d", unitsPath, id))
	time.AfterFunc(20*time.Millisecond, func() {
		u.conn.Emit(unitsPath, unitsName+".Manager.JobRemoved", id, path, name, "done")
	})
	return path, nil
}

type property struct {
	Name  string
	Value dbus.Variant
}

type auxiliary struct {
	Name       string
	Properties []property
}

func (u *units) StartTransientUnit(name, _ string, _ []property, _ []auxiliary) (dbus.ObjectPath, *dbus.Error) {
	return u.job(name)
}
func (u *units) StartUnit(name, _ string) (dbus.ObjectPath, *dbus.Error) { return u.job(name) }
func (u *units) StopUnit(name, _ string) (dbus.ObjectPath, *dbus.Error)  { return u.job(name) }

// logins starts a bus and the login manager of systemd on it. What it returns signs somebody in, and returns what ends
// the session again.
func (h *sharedHost) logins() func(who string) (end func()) {
	t := h.t
	t.Helper()
	dir := t.TempDir()
	socket, conf := filepath.Join(dir, "bus"), filepath.Join(dir, "bus.conf")
	h.bus = "unix:path=" + socket
	if err := os.WriteFile(conf, fmt.Appendf(nil, busConfig, socket), 0o600); err != nil {
		t.Fatal(err)
	}
	start := func(args ...string) {
		cmd := exec.CommandContext(t.Context(), args[0], args[1:]...)
		cmd.Env = append(os.Environ(), "DBUS_SYSTEM_BUS_ADDRESS="+h.bus)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	}
	start("dbus-daemon", "--config-file="+conf, "--nofork")
	var conn *dbus.Conn
	h.eventually("there is a bus", func() bool {
		var err error
		conn, err = dbus.Connect(h.bus)
		return err == nil
	})
	t.Cleanup(func() { conn.Close() })
	u := &units{conn: conn}
	if err := conn.Export(u, unitsPath, unitsName+".Manager"); err != nil {
		t.Fatal(err)
	}
	if _, err := prop.Export(conn, unitsPath, prop.Map{}); err != nil {
		t.Fatal(err)
	}
	if _, err := conn.RequestName(unitsName, dbus.NameFlagDoNotQueue); err != nil {
		t.Fatal(err)
	}
	// what it writes below /run is its own
	start("unshare", "-m", "sh", "-c", "mkdir -p /run/systemd && mount -t tmpfs none /run/systemd && "+
		"mkdir -p /run/systemd/sessions /run/systemd/users /run/systemd/seats /run/systemd/inhibit && "+
		"exec /lib/systemd/systemd-logind")
	manager := conn.Object("org.freedesktop.login1", "/org/freedesktop/login1")
	h.eventually("the login manager answers", func() bool {
		return manager.Call("org.freedesktop.login1.Manager.ListUsers", 0).Err == nil
	})
	return func(who string) func() {
		t.Helper()
		uid := h.people[who]
		work := exec.Command("setpriv", "--reuid", strconv.Itoa(int(uid)), "--clear-groups", "sleep", "1000")
		if err := work.Start(); err != nil {
			t.Fatal(err)
		}
		var id, path, runtime, seat string
		var fd dbus.UnixFD
		var of, vt uint32
		var was bool
		call := manager.Call("org.freedesktop.login1.Manager.CreateSession", 0, uid, uint32(work.Process.Pid), "sshd",
			"tty", "user", "", "", uint32(0), "", "", true, "", "192.0.2.9", []property{})
		var at dbus.ObjectPath
		if err := call.Store(&id, &at, &runtime, &fd, &of, &seat, &vt, &was); err != nil {
			t.Fatalf("signing %s in: %v %s", who, err, path)
		}
		pipe := os.NewFile(uintptr(fd), "session")
		end := func() {
			manager.Call("org.freedesktop.login1.Manager.ReleaseSession", 0, id)
			pipe.Close()
			work.Process.Kill()
			work.Wait()
		}
		t.Cleanup(end)
		return end
	}
}
