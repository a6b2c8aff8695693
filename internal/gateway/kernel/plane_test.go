package kernel

import (
	"context"
	"encoding/base64"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	plan "wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
	"wideknot/internal/gateway/agent"
	"wideknot/internal/gateway/stamp"
)

var kills = flag.Int("kills", 8, "at how many random moments applying is ended by kill -9")

// inside says that the process runs in a network and a mount namespace of its own.
const inside = "WIDEKNOT_TEST_INSIDE"

// TestMain runs the tests in namespaces of their own. The process is started again as
// the server of devices, and as one that applies and is killed.
func TestMain(m *testing.M) {
	switch {
	case len(os.Args) > 2 && os.Args[1] == "gateway" && os.Args[2] == "devices":
		d := Devices{Log: slog.New(slog.DiscardHandler)}
		if err := d.Serve(context.Background(), os.Args[len(os.Args)-1]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	case len(os.Args) > 1 && os.Args[1] == "apply-for-ever":
		applyForEver(os.Args[2], os.Args[3], os.Args[4])
	case os.Geteuid() != 0 || os.Getenv(inside) != "":
		os.Exit(m.Run())
	default:
		command := exec.Command("unshare", append([]string{"-n", "-m", "sh", "-c", `
			mkdir -p /run/wireguard && mount -t tmpfs none /run/wireguard && ip link set lo up && exec "$0" "$@"`, os.Args[0]}, os.Args[1:]...)...)
		command.Env = append(os.Environ(), inside+"=yes")
		command.Stdout, command.Stderr = os.Stdout, os.Stderr
		err := command.Run()
		if command.ProcessState == nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(command.ProcessState.ExitCode())
	}
}

func needsRoot(t testing.TB) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("SKIPPED, NOT PASSED: this test makes interfaces and needs root")
	}
	if _, err := os.Stat("/dev/net/tun"); err != nil {
		t.Skip("SKIPPED, NOT PASSED: there is no /dev/net/tun here")
	}
}

// secrets are the same for every test.
func secrets(c *gateway.Config) agent.Secrets {
	out := agent.Secrets{Private: [32]byte{8, 31: 64}, Shared: map[string][32]byte{}}
	for i := range c.Tunnels {
		out.Shared[c.Tunnels[i].Interface] = [32]byte{9, 31: 64}
	}
	return out
}

// all uses each way's first group.
func all(c *gateway.Config) *agent.Choice {
	out := &agent.Choice{}
	for i := range c.Ways {
		out.Uses = append(out.Uses, agent.Use{Way: c.Ways[i].ID, Members: c.Ways[i].Groups[0].Members})
	}
	return out
}

// releases are two configurations of one gateway: of an estate of every feature, and
// of what became of it.
func releases(t testing.TB, seed uint64) (a, b *gateway.Config) {
	t.Helper()
	e := sample.Mixed(seed)
	for i := range e.Overlays {
		e.Overlays[i].Transport = estate.WireGuard
	}
	keyed(e)
	site := 0
	first := tunnel.Derive(e)
	for i := range e.Sites {
		if len(first.Peers(i)) > len(first.Peers(site)) {
			site = i
		}
	}
	a = gateway.Of(plan.Build(first), site)
	later := e.Clone()
	later.Allocations = first.Allocations()
	for i := range later.Sites {
		if s := &later.Sites[i]; i != site && len(s.Subnets) > 1 {
			s.Subnets = s.Subnets[:len(s.Subnets)-1]
		}
		if links := later.Sites[i].Links; i != site && len(links) > 1 && i%2 == 0 {
			later.Sites[i].Links = links[:len(links)-1]
		}
	}
	later.Sites[site].Links[0].MTU = 1380
	keyed(later)
	b = gateway.Of(plan.Build(tunnel.Derive(later)), site)
	return a, b
}

func keyed(e *estate.Estate) {
	e.Allocations.Keys = map[string]string{}
	for i := range e.Sites {
		e.Allocations.Keys[e.Sites[i].Key] = base64.StdEncoding.EncodeToString([]byte(fmt.Sprintf("%-32d", i)))
	}
}

// links makes the WAN devices that a configuration names.
func wanDevices(t testing.TB, list ...*gateway.Config) {
	t.Helper()
	for _, c := range list {
		for i := range c.Links {
			l := &c.Links[i]
			if l.Device == "" || exec.Command("ip", "link", "add", l.Device, "type", "veth", "peer", "name", "far-"+l.Device).Run() != nil {
				continue
			}
			run(t, "ip", "link", "set", "far-"+l.Device, "up")
			run(t, "ip", "link", "set", l.Device, "up")
			t.Cleanup(func() { _ = exec.Command("ip", "link", "del", l.Device).Run() })
			for _, hop := range l.NextHops {
				run(t, "ip", "route", "add", netip.PrefixFrom(hop, hop.BitLen()).String(), "dev", l.Device)
			}
		}
	}
}

