package e2e

import (
	"context"
	"crypto/tls"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"tollgate.example/key/internal/app"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// apart are two nodes and a witness with a network between them that can be cut: the first node is in the test, the
// others are processes in namespaces of their own. The second one has a disk that can be filled, and an address where
// it is reached whatever is cut.
type apart struct {
	t            *testing.T
	a, b         *world
	middle, ns   string
	second       *exec.Cmd
	lan          func(host int) string
	acknowledged sync.Map
	written      atomic.Int64
	unanswered   atomic.Int64
	asked        atomic.Int64
	writing      sync.WaitGroup
	stop         context.CancelFunc
}

func (n *apart) ip(args string) {
	n.t.Helper()
	if out, err := exec.Command("ip", strings.Fields(args)...).CombinedOutput(); err != nil {
		n.t.Fatalf("ip %s: %v %s", args, err, out)
	}
}

func newApart(t *testing.T) *apart {
	if os.Getuid() != 0 {
		t.Skip("namespaces need root")
	}
	need(t, "ip", "nft")
	subnet := os.Getpid() % 250
	name := fmt.Sprintf("tkn%d", subnet)
	n := &apart{t: t, middle: name + "m", ns: name + "b",
		lan: func(host int) string { return fmt.Sprintf("198.18.%d.%d", subnet, host) }}
	control := func(host int) string { return fmt.Sprintf("198.19.%d.%d", subnet, host) }
	eye := name + "w"
	for _, ns := range []string{n.middle, n.ns, eye} {
		n.ip("netns add " + ns)
		t.Cleanup(func() { exec.Command("ip", "netns", "del", ns).Run() })
		n.ip("-n " + ns + " link set lo up")
	}
	n.ip("-n " + n.middle + " link add bridge type bridge")
	n.ip("-n " + n.middle + " link set bridge up")
	t.Cleanup(func() { exec.Command("ip", "link", "del", name+"l").Run() })
	n.ip("link add " + name + "l type veth peer name pa netns " + n.middle)
	n.ip("addr add " + n.lan(1) + "/24 dev " + name + "l")
	n.ip("link set " + name + "l up")
	for i, ns := range []string{n.ns, eye} {
		port := []string{"pb", "pw"}[i]
		n.ip("-n " + n.middle + " link add " + port + " type veth peer name lan netns " + ns)
		n.ip("-n " + ns + " addr add " + n.lan(2+i) + "/24 dev lan")
		n.ip("-n " + ns + " link set lan up")
	}
	for _, port := range []string{"pa", "pb", "pw"} {
		n.ip("-n " + n.middle + " link set " + port + " master bridge up")
	}
	t.Cleanup(func() { exec.Command("ip", "link", "del", name+"c").Run() })
	n.ip("link add " + name + "c type veth peer name control netns " + n.ns)
	n.ip("addr add " + control(1) + "/30 dev " + name + "c")
	n.ip("link set " + name + "c up")
	n.ip("-n " + n.ns + " addr add " + control(2) + "/30 dev control")
	n.ip("-n " + n.ns + " link set control up")

	n.a = &world{t: t, dir: t.TempDir(), how: func(o *app.Options) { o.NodeAddress = n.lan(1) + ":0" }}
	n.a.first()
	n.a.basic("require", "127.0.0.1", control(1))
	dir := t.TempDir()
	n.second = exec.Command("ip", "netns", "exec", n.ns, "sh", "-c", "mount -t tmpfs -o size=320m none "+dir+
		" && exec "+filepath.Join(binaries, "tollgated")+" -data "+dir+" -http "+control(2)+":8440 -radius "+control(2)+
		":1812 -accounting= -radius-tls= -radius-dtls= -tacacs none -tacacs-tls none -node-address "+n.lan(2)+
		":8441 -join "+n.a.invite("second"))
	witness := exec.Command("ip", "netns", "exec", eye, filepath.Join(binaries, "tollgated"), "-data", t.TempDir(),
		"-witness", "-node-address", n.lan(3)+":8441", "-join", n.a.invite("eye"))
	for _, cmd := range []*exec.Cmd{n.second, witness} {
		cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	}
	transport := &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}
	n.b = &world{t: t, dir: dir, radius: control(2) + ":1812", api: &client.Client{Token: n.a.api.Token,
		URL: "https://" + control(2) + ":8440", HTTP: &http.Client{Timeout: 10 * time.Second, Transport: transport}}}
	n.a.well(3)
	return n
}

// load has both nodes written to and devices sign in at both, until the end.
func (n *apart) load() {
	ctx, stop := context.WithCancel(n.t.Context())
	n.stop = stop
	n.t.Cleanup(stop)
	for name, w := range map[string]*world{"a": n.a, "b": n.b} {
		n.writing.Go(func() {
			for i := 0; ctx.Err() == nil; i++ {
				name := fmt.Sprintf("%s-%d", name, i)
				if w.api.Do(context.Background(), http.MethodPost, "/devices", map[string]any{"match": mac(i, name),
					"name": name, "enabled": true}, nil) == nil {
					n.acknowledged.Store(name, true)
					n.written.Add(1)
				}
				time.Sleep(20 * time.Millisecond)
			}
		})
		n.writing.Go(func() {
			for ctx.Err() == nil {
				reply, err := w.ask(nil)
				if n.asked.Add(1); err != nil || !reply.Accepted {
					n.unanswered.Add(1)
				}
				time.Sleep(10 * time.Millisecond)
			}
		})
	}
}

