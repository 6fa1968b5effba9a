package e2e

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/app"
	"tollgate.example/key/internal/cluster"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// etcdCluster is a real etcd of three members, which let in whom its authority knows.
type etcdCluster struct {
	t       *testing.T
	members []*exec.Cmd
	args    [][]string
	files   map[string]string
	URLs    []string
}

func startEtcd(t *testing.T) *etcdCluster {
	need(t, "etcd")
	e := &etcdCluster{t: t, files: map[string]string{}}
	ca, signer := shortAuthority(t)
	dir := t.TempDir()
	write := func(name, kind string, der []byte) {
		e.files[name] = filepath.Join(dir, name)
		text := pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der})
		if err := os.WriteFile(e.files[name], text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("ca.pem", "CERTIFICATE", ca.Raw)
	key, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(2),
		Subject: pkix.Name{CommonName: "etcd"}, NotBefore: ca.NotBefore, NotAfter: ca.NotAfter,
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}, ca, key.Public(),
		signer)
	if err != nil {
		t.Fatal(err)
	}
	write("cert.pem", "CERTIFICATE", der)
	private, _ := x509.MarshalPKCS8PrivateKey(key)
	write("key.pem", "PRIVATE KEY", private)
	var peers, list []string
	for i := range 3 {
		peers = append(peers, "https://"+freePort(t))
		list = append(list, fmt.Sprintf("m%d=%s", i, peers[i]))
		e.URLs = append(e.URLs, "https://"+freePort(t))
	}
	for i := range 3 {
		e.args = append(e.args, []string{"--name", fmt.Sprintf("m%d", i), "--data-dir", filepath.Join(t.TempDir(), "m"),
			"--listen-client-urls", e.URLs[i], "--advertise-client-urls", e.URLs[i], "--client-cert-auth",
			"--trusted-ca-file", e.files["ca.pem"], "--cert-file", e.files["cert.pem"],
			"--key-file", e.files["key.pem"], "--listen-peer-urls", peers[i],
			"--initial-advertise-peer-urls", peers[i], "--peer-client-cert-auth",
			"--peer-trusted-ca-file", e.files["ca.pem"], "--peer-cert-file", e.files["cert.pem"],
			"--peer-key-file", e.files["key.pem"], "--initial-cluster", strings.Join(list, ","),
			"--max-request-bytes", "67108864"})
	}
	e.members = make([]*exec.Cmd, 3)
	t.Cleanup(e.kill)
	e.start()
	return e
}

// start starts the members that do not run.
func (e *etcdCluster) start() {
	for i, m := range e.members {
		if m == nil {
			e.members[i] = exec.Command("etcd", e.args[i]...)
			if err := e.members[i].Start(); err != nil {
				e.t.Fatal(err)
			}
		}
	}
}

// kill kills members, all if none is named.
func (e *etcdCluster) kill() {
	for i := range e.members {
		e.one(i)
	}
}

func (e *etcdCluster) one(i int) {
	if m := e.members[i]; m != nil {
		m.Process.Kill()
		m.Wait()
		e.members[i] = nil
	}
}

// copied are copies of what its members hold, while they do not run; put puts such back.
func (e *etcdCluster) copied() (out []string) {
	for i := range e.args {
		out = append(out, filepath.Join(e.t.TempDir(), "copy"))
		e.copyTo(e.dir(i), out[i])
	}
	return out
}

func (e *etcdCluster) put(older []string) {
	for i := range e.args {
		os.RemoveAll(e.dir(i))
		e.copyTo(older[i], e.dir(i))
	}
}

func (e *etcdCluster) copyTo(from, to string) {
	if err := os.CopyFS(to, os.DirFS(from)); err != nil {
		e.t.Fatal(err)
	}
}

// dir is the data directory of a member.
func (e *etcdCluster) dir(i int) string { return e.args[i][3] }

// by is how nodes reach it.
func (e *etcdCluster) by(prefix string) *cluster.Outside {
	return &cluster.Outside{URLs: e.URLs, CA: e.files["ca.pem"], Cert: e.files["cert.pem"], Key: e.files["key.pem"],
		Prefix: prefix}
}

func (e *etcdCluster) flags(prefix string) []string {
	return []string{"-engine", strings.Join(e.URLs, ","), "-engine-ca", e.files["ca.pem"], "-engine-cert",
		e.files["cert.pem"], "-engine-key", e.files["key.pem"], "-engine-prefix", prefix}
}