func run(t testing.TB, command ...string) string {
	t.Helper()
	out, err := exec.Command(command[0], command[1:]...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s: %v\n%s", strings.Join(command, " "), err, out)
	}
	return string(out)
}

// seen is everything that is there, as other programs tell it. Numbers of interfaces
// are left out, and figures that change by themselves.
func seen(t testing.TB) string {
	t.Helper()
	out := run(t, "sh", "-c", `
		ip -o link show | sed 's/^[0-9]*: //; s/link-netnsid.*//; s/link.ether [^ ]*//; s/@[^:]*//' | grep -v '^lo:' | sort
		ip -o address show scope global | sed 's/^[0-9]*: //' | sort
		for f in -4 -6; do ip $f rule show | sort; ip $f route show table all proto 199 | sort; done
		ip nexthop show | grep -v ' dev lo' | sort
		for d in $(ip -o link show | sed -n 's/^[0-9]*: \(wkshape[0-9]*\):.*/\1/p'); do tc class show dev $d | sort; done
		nft list ruleset | sed 's/packets [0-9]* bytes [0-9]*//'
		sysctl net.ipv4.ip_forward net.ipv6.conf.all.forwarding net.ipv4.conf.all.src_valid_mark net.ipv4.conf.all.send_redirects net.ipv4.fib_multipath_hash_policy`)
	// wg lists devices, peers and prefixes in no order.
	wg := strings.Split(run(t, "sh", "-c", `for i in $(wg show interfaces); do wg showconf $i | sed "s/^/$i /"; done`), "\n")
	for i, line := range wg {
		if name, list, ok := strings.Cut(line, "AllowedIPs = "); ok {
			prefixes := strings.Split(list, ", ")
			slices.Sort(prefixes)
			wg[i] = name + strings.Join(prefixes, " ")
		}
	}
	slices.Sort(wg)
	return out + strings.Join(wg, "\n")
}

func open(t testing.TB) *Plane {
	t.Helper()
	needsRoot(t)
	folder := t.TempDir()
	p, err := Open(folder, filepath.Join(folder, "devices.sock"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := p.Remove(); err != nil {
			t.Error(err)
		}
		_ = p.Close()
		_ = exec.Command("pkill", "-f", p.devices.socket).Run()
	})
	return p
}

func apply(t testing.TB, p *Plane, was, is *gateway.Config) {
	t.Helper()
	if err := p.Check(is); err != nil {
		t.Fatal(err)
	}
	notes, err := p.Apply(was, is, secrets(is), all(is))
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range notes {
		t.Error(n)
	}
}

// differ compares two texts and shows the lines that are in one of them alone.
func differ(t testing.TB, what, want, got string) {
	t.Helper()
	if want == got {
		return
	}
	lines := strings.Split(want, "\n")
	more := strings.Split(got, "\n")
	t.Errorf("%s: it is not as it was", what)
	for _, l := range lines {
		if !slices.Contains(more, l) {
			t.Logf("  - %.200s", l)
		}
	}
	for _, l := range more {
		if !slices.Contains(lines, l) {
			t.Logf("  + %.200s", l)
		}
	}
}

// Twice is once; a release, the next and the first again leave what the first leaves;
// devices that stay are not made anew; and nothing of ours is left in the end, while
// what is others' stays.
func TestReleasesFollowEachOther(t *testing.T) {
	needsRoot(t)
	for seed := range uint64(3) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			a, b := releases(t, seed)
			wanDevices(t, a, b)
			run(t, "sh", "-c", `ip route add 10.254.1.0/24 dev lo; ip rule add from 10.254.1.0/24 lookup 77 priority 77
				ip nexthop add id 7 dev lo; nft add table inet theirs; ip link add theirs type veth peer name theirs2`)
			t.Cleanup(func() {
				run(t, "sh", "-c", `ip route del 10.254.1.0/24; ip rule del priority 77; ip nexthop del id 7; nft delete table inet theirs; ip link del theirs`)
			})
			before := seen(t)
			p := open(t)
			apply(t, p, nil, a)
			first := seen(t)
			indexes, err := links()
			if err != nil {
				t.Fatal(err)
			}
			apply(t, p, a, a)
			differ(t, "applied twice", first, seen(t))
			apply(t, p, a, b)
			if seen(t) == first {
				t.Error("the next release changes nothing")
			}
			apply(t, p, b, a)
			differ(t, "there and back", first, seen(t))
			after, err := links()
			if err != nil {
				t.Fatal(err)
			}
			for i := range a.Tunnels {
				name := a.Tunnels[i].Interface
				if slices.ContainsFunc(b.Tunnels, func(o gateway.Tunnel) bool { return o.Interface == name }) && indexes[name].index != after[name].index {
					t.Errorf("%s stays in both releases and was made anew", name)
				}
			}
			apply(t, p, nil, b) // as after a start that knows nothing
			apply(t, p, nil, a)
			differ(t, "by an agent that knows nothing", first, seen(t))
			if err := p.Remove(); err != nil {
				t.Fatal(err)
			}
			differ(t, "removed", before, seen(t))
		})
	}
}