// goes waits until a device is stored at one of the nodes.
func (n *apart) goes(w *world, what string) {
	n.t.Helper()
	begun := time.Now()
	for i := 0; ; i++ {
		err := w.api.Do(n.t.Context(), http.MethodPost, "/devices", map[string]any{"match": mac(i, what),
			"name": what + fmt.Sprint(i), "enabled": true}, nil)
		if err == nil {
			n.t.Logf("%s: a change after %v", what, time.Since(begun).Round(10*time.Millisecond))
			return
		}
		if time.Since(begun) > 40*time.Second {
			var nodes apitype.Nodes
			w.do(http.MethodGet, "/nodes", nil, &nodes)
			n.t.Fatalf("%s: nothing can be changed: %v; the nodes are %+v", what, err, nodes)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// The network between nodes is cut in each way, one is stopped for a while, and the disk of one runs full: devices are
// answered everywhere, what can be changed is on both nodes in the end, and each says what is wrong with it.
// Nothing else runs beside it: where a disk takes a second for what others write, engines find no leader.
func TestNodesApart(t *testing.T) {
	n := newApart(t)
	n.load()
	cutOff := func(n apitype.Nodes) bool { return n.CutOff != nil }
	cut := func(port string) { n.ip("-n " + n.middle + " link set " + port + " down") }
	heal := func(port string) {
		n.ip("-n " + n.middle + " link set " + port + " up")
		n.a.there(3)
		n.b.there(3)
	}
	cut("pa")
	n.a.nodesAre("cut off", cutOff)
	n.goes(n.b, "half a network")
	if code := n.a.status(http.MethodPost, "/passes", apitype.PassFields{Name: "late", VLAN: "1"},
		""); code != http.StatusServiceUnavailable {
		t.Errorf("a node that is cut off changes things: %d", code)
	}
	heal("pa")
	cut("pb")
	n.b.nodesAre("cut off", cutOff)
	n.goes(n.a, "the other half")
	heal("pb")
	// the two nodes do not see each other, and the witness sees both: one of them at least goes on
	between := func(do string) {
		if out, err := exec.Command("ip", "netns", "exec", n.ns, "sh", "-c", do).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v %s", do, err, out)
		}
	}
	between("nft add table inet cut && nft add chain inet cut in '{ type filter hook input priority 0; }' && " +
		"nft add rule inet cut in ip saddr " + n.lan(1) + " drop && " +
		"nft add chain inet cut out '{ type filter hook output priority 0; }' && " +
		"nft add rule inet cut out ip daddr " + n.lan(1) + " drop")
	time.Sleep(4 * time.Second)
	before := n.written.Load()
	time.Sleep(3 * time.Second)
	if n.written.Load() == before {
		t.Error("nothing can be changed while two nodes do not see each other, though a witness sees both")
	}
	between("nft delete table inet cut")
	n.a.there(3)
	n.b.there(3)
	// the second one stops, as a machine that is moved
	n.second.Process.Signal(syscall.SIGSTOP)
	n.goes(n.a, "one stopped")
	time.Sleep(2 * time.Second)
	n.second.Process.Signal(syscall.SIGCONT)
	n.a.there(3)
	unanswered := n.unanswered.Load()
	// its disk runs full
	in := func(do string) string {
		out, _ := exec.Command("nsenter", "-t", fmt.Sprint(n.second.Process.Pid), "-m", "sh", "-c", do).CombinedOutput()
		return string(out)
	}
	if out := in("cat /dev/zero > " + n.b.dir + "/fill"); !strings.Contains(out, "No space left") {
		t.Errorf("the disk is not full: %s", out)
	}
	for range 5 {
		n.goes(n.a, "a full disk elsewhere")
		time.Sleep(300 * time.Millisecond)
	}
	n.b.admits("k.nance", "gangway-and-rope")
	in("rm " + n.b.dir + "/fill")
	n.stop()
	n.writing.Wait()
	n.goes(n.a, "room again")
	n.a.well(3)
	n.b.well(3)
	missing := n.a.lacks(&n.acknowledged) + n.b.lacks(&n.acknowledged)
	if missing > 0 || unanswered > 1 { // the one that was stopped answers late what came meanwhile
		t.Errorf("of %d changes are missing %d; of %d sign-ins %d were not answered", n.written.Load(), missing,
			n.asked.Load(), unanswered)
	}
	t.Logf("%d changes acknowledged, %d sign-ins answered", n.written.Load(), n.asked.Load())
}
