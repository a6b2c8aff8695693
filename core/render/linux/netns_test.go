package linux_test

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"wideknot/core/render/linux"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
)

// A lab is a set of network namespaces of this test's own.
type lab struct {
	t       *testing.T
	prefix  string
	sockets string
}

func (l *lab) ns(name string) string { return l.prefix + name }

func (l *lab) try(args ...string) (string, error) {
	out, err := exec.Command(args[0], args[1:]...).CombinedOutput()
	return string(out), err
}

func (l *lab) run(args ...string) string {
	l.t.Helper()
	out, err := l.try(args...)
	if err != nil {
		l.t.Fatalf("%s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return out
}

// in runs a command line inside a namespace.
func (l *lab) in(name, line string) string {
	l.t.Helper()
	return l.run(append([]string{"ip", "netns", "exec", l.ns(name)}, strings.Fields(line)...)...)
}

func (l *lab) add(name string) {
	l.run("ip", "netns", "add", l.ns(name))
	l.t.Cleanup(func() {
		pids, _ := l.try("ip", "netns", "pids", l.ns(name)) // tunnels in user space
		l.try(append([]string{"kill"}, strings.Fields(pids)...)...)
		l.try("ip", "netns", "del", l.ns(name))
	})
	l.in(name, "ip link set lo up")
}

// cable joins two namespaces: device@namespace with an address at each end.
func (l *lab) cable(a, deviceA, addressA, b, deviceB, addressB string) {
	l.t.Helper()
	l.run("ip", "link", "add", "name", deviceA, "netns", l.ns(a), "type", "veth", "peer", "name", deviceB, "netns", l.ns(b))
	l.in(a, "ip address add "+addressA+" dev "+deviceA)
	l.in(b, "ip address add "+addressB+" dev "+deviceB)
	l.in(a, "ip link set "+deviceA+" up")
	l.in(b, "ip link set "+deviceB+" up")
}

func (l *lab) pings(from, source, to string) bool {
	_, err := l.try("ip", "netns", "exec", l.ns(from), "ping", "-c", "1", "-W", "1", "-I", source, to)
	return err == nil
}

func (l *lab) waitForPing(from, source, to string) {
	l.t.Helper()
	for range 15 {
		if l.pings(from, source, to) {
			return
		}
	}
	l.t.Fatalf("%s (%s) does not reach %s", from, source, to)
}

// withSockets gives the arguments of ip that run a command in a namespace with
// a socket folder of its own: wireguard-go names its control sockets after the
// interface, and two sites may use the same name.
func (l *lab) withSockets(name string, command ...string) []string {
	folder := filepath.Join(l.sockets, name)
	script := "mkdir -p " + folder + " /run/wireguard && mount --bind " + folder + " /run/wireguard && exec \"$@\""
	return append([]string{"netns", "exec", l.ns(name), "sh", "-c", script, "sh"}, command...)
}

// newLab skips loudly where there can be no lab.
func newLab(t *testing.T) *lab {
	t.Helper()
	if testing.Short() {
		t.Skip("long")
	}
	if os.Geteuid() != 0 {
		t.Skip("SKIPPED, NOT PASSED: this test makes network namespaces and needs root")
	}
	for _, tool := range []string{"ip", "wg", "nft", "ping", "wireguard-go", "sysctl"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Fatalf("%s is missing; make test-tools installs it", tool)
		}
	}
	if _, err := os.Stat("/dev/net/tun"); err != nil {
		t.Skip("SKIPPED, NOT PASSED: there is no /dev/net/tun here")
	}
	labs++
	l := &lab{t: t, prefix: fmt.Sprintf("wk%d-%d-", os.Getpid()%100000, labs), sockets: shortFolder(t)}
	if out, err := l.try("ip", "netns", "add", l.ns("net")); err != nil {
		t.Skipf("SKIPPED, NOT PASSED: no network namespaces here: %s", out)
	}
	t.Cleanup(func() { l.try("ip", "netns", "del", l.ns("net")) })
	l.in("net", "sysctl -qw net.ipv4.ip_forward=1")
	return l
}

var labs int

// shortFolder makes a folder whose sockets' paths fit into 107 bytes.
func shortFolder(t *testing.T) string {
	t.Helper()
	folder, err := os.MkdirTemp("", "wk-lab-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	return folder
}

// lan gives a site's namespace the device and first address of its LAN.
func (l *lab) lan(site, address string) {
	l.t.Helper()
	l.in(site, "ip link add lan0 type veth peer name lan0p")
	l.in(site, "ip address add "+address+" dev lan0")
	l.in(site, "ip link set lan0 up")
	l.in(site, "ip link set lan0p up")
}

// down takes a tunnel's interfaces down at both ends, as whoever watches the
// tunnel does when it is found dead.
func (l *lab) down(m *route.Map, p tunnel.Peer) {
	l.t.Helper()
	for _, end := range []*tunnel.Port{p.Local, p.Remote} {
		key := m.Plan.Site(end.Site).Key
		l.in(key, "ip link set "+end.Interface+" down")
		if out, err := l.apply(key, l.folder(key, "bundle"), "--ways"); err != nil {
			l.t.Fatalf("apply --ways at %s: %v\n%s", key, err, out)
		}
	}
}

// TestBundleCarriesTraffic brings the rendered configuration of three sites up
// between network namespaces and sends packets through it.
func TestBundleCarriesTraffic(t *testing.T) {
	l := newLab(t)
	m, keys := example(t, "three-sites")
	for _, name := range []string{"nat", "millgate", "stonebeck", "withybrook"} {
		l.add(name)
	}
	// The internet is one router with a cable for every WAN link; the station's
	// cell link reaches it through an address translator.
	l.cable("millgate", "wan0", "203.0.113.10/30", "net", "mill", "203.0.113.9/30")
	l.cable("withybrook", "wan0", "198.51.100.20/28", "net", "withy0", "198.51.100.17/28")
	l.cable("withybrook", "wan1", "192.0.2.34/30", "net", "withy1", "192.0.2.33/30")
	l.cable("nat", "out", "192.0.2.50/30", "net", "nat", "192.0.2.49/30")
	l.cable("stonebeck", "wan0", "192.168.8.2/24", "nat", "in", "192.168.8.1/24")
	l.in("nat", "sysctl -qw net.ipv4.ip_forward=1")
	l.in("nat", "ip route add default via 192.0.2.49")
	l.in("nat", "nft add table ip nat")
	l.in("nat", "nft add chain ip nat post { type nat hook postrouting priority 100 ; }")
	l.in("nat", "nft add rule ip nat post oifname out masquerade")
	l.in("millgate", "ip route add default via 203.0.113.9")
	l.in("withybrook", "ip route add default via 198.51.100.17")
	l.in("stonebeck", "ip route add default via 192.168.8.1")
	l.lan("millgate", "10.40.1.1/24")
	l.lan("stonebeck", "10.40.2.1/24")
	l.lan("withybrook", "10.40.3.1/24")

	for i := range m.Plan.Estate.Sites {
		l.bringUp(m, i, keys)
	}
	l.waitForPing("stonebeck", "10.40.2.1", "10.40.3.1")
	l.waitForPing("withybrook", "10.40.3.1", "10.40.2.1")
	l.waitForPing("withybrook", "10.40.3.1", "10.40.1.1")
	if l.pings("stonebeck", "10.40.2.1", "192.168.77.1") {
		t.Error("the guest subnet, which is not shared, answers")
	}

	// The discard route keeps overlay traffic from leaving by the default
	// route once no tunnel serves it.
	first, second := m.Plan.Peers(m.Plan.SiteIndex("withybrook"))[0], m.Plan.Peers(m.Plan.SiteIndex("withybrook"))[1]
	route := func() string { return l.in("withybrook", "ip route get 10.40.2.1 from 10.40.3.1") }
	if got := route(); !strings.Contains(got, first.Interface) {
		t.Fatalf("first choice is %s, but the route is %s", first.Interface, got)
	}
	l.down(m, first)
	if got := route(); !strings.Contains(got, second.Interface) {
		t.Fatalf("the backup is %s, but the route is %s", second.Interface, got)
	}
	l.waitForPing("withybrook", "10.40.3.1", "10.40.2.1")
	l.waitForPing("stonebeck", "10.40.2.1", "10.40.3.1")
	l.down(m, second)
	if out, err := l.try("ip", "netns", "exec", l.ns("withybrook"), "ip", "route", "get", "10.40.2.1", "from", "10.40.3.1"); err == nil {
		t.Errorf("with all tunnels down the traffic leaves by %s", out)
	}
}

// folder is where a site's bundles and state lie.
func (l *lab) folder(site string, parts ...string) string {
	return filepath.Join(append([]string{l.sockets, "gw", site}, parts...)...)
}

// write puts a site's bundle into a folder of its own and returns it.
func (l *lab) write(m *route.Map, site int, keys linux.Keys, name string) string {
	l.t.Helper()
	key := m.Plan.Site(site).Key
	at := l.folder(key, name)
	for _, f := range bundle(l.t, m, site, keys) {
		path := filepath.Join(at, strings.TrimPrefix(f.Path, key+"/"))
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			l.t.Fatal(err)
		}
		if err := os.WriteFile(path, f.Text, 0o600); err != nil {
			l.t.Fatal(err)
		}
	}
	return at
}

// apply runs a bundle's program at its site.
func (l *lab) apply(site, folder string, args ...string) (string, error) {
	command := append([]string{"sh", filepath.Join(folder, "apply")}, args...)
	c := exec.Command("ip", l.withSockets(site, command...)...)
	c.Env = append(os.Environ(), "WIDEKNOT_STATE="+l.folder(site, "state"), "WIDEKNOT_KEYS="+l.folder(site, "keys"), "WIDEKNOT_SWANCTL="+l.folder(site, "swanctl"))
	out, err := c.CombinedOutput()
	return string(out), err
}

// bringUp applies a site's bundle.
func (l *lab) bringUp(m *route.Map, site int, keys linux.Keys) {
	l.t.Helper()
	key := m.Plan.Site(site).Key
	if out, err := l.apply(key, l.write(m, site, keys, "bundle")); err != nil {
		l.t.Fatalf("apply at %s: %v\n%s", key, err, out)
	}
}

// TestHubStandsByForHub cuts a site from its first hub and checks that others,
// which still use that hub, reach it: the first hub hands their packets to the
// second, and the second to the site.
func TestHubStandsByForHub(t *testing.T) {
	l := newLab(t)
	m, keys := example(t, "two-hubs")
	m.Plan.Estate.Overlays[0].PresharedKeys = true // nothing derived depends on it
	for i := range m.Plan.Estate.Sites {
		site := m.Plan.Site(i)
		l.add(site.Key)
		address := site.Links[0].Addresses[0]
		gateway := address.Prev().String()
		l.cable(site.Key, "wan0", address.String()+"/30", "net", site.Key, gateway+"/30")
		l.in(site.Key, "ip route add default via "+gateway)
		l.lan(site.Key, site.Subnets[0].Prefix.Addr().Next().String()+"/24")
	}
	for i := range m.Plan.Estate.Sites {
		l.bringUp(m, i, keys)
	}
	l.waitForPing("weir", "10.50.4.1", "10.50.3.1")
	tarn := m.Plan.Peers(m.Plan.SiteIndex("tarn"))
	if got := m.Plan.Site(tarn[0].Remote.Site).Key; got != "first" {
		t.Fatalf("tarn's first tunnel goes to %s", got)
	}
	l.down(m, tarn[0])
	l.waitForPing("weir", "10.50.4.1", "10.50.3.1")
	l.waitForPing("tarn", "10.50.3.1", "10.50.4.1")
	l.waitForPing("tarn", "10.50.3.1", "10.50.1.1")

	// With both its tunnels down nobody reaches it, and its packets do not
	// circle between the hubs.
	l.down(m, tarn[1])
	if l.pings("weir", "10.50.4.1", "10.50.3.1") {
		t.Error("tarn answers without a tunnel")
	}
	before := l.in("second", "ip -s link show dev "+hubLink(m, "second"))
	l.pings("weir", "10.50.4.1", "10.50.3.1")
	if after := l.in("second", "ip -s link show dev "+hubLink(m, "second")); countPackets(t, after)-countPackets(t, before) > 4 {
		t.Errorf("packets circle between the hubs:\n%s\n%s", before, after)
	}
}

// hubLink names the interface of a hub's tunnel to the other hub.
func hubLink(m *route.Map, hub string) string {
	for _, p := range m.Plan.Peers(m.Plan.SiteIndex(hub)) {
		if p.Adjacency.Kind == tunnel.HubHub {
			return p.Interface
		}
	}
	return ""
}

// countPackets reads the received packets out of ip -s link.
func countPackets(t *testing.T, text string) int {
	t.Helper()
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		if strings.Contains(line, "RX:") && i+1 < len(lines) {
			n, err := strconv.Atoi(strings.Fields(lines[i+1])[1])
			if err != nil {
				t.Fatal(err)
			}
			return n
		}
	}
	t.Fatalf("no count in %s", text)
	return 0
}

// example derives an example document, with keys made for this test.
func example(t *testing.T, name string) (*route.Map, linux.Keys) {
	t.Helper()
	e, err := examples.Estate(name)
	if err != nil {
		t.Fatal(err)
	}
	private := map[string]string{}
	e.Allocations.Keys = map[string]string{}
	for i := range e.Sites {
		key := testKey(byte(i + 1))
		private[e.Sites[i].Key] = key.private
		e.Allocations.Keys[e.Sites[i].Key] = key.public
	}
	return route.Build(tunnel.Derive(e)), linux.Keys{
		Private: func(site string) (string, bool) { key, ok := private[site]; return key, ok },
		Shared: func(overlay, ident string) (string, bool) {
			key, err := tunnel.SharedKey(bytes.Repeat([]byte{7}, 32), overlay, ident)
			return key, err == nil
		},
	}
}

// exitCode is that of a program that ended, -1 where it did not.
func exitCode(err error) int {
	var ended *exec.ExitError
	switch {
	case err == nil:
		return 0
	case errors.As(err, &ended):
		return ended.ExitCode()
	}
	return -1
}