// What went with an interface that was set down comes back when it is up.
func TestLinksComeBack(t *testing.T) {
	needsRoot(t)
	a, _ := releases(t, 1)
	wanDevices(t, a)
	p := open(t)
	apply(t, p, nil, a)
	want := seen(t)
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	changes, err := p.Changes(ctx)
	if err != nil {
		t.Fatal(err)
	}
	mend := func() {
		t.Helper()
		select {
		case <-changes:
		case <-time.After(3 * time.Second):
			t.Fatal("nobody says that links changed")
		}
		if _, err := p.Mend(a, all(a)); err != nil {
			t.Fatal(err)
		}
	}
	for i := range a.Tunnels {
		name := a.Tunnels[i].Interface
		run(t, "ip", "link", "set", name, "down")
		mend()
		run(t, "ip", "link", "set", name, "up")
		mend()
	}
	differ(t, "all tunnels down and up", want, seen(t))
	for i := range a.Links {
		if d := a.Links[i].Device; d != "" {
			run(t, "ip", "link", "set", d, "down")
			mend()
			run(t, "ip", "link", "set", d, "up")
			for _, hop := range a.Links[i].NextHops {
				run(t, "ip", "route", "replace", netip.PrefixFrom(hop, hop.BitLen()).String(), "dev", d)
			}
			mend()
		}
	}
	if _, err := p.Mend(a, all(a)); err != nil {
		t.Fatal(err)
	}
	differ(t, "all links down and up", want, seen(t))
}

// Probes are sent from ports that no tunnel has, not from one of the system's choice; a port
// that is free in a moment is waited for.
func TestPortsOfTunnelsAreLeftToThem(t *testing.T) {
	needsRoot(t)
	a, _ := releases(t, 1)
	p := open(t)
	conn, err := p.Listen(t.Context(), true, 0, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if other, err := net.ListenPacket("udp4", fmt.Sprintf(":%d", stamp.Port+1)); err == nil {
		t.Errorf("probes are not sent from %v", other.LocalAddr())
		_ = other.Close()
	}
	asks, err := net.ListenPacket("udp", fmt.Sprintf(":%d", a.Tunnels[0].WireGuard.Port))
	if err != nil {
		t.Fatal(err)
	}
	time.AfterFunc(150*time.Millisecond, func() { _ = asks.Close() })
	if err := p.Check(a); err != nil {
		t.Error(err)
	}
}

func TestRefusesWhatOthersHave(t *testing.T) {
	needsRoot(t)
	a, _ := releases(t, 1)
	p := open(t)
	name := a.Tunnels[0].Interface
	run(t, "ip", "link", "add", name, "type", "veth", "peer", "name", "other")
	if err := p.Check(a); err == nil || !strings.Contains(err.Error(), name+" that is not ours") {
		t.Errorf("an interface of that name: %v", err)
	}
	if _, err := p.Apply(nil, a, secrets(a), all(a)); err == nil {
		t.Error("it is applied all the same")
	}
	run(t, "ip", "link", "del", name)
	taken, err := net.ListenPacket("udp", fmt.Sprintf(":%d", a.Tunnels[0].WireGuard.Port))
	if err != nil {
		t.Fatal(err)
	}
	if err := p.Check(a); err == nil || !strings.Contains(err.Error(), "taken by another program") {
		t.Errorf("a port that is taken: %v", err)
	}
	_ = taken.Close()
	if err := p.Check(a); err != nil {
		t.Errorf("nothing is in the way: %v", err)
	}
	a.Tunnels[0].WireGuard.PublicKey = "nonsense"
	if err := p.Check(a); err == nil || !strings.Contains(err.Error(), "public key") {
		t.Errorf("a key that is none: %v", err)
	}
}

func TestOldKernelsAreRefused(t *testing.T) {
	for release, ok := range map[string]bool{"6.18.44-x": true, "5.10.0-33-amd64": true, "5.9.16": false, "4.19.0": false, "5.4": false, "10.1": true, "odd": false} {
		if err := recent(release); (err == nil) != ok {
			t.Errorf("%s: %v", release, err)
		}
	}
}

// One way is moved, with 5,000 prefixes on it.
func BenchmarkUse(b *testing.B) {
	needsRoot(b)
	c := &gateway.Config{Site: "here"}
	for i, name := range []string{"a", "b"} {
		c.Tunnels = append(c.Tunnels, gateway.Tunnel{
			Interface: name, Overlay: "ops", Rank: 1, Link: "w", Peer: "far", PeerLink: "w", NextHop: gateway.Blackhole + 1 + i, MTU: 1400,
			WireGuard: &gateway.WireGuard{Port: 52000 + i, PublicKey: base64.StdEncoding.EncodeToString(make([]byte, 32))},
		})
	}
	way := func(name string) agent.Use {
		return agent.Use{Way: gateway.FirstWay, Members: []gateway.Member{{Interface: name, Weight: 1}}}
	}
	c.Ways = []gateway.Way{{ID: gateway.FirstWay, Groups: []gateway.Group{{Place: 1, Members: way("a").Members}, {Place: 2, Members: way("b").Members}}}}
	for i := range 5000 {
		c.Routes = append(c.Routes, gateway.Route{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(i >> 8), byte(i), 0}), 24), Way: gateway.FirstWay})
	}
	p := open(b)
	began := time.Now()
	if _, err := p.Apply(nil, c, secrets(c), &agent.Choice{Uses: []agent.Use{way("a")}}); err != nil {
		b.Fatal(err)
	}
	first := time.Since(began)
	began = time.Now()
	if _, err := p.Apply(c, c, secrets(c), &agent.Choice{Uses: []agent.Use{way("a")}}); err != nil {
		b.Fatal(err)
	}
	again := time.Since(began)
	defer func() {
		b.ReportMetric(float64(first.Milliseconds()), "ms-to-apply")
		b.ReportMetric(float64(again.Milliseconds()), "ms-to-apply-again")
	}()
	for b.Loop() {
		for _, name := range []string{"b", "a"} {
			if err := p.Use(c, []agent.Use{way(name)}, nil); err != nil {
				b.Fatal(err)
			}
		}
	}
}