// An etcd cluster that is there serves two nodes: it dies in part and whole, loses all that it held, and is shared with
// others. Nothing else runs beside it: what it copies keeps the disk busy, for which engines of others would wait.
func TestNodesShareStateByAnEtcdCluster(t *testing.T) {
	e := startEtcd(t)
	a := &world{t: t, dir: t.TempDir(), how: func(o *app.Options) { o.Outside = e.by("harbour") }}
	a.first()
	a.basic("require", "127.0.0.1")
	a.refused(http.StatusConflict, http.MethodPost, "/nodes", apitype.NodeInput{Name: "eye", Witness: true},
		"keeps its own majority")
	var i apitype.NodeInvitation
	a.do(http.MethodPost, "/nodes", apitype.NodeInput{Name: "second"}, &i)
	if !strings.HasPrefix(i.Flags, "-engine https://127.0.0.1:") ||
		!strings.Contains(i.Flags, "-engine-prefix harbour") {
		t.Errorf("the new node is to be started with %q", i.Flags)
	}
	// a joiner that would share nothing is told so, and its invitation still counts
	dir := t.TempDir()
	args := []string{"-data", dir, "-http", free(t), "-radius", "127.0.0.1:0", "-accounting=", "-radius-tls=",
		"-radius-dtls=", "-tacacs", "none", "-tacacs-tls", "none", "-node-address", "127.0.0.1:0"}
	for what, more := range map[string][]string{"start it with -engine": nil,
		"holds no log of nodes under": e.flags("elsewhere")} {
		out, err := exec.Command(filepath.Join(binaries, "tollgated"), append(append(args, "-join", i.Token),
			more...)...).CombinedOutput()
		if err == nil || !strings.Contains(string(out), what) {
			t.Errorf("a joiner with %v: %v %s", more, err, out)
		}
		os.RemoveAll(dir)
	}
	second := runNode(t, append(append(args, "-join", i.Token), e.flags("harbour")...)...)
	b := &world{t: t, dir: dir}
	b.api = &client.Client{URL: "http://" + args[3], Token: a.api.Token}
	a.well(2)
	if n := a.well(2); n.Etcd == "" {
		t.Error("the nodes do not say by what they share state")
	}
	a.wants(0, []string{"node", "list"}, "share state by the etcd cluster at https://127.0.0.1:")
	made := func(w *world, name string) {
		t.Helper()
		for begun := time.Now(); ; time.Sleep(200 * time.Millisecond) { // a loaded machine finds no leader for a while
			err := w.api.Do(t.Context(), http.MethodPost, "/passes", apitype.PassFields{Name: name, VLAN: "31"}, nil)
			if err == nil || strings.Contains(err.Error(), "has this name") {
				return
			}
			if time.Since(begun) > 30*time.Second {
				t.Fatalf("%s: %v", name, err)
			}
		}
	}
	there := func(w *world, name string) {
		t.Helper()
		begun := time.Now()
		for {
			if out, _ := allOf[apitype.Pass](w, "/passes"); len(out) > 0 && strings.Contains(
				fmt.Sprint(out), name) {
				return
			}
			if time.Since(begun) > 20*time.Second {
				t.Fatalf("%s does not come to the other node", name)
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
	made(a, "guests")
	there(b, "guests")
	// one of the three dies
	e.one(0)
	begun := time.Now()
	made(a, "pilots")
	there(b, "pilots")
	t.Logf("with a member of three dead, a change is on the other node after %v", time.Since(begun))
	// all die: devices are answered, nothing can be changed, and both say why
	e.kill()
	a.nodesAre("cut off", func(n apitype.Nodes) bool { return n.CutOff != nil })
	a.admits("k.nance", "gangway-and-rope")
	if code := a.status(http.MethodPost, "/passes", apitype.PassFields{Name: "late", VLAN: "32"}, ""); code !=
		http.StatusServiceUnavailable {
		t.Errorf("a change without etcd: %d", code)
	}
	a.refused(http.StatusServiceUnavailable, http.MethodPost, "/nodes/recovery", nil, "etcd cluster at")
	var now apitype.Now
	a.do(http.MethodGet, "/now", nil, &now)
	if !strings.Contains(fmt.Sprint(now.Attention), "etcd cluster by which nodes share state is not reached") {
		t.Errorf("Now says %+v", now.Attention)
	}
	// a node comes back before it, with what it was started with before
	second.kill()
	runNode(t, args...)
	if err := b.api.WaitReady(t.Context()); err != nil {
		t.Fatal(err)
	}
	b.nodesAre("back", func(n apitype.Nodes) bool { return n.Shared })
	e.start()
	a.well(2)
	made(b, "crane-drivers")
	there(a, "crane-drivers")
	// other nodes do not take the log, under another prefix they do no harm
	other := &world{t: t, dir: t.TempDir(), how: func(o *app.Options) { o.Outside = e.by("harbour") }}
	other.first()
	other.refused(http.StatusConflict, http.MethodPost, "/nodes", apitype.NodeInput{Name: "third"}, "other nodes",
		"-engine-prefix")
	a.well(2)
	beside := &world{t: t, dir: t.TempDir(), how: func(o *app.Options) { o.Outside = e.by("harbour-2") }}
	beside.first()
	beside.invite("fourth")
	a.well(2)
	// it is put back to an older state: neither node goes on as if nothing had been
	e.kill()
	older := e.copied()
	e.start()
	a.well(2)
	made(a, "stewards")
	there(b, "stewards")
	e.kill()
	e.put(older)
	e.start()
	for _, w := range []*world{a, b} {
		w.nodesAre("told of it", func(n apitype.Nodes) bool {
			return n.CutOff != nil && strings.Contains(fmt.Sprint(n.Items), "put back to an older state")
		})
	}
	if code := a.status(http.MethodPost, "/passes", apitype.PassFields{Name: "later", VLAN: "32"}, ""); code !=
		http.StatusServiceUnavailable {
		t.Errorf("a change beside what was put back: %d", code)
	}
	// what it held is gone for good: a node goes on with what it has, the other has to join again
	e.kill()
	for i := range e.args {
		os.RemoveAll(e.dir(i))
	}
	e.start()
	a.nodesAre("without a log", func(n apitype.Nodes) bool { return n.CutOff != nil })
	for begun := time.Now(); a.status(http.MethodPost, "/nodes/recovery", nil, "") != http.StatusOK; {
		if time.Since(begun) > 40*time.Second {
			t.Fatal("a node does not go on alone")
		}
		time.Sleep(300 * time.Millisecond)
	}
	a.nodesAre("alone", func(n apitype.Nodes) bool { return n.Majority && len(n.Items) == 1 })
	made(a, "divers")
	b.nodesAre("left behind", func(n apitype.Nodes) bool { return n.CutOff != nil || n.Removed })
	b.refused(http.StatusConflict, http.MethodPost, "/nodes/recovery", nil, "began anew without this one")
	if list, _ := allOf[apitype.Pass](a, "/passes"); !strings.Contains(fmt.Sprint(list), "crane-drivers") {
		t.Error("what was shared is lost")
	}
}

// Settings that lead nowhere are refused at the start, each with its name.
func TestEtcdSettingsAreChecked(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "none.pem")
	os.WriteFile(file, []byte("nothing"), 0o600)
	for what, more := range map[string][]string{
		"is not https://HOST:PORT":  {"-engine", "http://127.0.0.1:2379"},
		"belong together":           {"-engine", "https://127.0.0.1:2379", "-engine-cert", file},
		"holds no PEM certificate":  {"-engine", "https://127.0.0.1:2379", "-engine-ca", file},
		"-engine-cert and -engine-": {"-engine", "https://127.0.0.1:2379", "-engine-cert", file, "-engine-key", file},
		"-engine-prefix":            {"-engine", "https://127.0.0.1:2379", "-engine-prefix", "a b"},
		"needs -engine":             {"-engine-prefix", "harbour"},
	} {
		out, err := exec.Command(filepath.Join(binaries, "tollgated"), append([]string{"-data", t.TempDir(), "-http",
			"127.0.0.1:0", "-radius", "127.0.0.1:0", "-accounting=", "-radius-tls=", "-radius-dtls=", "-tacacs", "none",
			"-tacacs-tls", "none"}, more...)...).CombinedOutput()
		if err == nil || !strings.Contains(string(out), what) {
			t.Errorf("%v: %v %s", more, err, out)
		}
	}
}
