package linux_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// flows pings from many addresses of a site, each a flow of its own.
func (l *lab) flows(from, sources, to string, n int) (answered int) {
	for i := range n {
		source := fmt.Sprintf(sources, i+10)
		if out, err := l.try("ip", "netns", "exec", l.ns(from), "ping", "-n", "-c", "1", "-W", "1", "-I", source, to); err == nil {
			answered++
		} else {
			l.t.Logf("%s to %s: %s", source, to, out)
		}
	}
	return answered
}

// tally counts the echo packets that a site's interface takes in and out.
func (l *lab) tally(site string, devices ...string) {
	text := "table inet tally {\n"
	for _, d := range devices {
		text += fmt.Sprintf("counter in_%[1]s { }\ncounter out_%[1]s { }\n", strings.ReplaceAll(d, "-", "_"))
	}
	for _, c := range [][3]string{{"in", "iifname", "prerouting"}, {"out", "oifname", "postrouting"}} {
		text += "chain " + c[0] + " { type filter hook " + c[2] + " priority 0; policy accept;\n"
		for _, d := range devices {
			for _, echo := range []string{"icmp type { echo-request, echo-reply }", "icmpv6 type { echo-request, echo-reply }"} {
				text += fmt.Sprintf("%s \"%s\" %s counter name %s_%s\n", c[1], d, echo, c[0], strings.ReplaceAll(d, "-", "_"))
			}
		}
		text += "}\n"
	}
	file := filepath.Join(l.t.TempDir(), "tally.nft")
	if err := os.WriteFile(file, []byte(text+"}\n"), 0o600); err != nil {
		l.t.Fatal(err)
	}
	l.in(site, "nft -f "+file)
}

// counts reads how many echo packets an interface has taken in and out.
func (l *lab) counts(site, device string) (in, out int) {
	for way, into := range map[string]*int{"in_": &in, "out_": &out} {
		text := l.in(site, "nft list counter inet tally "+way+strings.ReplaceAll(device, "-", "_"))
		if _, err := fmt.Sscanf(text[strings.Index(text, "packets"):], "packets %d", into); err != nil {
			l.t.Fatal(err, text)
		}
	}
	return in, out
}