// Probes of several tunnels to one address leave by the tunnel they are for, in both
// families, whichever of them the way to that address goes by.
func TestProbesLeaveByTheirTunnel(t *testing.T) {
	needsRoot(t)
	far := []string{"10.99.0.2", "fd99::2"}
	for i, own := range []string{"10.99.0.1/32", "fd99::1/128"} {
		c := &gateway.Config{Site: "here"}
		to := netip.MustParseAddr(far[i])
		for slot, name := range []string{"a", "b"} {
			c.Tunnels = append(c.Tunnels, gateway.Tunnel{
				Interface: name, Overlay: "ops", Rank: 1, Link: "w", Peer: "far", PeerLink: "w", NextHop: gateway.Blackhole + 1 + slot, MTU: 1400,
				Addresses: []netip.Prefix{netip.MustParsePrefix(own)}, Probe: &gateway.Probe{Address: to},
				WireGuard: &gateway.WireGuard{Port: 52000 + slot, PublicKey: base64.StdEncoding.EncodeToString(make([]byte, 32))},
			})
		}
		c.Ways = []gateway.Way{{ID: gateway.FirstWay, Groups: []gateway.Group{{Place: 1, Members: []gateway.Member{{Interface: "a", Weight: 1}}}}}}
		c.Routes = []gateway.Route{{Prefix: netip.PrefixFrom(to, to.BitLen()), Way: gateway.FirstWay}}
		c.Discards = []gateway.Discard{{Prefix: netip.PrefixFrom(to, to.BitLen())}}
		p := open(t)
		before := seen(t)
		apply(t, p, nil, c)
		for _, name := range []string{"a", "b"} {
			if got := run(t, "ip", "route", "get", far[i], "oif", name, "mark", fmt.Sprint(gateway.ProbeMark)); !strings.Contains(got, "dev "+name) {
				t.Errorf("a probe for %s by %s: %s", far[i], name, got)
			}
		}
		if got := run(t, "ip", "route", "get", far[i]); !strings.Contains(got, "dev a") {
			t.Errorf("anything else: %s", got)
		}
		first := seen(t)
		apply(t, p, c, c)
		differ(t, "applied twice", first, seen(t))
		if err := p.Remove(); err != nil {
			t.Fatal(err)
		}
		differ(t, "removed", before, seen(t))
	}
}
