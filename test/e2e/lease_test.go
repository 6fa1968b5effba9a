package e2e

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
)

// A real DHCP client gets its address from a real server through a real relay, which sends a copy here: that is how
// somebody who is known by the MAC address of an 802.1X port gets an address.
func TestARealLeaseJoinsPersonAndAddress(t *testing.T) {
	t.Parallel()
	need(t, "ip", "dnsmasq", "udhcpc")
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	name, subnet := fmt.Sprintf("tk%dd", os.Getpid()), os.Getpid()%64*4
	ours, relay := fmt.Sprintf("203.0.113.%d", subnet+1), fmt.Sprintf("203.0.113.%d", subnet+2)
	ip := func(args string) {
		t.Helper()
		if out, err := exec.Command("ip", strings.Fields(args)...).CombinedOutput(); err != nil {
			t.Fatalf("ip %s: %v %s", args, err, out)
		}
	}
	desk, middle, server := name+"c", name+"r", name+"s"
	for _, ns := range []string{desk, middle, server} {
		ip("netns add " + ns)
		t.Cleanup(func() { exec.Command("ip", "netns", "del", ns).Run() })
		ip("-n " + ns + " link set lo up")
	}
	ip("link add " + name + " type veth peer name out netns " + middle)
	t.Cleanup(func() { exec.Command("ip", "link", "del", name).Run() })
	ip("addr add " + ours + "/30 dev " + name)
	ip("link set " + name + " up")
	ip("-n " + middle + " addr add " + relay + "/30 dev out")
	ip("-n " + middle + " link set out up")
	const mac = "02:00:5e:00:00:31"
	ip("-n " + middle + " link add lan type veth peer name eth netns " + desk)
	ip("-n " + middle + " addr add 192.0.2.1/24 dev lan")
	ip("-n " + middle + " link set lan up")
	ip("-n " + desk + " link set eth address " + mac)
	ip("-n " + desk + " link set eth up")
	ip("-n " + middle + " link add srv type veth peer name eth netns " + server)
	ip("-n " + middle + " addr add 198.51.100.1/24 dev srv")
	ip("-n " + middle + " link set srv up")
	ip("-n " + server + " addr add 198.51.100.2/24 dev eth")
	ip("-n " + server + " link set eth up")
	ip("-n " + server + " route add default via 198.51.100.1")

	w := &world{t: t, dir: t.TempDir(), beside: ours}
	w.first()
	w.basic("auto", "127.0.0.1")
	// a relay sends from its address where the device is
	w.do(http.MethodPost, "/sources?publish=true", apitype.SourceInput{SourceFields: apitype.SourceFields{
		Name: "relays", Enabled: true, Way: config.SourceDHCP, From: []string{"192.0.2.1/32"},
		Readers: []config.SourceReader{}}}, nil)
	dir := t.TempDir()
	run := func(ns string, args ...string) {
		t.Helper()
		log, err := os.Create(filepath.Join(dir, ns+".log"))
		if err != nil {
			t.Fatal(err)
		}
		cmd := exec.CommandContext(t.Context(), "ip", append([]string{"netns", "exec", ns, "dnsmasq", "--no-daemon",
			"--conf-file=/dev/null", "--port=0", "--user=root", "--pid-file=", "--log-dhcp",
			"--dhcp-leasefile=" + filepath.Join(dir, ns+".leases")}, args...)...)
		cmd.Stdout, cmd.Stderr = log, log
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() {
			cmd.Process.Kill()
			cmd.Wait()
			log.Close()
			if text, err := os.ReadFile(log.Name()); err == nil && t.Failed() {
				t.Logf("%s:\n%s", ns, text)
			}
		})
	}
	copies := w.app.Reports[1]
	run(server, "--dhcp-range=192.0.2.100,192.0.2.110,255.255.255.0,10m", "--dhcp-authoritative")
	run(
		middle,
		"--dhcp-relay=192.0.2.1,198.51.100.2",
		fmt.Sprintf("--dhcp-relay=192.0.2.1,%s#%d", ours, copies.Port()),
	)
	w.signIn("s-1", "02-00-5E-00-00-31").must("Start")
	address := ""
	w.eventually("the device gets an address", func() bool {
		out, _ := exec.Command("ip", "netns", "exec", desk, "udhcpc", "-i", "eth", "-n", "-q", "-f", "-t", "2",
			"-T", "1", "-s", "/bin/true").CombinedOutput()
		for line := range strings.Lines(string(out)) {
			if _, rest, found := strings.Cut(line, "lease of "); found {
				address, _, _ = strings.Cut(rest, " ")
			}
		}
		return address != ""
	})
	w.eventually("who is known by the device is at "+address, func() bool {
		var a apitype.PresenceAnswer
		w.do(http.MethodGet, "/presence/who?address="+address, nil, &a)
		return a.Here != nil && a.Here.Who == "k.nance" && a.Lease != nil
	})
	var devices apitype.SeenDevices
	w.do(http.MethodGet, "/presence/devices?q=02-00-5e-00-00-31", nil, &devices)
	if len(devices.Items) != 1 || !strings.HasPrefix(devices.Items[0].VendorClass, "udhcp") ||
		!strings.HasPrefix(devices.Items[0].Fingerprint, "1,3,6") {
		t.Errorf("what a real device says of itself is %+v", devices.Items)
	}
}