// TestSharedLoad sends flows between three gateways of which one has two links
// that share the load: both carry some, the larger part goes by the link of the
// larger weight, and each answer comes by the tunnel of its flow. When one
// dies, the other takes all.
func TestSharedLoad(t *testing.T) {
	l := newLab(t)
	m, keys := example(t, "load-sharing")
	for i := range m.Plan.Estate.Sites {
		site := m.Plan.Site(i)
		l.add(site.Key)
		for j := range site.Links {
			address, gateway := site.Links[j].Addresses[0].String(), site.Links[j].NextHop[0].String()
			l.cable(site.Key, site.Links[j].Device, address+"/30", "net", fmt.Sprintf("%s%d", site.Key, j), gateway+"/30")
			if j == 0 {
				l.in(site.Key, "ip route add default via "+gateway)
			}
		}
		// Each machine hashes flows in its own way.
		l.try("ip", "netns", "exec", l.ns(site.Key), "sysctl", "-qw", fmt.Sprint("net.ipv4.fib_multipath_hash_seed=", i+1))
		l.lan(site.Key, site.Subnets[0].Prefix.Addr().Next().String()+"/24")
		l.in(site.Key, "ip address add "+site.Subnets[1].Prefix.Addr().Next().String()+"/64 dev lan0 nodad")
		for k := 10; k < 60; k++ {
			l.in(site.Key, fmt.Sprintf("ip address add 10.60.%d.%d/24 dev lan0", i+1, k))
			l.in(site.Key, fmt.Sprintf("ip address add fd3a:91c2:60:%d::%d/64 dev lan0 nodad", i+1, k))
		}
	}
	for i := range m.Plan.Estate.Sites {
		l.bringUp(m, i, keys)
	}
	l.waitForPing("tarn", "10.60.2.1", "10.60.1.1")
	l.waitForPing("weir", "10.60.3.1", "10.60.2.1")
	for _, p := range m.Plan.Peers(m.Plan.SiteIndex("tarn")) { // a handshake on each, by whatever takes it
		l.waitForPing("tarn", p.Local.Address4.Addr().String(), p.Remote.Address4.Addr().String())
	}
	shared := m.Plan.Peers(m.Plan.SiteIndex("tarn"))[:2]
	fibre, copper := shared[0].Interface, shared[1].Interface
	l.tally("tarn", fibre, copper)
	// measure reports how many flows took each link, and fails where an answer
	// came by another tunnel than its flow.
	measure := func(from, sources, to string) (byFibre, byCopper int) {
		t.Helper()
		var before, after [2][2]int
		for i, p := range shared {
			before[i][0], before[i][1] = l.counts("tarn", p.Interface)
		}
		if got := l.flows(from, sources, to, 50); got != 50 {
			t.Fatalf("%d of 50 flows from %s to %s are answered", got, from, to)
		}
		for i, p := range shared {
			after[i][0], after[i][1] = l.counts("tarn", p.Interface)
			if in, out := after[i][0]-before[i][0], after[i][1]-before[i][1]; in != out {
				t.Errorf("%s to %s: %s took %d packets out and %d in: answers changed their tunnel", from, to, p.Interface, out, in)
			}
		}
		return after[0][1] - before[0][1], after[1][1] - before[1][1]
	}
	for _, c := range [][3]string{
		{"tarn", "10.60.2.%d", "10.60.1.1"},                     // answered by the hub itself
		{"tarn", "10.60.2.%d", "10.60.3.1"},                     // through the hub
		{"weir", "10.60.3.%d", "10.60.2.1"},                     // the hub chooses
		{"tarn", "fd3a:91c2:60:2::%d", "fd3a:91c2:60:3::1"},     // IPv6
		{"overgill", "fd3a:91c2:60:1::%d", "fd3a:91c2:60:2::1"}, // the hub starts
	} {
		byFibre, byCopper := measure(c[0], c[1], c[2])
		t.Logf("%s to %s: %d flows by fibre, %d by copper", c[0], c[2], byFibre, byCopper)
		// 3 to 1 of 50 by a hash: 25 or fewer by fibre come once in 8,000 runs.
		if byFibre <= 25 || byCopper == 0 {
			t.Errorf("%s to %s: %d flows took fibre, %d copper", c[0], c[2], byFibre, byCopper)
		}
	}
	l.down(m, shared[0])
	if byFibre, byCopper := measure("tarn", "10.60.2.%d", "10.60.1.1"); byFibre != 0 || byCopper != 50 {
		t.Errorf("with %s dead: %d and %d by %s", fibre, byFibre, byCopper, copper)
	}
	l.down(m, shared[1])
	if got := l.flows("tarn", "10.60.2.%d", "10.60.3.1", 3); got != 3 {
		t.Errorf("%d of 3 flows go by the standby", got)
	}
}

// The kernel takes the routes of tunnels that share the load, whichever way
// their addresses are numbered: with one address for a site, all have the same
// far end.
func TestSharedRoutesLoad(t *testing.T) {
	l := newLab(t)
	m, keys := example(t, "load-sharing")
	for _, numbering := range []estate.Numbering{estate.PerTunnel, estate.PerSite} {
		e := m.Plan.Estate.Clone()
		e.Overlays[0].Numbering = numbering
		m := route.Build(tunnel.Derive(e))
		for i := range e.Sites {
			name := fmt.Sprintf("%s-%s", e.Sites[i].Key, numbering)
			l.add(name)
			folder := l.write(m, i, keys, "bundle-"+string(numbering))
			for range 2 { // may be run again
				if out, err := l.apply(name, folder); err != nil {
					t.Fatalf("apply at %s: %v\n%s", name, err, out)
				}
			}
			shared := 0
			for _, hop := range regexp.MustCompile(`id (\d+) group \S+,3`).FindAllStringSubmatch(l.in(name, "ip nexthop"), -1) {
				shared += strings.Count(l.in(name, "ip route show table main")+l.in(name, "ip -6 route show table main"), "nhid "+hop[1]+" ")
			}
			if want := map[string]int{"tarn": 4, "overgill": 2, "weir": 0}[e.Sites[i].Key]; shared != want {
				t.Errorf("%s: %d routes share the load, want %d", name, shared, want)
			}
		}
	}
}
