package gateway

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"testing"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

func mapOf(e *estate.Estate) *route.Map { return route.Build(tunnel.Derive(e)) }

// eachSite makes the configuration of every site of some random estates.
func eachSite(t *testing.T, seeds uint64, do func(where string, m *route.Map, site int, c *Config)) {
	t.Helper()
	for seed := range seeds {
		m := mapOf(sample.Mixed(seed))
		for i := range m.Plan.Estate.Sites {
			do(fmt.Sprintf("seed %d, %s", seed, m.Plan.Site(i).Key), m, i, Of(m, i))
		}
	}
}

// Parse reads what Write writes, all of it, and Of makes nothing that Parse refuses.
func TestParseOfWriteIsTheSame(t *testing.T) {
	eachSite(t, 40, func(where string, _ *route.Map, _ int, c *Config) {
		text, err := Write(c)
		if err != nil {
			t.Fatal(where, err)
		}
		again, err := Parse(text)
		if err != nil {
			t.Fatal(where, err)
		}
		if !reflect.DeepEqual(c, again) {
			t.Errorf("%s: %s", where, differing(reflect.ValueOf(*c), reflect.ValueOf(*again), ""))
		}
		if c.Digest() != again.Digest() || len(Difference(c, again)) > 0 {
			t.Errorf("%s: read back it has another digest, or differs", where)
		}
	})
}

// differing names the first place in which two values differ.
func differing(a, b reflect.Value, path string) string {
	switch {
	case reflect.DeepEqual(a.Interface(), b.Interface()):
		return ""
	case a.Kind() == reflect.Struct && a.NumField() > 0 && a.Type().Field(0).IsExported():
		for i := range a.NumField() {
			if said := differing(a.Field(i), b.Field(i), path+"."+a.Type().Field(i).Name); said != "" {
				return said
			}
		}
	case a.Kind() == reflect.Slice && a.Len() == b.Len() && a.Len() > 0:
		for i := range a.Len() {
			if said := differing(a.Index(i), b.Index(i), fmt.Sprintf("%s[%d]", path, i)); said != "" {
				return said
			}
		}
	}
	return fmt.Sprintf("%s: %#v, %#v", path, a.Interface(), b.Interface())
}

// Each route's way is the hops that the route map says, in their order and groups;
// what is discarded is what the map discards; and nothing else is there.
func TestRoutesAreThoseOfTheMap(t *testing.T) {
	eachSite(t, 30, func(where string, m *route.Map, site int, c *Config) {
		ways := map[int]string{}
		for i := range c.Ways {
			ways[c.Ways[i].ID] = c.Ways[i].Words()
		}
		tables := map[int][]route.Route{DefaultTable: m.Table(site)}
		for i, x := range m.Extras(site) {
			tables[FirstTable+i] = x.Routes
		}
		for number, routes := range tables {
			var discards []netip.Prefix
			want := map[netip.Prefix]string{}
			for _, r := range routes {
				if number == DefaultTable && r.Kind == route.Breakout {
					continue
				}
				if r.Discards() {
					discards = append(discards, r.Prefix)
				}
				if len(r.Hops) > 0 {
					w := Way{Groups: groupsOf(r.Hops)}
					want[r.Prefix] = w.Words()
				}
			}
			for _, r := range routes {
				if r.Link != nil {
					want[r.Prefix] = r.NextHop.String()
				}
			}
			got := map[netip.Prefix]string{}
			for _, r := range c.Routes {
				switch {
				case r.Table != number:
				case r.Way != 0:
					got[r.Prefix] = ways[r.Way]
				default:
					got[r.Prefix] = r.Via.String()
				}
			}
			for prefix, by := range want {
				if got[prefix] != by {
					t.Errorf("%s, table %d: %s goes by %q, not %q", where, number, prefix, got[prefix], by)
				}
			}
			var merged []netip.Prefix
			for _, d := range c.Discards {
				if d.Table == number {
					merged = append(merged, d.Prefix)
				}
			}
			if !slices.Equal(addr.Aggregate(merged), addr.Aggregate(discards)) {
				t.Errorf("%s, table %d: discards %v, not %v", where, number, merged, discards)
			}
		}
	})
}

// Whatever routes are gone, a packet meets a discard where it would meet one of its
// own: merging discards changes no lookup.
func TestMergedDiscardsChangeNoLookup(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 15))
	random := func() netip.Prefix {
		return netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 0, byte(r.IntN(4)), byte(r.IntN(4) * 64)}), 20+r.IntN(7)).Masked()
	}
	longest := func(list []netip.Prefix, a netip.Addr) int {
		bits := -1
		for _, p := range list {
			if p.Contains(a) {
				bits = max(bits, p.Bits())
			}
		}
		return bits
	}
	for range 20000 {
		var discards, others []netip.Prefix
		for range 1 + r.IntN(6) {
			discards = append(discards, random())
		}
		for range r.IntN(3) {
			others = append(others, random())
		}
		// Only some of the routes beside the discards live.
		var alive []netip.Prefix
		for _, p := range discards {
			if r.IntN(2) == 0 {
				alive = append(alive, p)
			}
		}
		few := merged(slices.Clone(discards), others)
		for range 20 {
			a := netip.AddrFrom4([4]byte{10, 0, byte(r.IntN(16)), byte(r.IntN(256))})
			route, other := longest(alive, a), longest(others, a)
			own, whole := longest(discards, a), longest(few, a)
			// A discard is met where nothing as long or longer lives.
			if (own > max(route, other)) != (whole > max(route, other)) {
				t.Fatalf("%v beside %v → %v: %v with %v alive", discards, others, few, a, alive)
			}
		}
	}
}

// Ways that stay keep their numbers, whatever else is there; weights are what a
// kernel takes.
func TestWaysKeepTheirNumbers(t *testing.T) {
	for seed := range uint64(20) {
		e := sample.Mixed(seed)
		m := mapOf(e)
		e.Allocations = m.Plan.Allocations()
		less := e.Clone()
		last := &less.Sites[len(less.Sites)-1]
		last.Subnets = last.Subnets[:1]
		after := mapOf(less)
		for i := range e.Sites {
			numbers := map[string]int{}
			was, is := Of(m, i), Of(after, i)
			for j := range was.Ways {
				numbers[was.Ways[j].Words()] = was.Ways[j].ID
			}
			for j := range is.Ways {
				if id, there := numbers[is.Ways[j].Words()]; there && id != is.Ways[j].ID {
					t.Errorf("seed %d, %s: %s was %d and is %d", seed, e.Sites[i].Key, is.Ways[j].Words(), id, is.Ways[j].ID)
				}
			}
		}
	}
	for _, c := range []struct{ in, want []int }{
		{[]int{3}, []int{1}}, {[]int{4, 6}, []int{2, 3}}, {[]int{256, 1}, []int{255, 1}}, {[]int{255, 1}, []int{255, 1}}, {[]int{256, 128}, []int{2, 1}}, {[]int{250, 256, 1}, []int{249, 255, 1}},
	} {
		group := make([]Member, len(c.in))
		for i, w := range c.in {
			group[i].Weight = w
		}
		kernelWeights(group)
		for i, m := range group {
			if m.Weight != c.want[i] {
				t.Errorf("%v: %v, want %v", c.in, group, c.want)
			}
		}
	}
}

// Every field that a gateway acts by counts for the digest and shows as a
// difference; what it does not act by does neither.
func TestDigestIsOfAllThatMatters(t *testing.T) {
	c := full()
	digest := c.Digest()
	changed := 0
	eachLeaf(reflect.ValueOf(c).Elem(), "", func(path string, spoil, restore func()) {
		spoil()
		defer restore()
		other := strings.HasPrefix(path, ".Neighbours")
		if (c.Digest() == digest) != other {
			t.Errorf("%s: the digest says nothing of it, or too much", path)
		}
		was := full()
		if (len(Difference(was, c)) == 0) != other && path != ".Site" {
			t.Errorf("%s: no difference, or one too many", path)
		}
		changed++
	})
	if changed < 100 {
		t.Errorf("only %d fields were tried", changed)
	}
}

// eachLeaf calls change for each value that is no list and no struct, and for the
// length of each list.
func eachLeaf(v reflect.Value, path string, change func(path string, spoil, restore func())) {
	was := reflect.New(v.Type()).Elem()
	was.Set(v)
	restore := func() { v.Set(was) }
	switch at := v.Addr().Interface().(type) {
	case *netip.Addr:
		change(path, func() { *at = netip.MustParseAddr("192.0.2.99") }, restore)
		return
	case *netip.Prefix:
		change(path, func() { *at = netip.MustParsePrefix("192.0.2.96/27") }, restore)
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			eachLeaf(v.Field(i), path+"."+v.Type().Field(i).Name, change)
		}
	case reflect.Pointer:
		if !v.IsNil() {
			eachLeaf(v.Elem(), path, change)
		}
	case reflect.Slice:
		if v.Len() == 0 {
			return
		}
		change(path+" shorter", func() { v.Set(v.Slice(0, v.Len()-1)) }, restore)
		for i := range v.Len() {
			eachLeaf(v.Index(i), fmt.Sprintf("%s[%d]", path, i), change)
		}
	case reflect.String:
		change(path, func() { v.SetString(v.String() + "x") }, restore)
	case reflect.Int:
		change(path, func() { v.SetInt(v.Int() + 1) }, restore)
	case reflect.Bool:
		change(path, func() { v.SetBool(!v.Bool()) }, restore)
	default:
		panic(path)
	}
}

// full is a configuration in which nothing is missing.
func full() *Config {
	p := func(texts ...string) (out []netip.Prefix) {
		for _, s := range texts {
			out = append(out, netip.MustParsePrefix(s))
		}
		return out
	}
	a := netip.MustParseAddr
	return &Config{
		Site:  "tarn",
		Links: []Link{{Key: "fibre", Device: "wan0", NextHops: []netip.Addr{a("203.0.113.1")}, Mark: 8400, Up: 1, Down: 2}},
		Tunnels: []Tunnel{
			{
				Interface: "weir-1", Overlay: "ops", Rank: 1, Link: "fibre", Peer: "weir", PeerLink: "fibre", NextHop: Blackhole + 1, MTU: 1420,
				Addresses: p("100.96.0.1/31"), Limited: true, Zones: []string{"control"},
				Probe:     &Probe{Target: "far-end", Address: a("100.96.0.0"), Interval: 1000, Timeout: 800, Misses: 3, Successes: 5},
				WireGuard: &WireGuard{Port: 51820, Mark: 8400, PublicKey: "k", Preshared: true, Allowed: p("10.2.0.0/16"), List: 1, Endpoint: "198.51.100.1:51820", Keepalive: 25},
			},
			{
				Interface: "weir-2", Overlay: "ops", Rank: 2, Link: "fibre", Peer: "weir", PeerLink: "cell", NextHop: Blackhole + 2, MTU: 1400,
				IPsec: &IPsec{
					LocalID: "a", RemoteID: "b", Local: a("203.0.113.2"), Remote: a("198.51.100.2"), RemoteName: "n", Initiates: true, Encapsulate: true,
					IKE: []string{"x"}, ESP: []string{"y"}, IKELifetime: 1, ChildLifetime: 2, LocalTS: p("0.0.0.0/0"), RemoteTS: p("0.0.0.0/0"), InterfaceID: 2, Mark: 8400,
				},
			},
		},
		Lists:    []List{{ID: 1, Prefixes: p("10.4.0.0/16", "10.5.0.0/16")}},
		Ways:     []Way{{ID: FirstWay + 1, Groups: []Group{{Place: 1, Members: []Member{{"weir-1", 2}, {"weir-2", 1}}}}}},
		Routes:   []Route{{Prefix: p("10.2.0.0/16")[0], Way: FirstWay + 1}, {Table: 8400, Prefix: p("0.0.0.0/0")[0], Via: a("203.0.113.1"), Device: "wan0"}},
		Discards: []Discard{{Table: 8600, Prefix: p("10.2.0.0/16")[0]}},
		Rules:    []Rule{{Priority: 8600, Family: IPv4, Mark: PlaceUnit, Mask: PlaceMask, Arriving: []string{"wan0"}, From: p("10.1.0.0/16"), Table: 8600}},
		Forward6: true,
		Filter: Filter{
			Arrivals: []Arrival{{Port: 51820, From: a("198.51.100.1")}}, Kept: []Kept{{Interface: "weir-1", Prefixes: p("10.1.1.0/24")}}, Own: p("10.1.0.0/16"),
			Overlays: []Passing{{
				Overlay: "ops", Interfaces: []string{"weir-1"}, Relays: true, Back: []string{"weir-1"}, BackFrom: p("10.1.0.0/16"), Policed: true, Deny: true,
				Policy: []Entry{{Index: 1, Rule: 1, Permit: true, Family: IPv4, Leaving: true, From: p("10.1.0.0/16"), To: p("10.2.0.0/16"), Protocol: "tcp", Ports: []string{"80"}, Reply: true}},
			}},
		},
		Places:    []Place{{Mark: PlaceUnit, Interfaces: []string{"weir-1"}}},
		Maps:      []Map{{Inside: p("10.9.0.0/24")[0], Outside: p("10.8.0.0/24")[0]}},
		Breakouts: []Breakout{{Overlay: "ops", Family: IPv4, Devices: []string{"wan0"}, From: p("10.3.0.0/16"), Except: p("10.2.0.0/16")}},
		Shaping:   []Class{{Zone: "bulk", Here: p("10.1.2.0/24"), Beyond: p("10.2.2.0/24")}},
		Neighbours: Neighbours{
			Upstream: []netip.Addr{a("10.1.0.1")}, Routes: []LANRoute{{Index: 1, From: p("10.1.0.0/16")[0], Prefix: p("10.2.0.0/16")[0], Via: a("10.1.0.9")}},
			Without: []Unreached{{IPv6, 3}}, Forwards: []PortForward{{Link: "fibre", Outside: a("203.0.113.9"), Inside: a("192.168.0.2"), Ports: []int{51820}}}, Unknown: []string{"cell"},
		},
	}
}

// What cannot be applied is refused by name: one spoiled value at a time.
func TestCheckRefuses(t *testing.T) {
	if err := full().Check(); err != nil {
		t.Fatal(err)
	}
	for says, spoil := range map[string]func(c *Config){
		"the site":                   func(c *Config) { c.Site = "a b" },
		"no plain word":              func(c *Config) { c.Tunnels[0].Overlay = "x;y" },
		"can be called":              func(c *Config) { c.Tunnels[0].Interface = "sixteen-bytes-16" },
		"weir-1 is there twice":      func(c *Config) { c.Tunnels[1].Interface = "weir-1" },
		"next hop 84000001":          func(c *Config) { c.Tunnels[1].NextHop-- },
		"an MTU is 67":               func(c *Config) { c.Tunnels[0].MTU = 67 },
		"an MTU is 65536":            func(c *Config) { c.Tunnels[0].MTU = 65536 },
		"of WireGuard or of IPsec":   func(c *Config) { c.Tunnels[0].IPsec = c.Tunnels[1].IPsec },
		"a port is 65536":            func(c *Config) { c.Tunnels[0].WireGuard.Port = 65536 },
		"a list is 2":                func(c *Config) { c.Tunnels[0].WireGuard.List = 2 },
		"an allowed prefix":          func(c *Config) { c.Tunnels[0].WireGuard.Allowed[0] = netip.MustParsePrefix("10.2.0.1/16") },
		"no plain address":           func(c *Config) { c.Routes[1].Via = netip.MustParseAddr("fe80::1%lo") },
		"which is not there":         func(c *Config) { c.Routes[0].Way++ },
		"by a way or by":             func(c *Config) { c.Routes[0].Via = c.Routes[1].Via },
		"device and no next hop":     func(c *Config) { c.Routes[0].Device = "wan0" },
		"is no tunnel here":          func(c *Config) { c.Ways[0].Groups[0].Members[0].Interface = "tarn-9" },
		"a weight is 0":              func(c *Config) { c.Ways[0].Groups[0].Members[0].Weight = 0 },
		"a weight is 256":            func(c *Config) { c.Ways[0].Groups[0].Members[0].Weight = 256 },
		"is empty or out":            func(c *Config) { c.Ways[0].Groups[0].Members = nil },
		"has no group":               func(c *Config) { c.Ways[0].Groups = nil },
		"a way's number":             func(c *Config) { c.Ways[0].ID = FirstWay - 1; c.Routes[0].Way = FirstWay - 1 },
		"outside its mask":           func(c *Config) { c.Rules[0].Mask = 1 },
		"asks no table, or two":      func(c *Config) { c.Rules[0].NoLonger = true },
		"no address family":          func(c *Config) { c.Rules[0].Family = "ip" },
		"no port or range":           func(c *Config) { c.Filter.Overlays[0].Policy[0].Ports[0] = "80-79" },
		"protocol is":                func(c *Config) { c.Filter.Overlays[0].Policy[0].Protocol = "gre" },
		"ports without tcp":          func(c *Config) { c.Filter.Overlays[0].Policy[0].Protocol = "icmp" },
		"the mark of a place":        func(c *Config) { c.Places[0].Mark = 1 },
		"not equally large":          func(c *Config) { c.Maps[0].Outside = netip.MustParsePrefix("10.8.0.0/25") },
		"a probe's target":           func(c *Config) { c.Tunnels[0].Probe.Target = "moon" },
		"open to no address":         func(c *Config) { c.Filter.Arrivals[0].From = netip.Addr{} },
		"256":                        func(c *Config) { c.Links = make([]Link, 257) },
		"10.2.0.0/16 is there twice": func(c *Config) { c.Routes[1] = c.Routes[0] },
	} {
		c := full()
		spoil(c)
		if err := c.Check(); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", says, err)
		}
	}
	for _, text := range []string{"", "{}", "null", `{"wideknot-gateway:gateway": null}`, `{"wideknot-gateway:gateway": {"site": "a", "sight": 1}}`, `{"wideknot-gateway:gateway": {"site": "a"}} {}`,
		`{"wideknot-gateway:gateway": {"site": "a"}, "wideknot-gateway:state": {"site": "a"}}`, strings.Repeat(" ", MaxDocument+1)} {
		if c, err := Parse([]byte(text)); err == nil {
			t.Errorf("%.80q is taken: %+v", text, c)
		}
	}
}

// What leads from one configuration to another names each thing once, adds before
// it takes away, and takes nothing away that something left still needs.
func TestDifferenceIsInASafeOrder(t *testing.T) {
	for seed := range uint64(30) {
		e := sample.Mixed(seed)
		before := mapOf(e)
		e.Allocations = before.Plan.Allocations()
		edited := e.Clone()
		edited.Sites[0].Links = edited.Sites[0].Links[:1]
		edited.Sites[len(edited.Sites)-1].Subnets = edited.Sites[len(edited.Sites)-1].Subnets[:1]
		after := mapOf(edited)
		for i := range e.Sites {
			was, is := Of(before, i), Of(after, i)
			for _, pair := range [][2]*Config{{was, is}, {is, was}, {nil, is}, {was, nil}} {
				checkOrder(t, pair[0], pair[1])
			}
		}
	}
}

func checkOrder(t *testing.T, was, is *Config) {
	t.Helper()
	rank := map[Kind]int{OfDiscard: 0, OfLink: 1, OfList: 2, OfTunnel: 3, OfFilter: 4, OfWay: 5, OfRoute: 6, OfRule: 7}
	last := -1
	seen := map[string]bool{}
	for _, o := range Difference(was, is) {
		at := rank[o.Kind]
		if o.Act == Remove {
			at = 20 - at
		}
		if at < last {
			t.Fatalf("%s comes too late", o.Words)
		}
		last = at
		if o.Kind != OfFilter && seen[o.Words] {
			t.Errorf("%s: twice", o.Words)
		}
		seen[o.Words] = true
		from := is
		if o.Act == Remove {
			from = was
		}
		if n := lengthOf(from, o.Kind); o.Kind != OfFilter && (o.Index < 0 || o.Index >= n) {
			t.Errorf("%s: place %d of %d", o.Words, o.Index, n)
		}
	}
}

func lengthOf(c *Config, k Kind) int {
	if c == nil {
		return 0
	}
	return map[Kind]int{OfDiscard: len(c.Discards), OfLink: len(c.Links), OfList: len(c.Lists), OfTunnel: len(c.Tunnels), OfWay: len(c.Ways), OfRoute: len(c.Routes), OfRule: len(c.Rules)}[k]
}

func TestDifferenceInWords(t *testing.T) {
	was, is := full(), full()
	is.Tunnels[0].MTU, is.Tunnels[0].WireGuard.Endpoint = 1400, ""
	is.Ways = []Way{{ID: FirstWay + 2, Groups: []Group{{1, []Member{{"weir-2", 1}}}, {2, []Member{{"weir-1", 1}}}}}}
	is.Routes[0].Way = FirstWay + 2
	is.Discards = nil
	var got []string
	for _, o := range Difference(was, is) {
		got = append(got, o.Words)
	}
	want := []string{
		"tunnel weir-1 to weir/fibre changes: MTU 1420 → 1400, endpoint 198.51.100.1:51820 → none",
		"way by weir-2, then weir-1 is new",
		"route to 10.2.0.0/16 moves from weir-1 + weir-2 to weir-2, then weir-1",
		"way by weir-1 + weir-2 goes",
		"discard for 10.2.0.0/16 in table 8600 goes",
	}
	if !slices.Equal(got, want) {
		t.Errorf("%s", strings.Join(got, "\n"))
	}
}

func fullState() *State {
	const at = Time("2026-11-30T12:00:00Z")
	return &State{
		Site: "tarn", At: at, Release: 3, Digest: "ab12", Line: LineState{Up: true, Since: at, Server: "one"}, Clock: ClockState{Synchronised: true, OffsetMs: -20},
		Links: []LinkState{{Link: "fibre", Addresses: []netip.Addr{netip.MustParseAddr("203.0.113.2")}, NextHopUp: true, NamesUp: true, SeenOutside: netip.MustParseAddr("203.0.113.2"), PathMTU: 1492}},
		Tunnels: []TunnelState{{
			Interface: "weir-1", Up: true, Since: at, HandshakeS: 12, BytesIn: 1 << 63, BytesOut: 7, Endpoint: netip.MustParseAddrPort("198.51.100.1:51820"), Sent: 10, Answered: 9,
			LatencyUs: 1500, JitterUs: 20, LossOutPPM: 1000, LossBackPPM: 5, PathMTU: 1420,
		}},
		Ways: []WayState{{FirstWay, 1}}, Rules: []RuleState{{Overlay: "ops", Rule: 1, Packets: 3, Bytes: 300}},
	}
}

func TestStateIsReadBack(t *testing.T) {
	text, err := WriteState(fullState())
	if err != nil {
		t.Fatal(err)
	}
	again, err := ParseState(text)
	if err != nil || !reflect.DeepEqual(again, fullState()) {
		t.Errorf("%v\n%+v\n%s", err, again, text)
	}
	for _, change := range [][2]string{{`"weir-1"`, `"weir 1"`}, {`"9223372036854775808"`, `9223372036854775808`}, {`"9223372036854775808"`, `"18446744073709551616"`}, {`"9223372036854775808"`, `"-1"`}, {`"9223372036854775808"`, `"07"`},
		{`"2026-11-30T12:00:00Z"`, `"2026-11-30 12:00:00Z"`}, {`"2026-11-30T12:00:00Z"`, `"2026-11-30T12:00:00"`}, {`"2026-11-30T12:00:00Z"`, `"2026-11-30T12:00:00.Z"`}, {`"2026-11-30T12:00:00Z"`, `"2026-11-30T12:00:00+1:00"`},
		{`"loss-out": 1000`, `"loss-out": 1000001`}, {`"fibre"`, `""`}, {`"release": 3`, `"release": -3`}, {`"up": true`, `"up": "yes"`}, {`"path-mtu": 1420`, `"path-mtu": 70000`}} {
		spoiled := strings.Replace(string(text), change[0], change[1], 1)
		if spoiled == string(text) {
			t.Fatalf("nothing to spoil: %s", change[0])
		}
		if _, err := ParseState([]byte(spoiled)); err == nil {
			t.Errorf("%s is taken", change[1])
		}
	}
}

func TestMoments(t *testing.T) {
	for text, want := range map[Time]bool{
		"": true, "2026-11-30T12:00:00Z": true, "2026-11-30T12:00:00.123456789+01:00": true, "2026-11-30T12:00:00-11:30": true,
		"2026-11-30T12:00:00": false, "2026-11-3XT12:00:00Z": false, "2026-11-30T12:00:00.5": false, "2026-11-30T12:00:00z": false, "2026-11-30T12:00:00+01:0x": false, "2026-11-30T12:00:00Z ": false,
	} {
		if text.valid() != want {
			t.Errorf("%q: %v", text, !want)
		}
	}
}

func FuzzParse(f *testing.F) {
	text, err := Write(full())
	if err != nil {
		f.Fatal(err)
	}
	f.Add(text)
	f.Add([]byte(`{"wideknot-gateway:gateway":{"site":"a"}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		c, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Write(c)
		if err != nil {
			t.Fatal(err)
		}
		back, err := Parse(again)
		if err != nil {
			t.Fatalf("%v\n%s", err, again)
		}
		if third, _ := Write(back); !bytes.Equal(again, third) || c.Digest() != back.Digest() {
			t.Errorf("written again it is another:\n%s\n%s", again, third)
		}
	})
}

func FuzzParseState(f *testing.F) {
	text, err := WriteState(fullState())
	if err != nil {
		f.Fatal(err)
	}
	f.Add(text)
	f.Fuzz(func(t *testing.T, text []byte) {
		s, err := ParseState(text)
		if err != nil {
			return
		}
		again, err := WriteState(s)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := ParseState(again); err != nil {
			t.Errorf("%v\n%s", err, again)
		}
	})
}

// Nothing that could not be applied passes in any field: no prefix with host bits, no
// address with a zone, no text that is no word, no number below the range.
func TestCheckSeesEveryField(t *testing.T) {
	c := full()
	tried := 0
	var each func(v reflect.Value, path string)
	refused := func(path string, v reflect.Value, spoil func()) {
		t.Helper()
		was := reflect.New(v.Type()).Elem()
		was.Set(v)
		spoil()
		if err := c.Check(); err == nil {
			t.Errorf("%s: %v is taken", path, v.Interface())
		}
		v.Set(was)
		tried++
	}
	each = func(v reflect.Value, path string) {
		switch at := v.Addr().Interface().(type) {
		case *netip.Addr:
			refused(path, v, func() { *at = netip.MustParseAddr("fe80::1%x") })
			return
		case *netip.Prefix:
			if !strings.HasSuffix(path, ".Addresses[0]") { // which has host bits
				refused(path, v, func() { *at = netip.MustParsePrefix("10.255.0.1/8") })
			}
			return
		}
		switch v.Kind() {
		case reflect.Struct:
			for i := range v.NumField() {
				each(v.Field(i), path+"."+v.Type().Field(i).Name)
			}
		case reflect.Pointer:
			if !v.IsNil() {
				each(v.Elem(), path)
			}
		case reflect.Slice:
			for i := range v.Len() {
				each(v.Index(i), fmt.Sprintf("%s[%d]", path, i))
			}
		case reflect.String:
			refused(path, v, func() { v.SetString("a b") })
		case reflect.Int:
			if path != ".Neighbours.Without[0].Count" && !strings.HasSuffix(path, ".Index") {
				refused(path, v, func() { v.SetInt(-1) })
			}
		}
	}
	each(reflect.ValueOf(c).Elem(), "")
	if tried < 80 {
		t.Errorf("only %d fields were tried", tried)
	}
	for name, spoil := range map[string]func(c *Config){
		"no misses":    func(c *Config) { c.Tunnels[0].Probe.Misses = 0 },
		"no successes": func(c *Config) { c.Tunnels[0].Probe.Successes = 0 },
		"no interval":  func(c *Config) { c.Tunnels[0].Probe.Interval = 0 },
		"no timeout":   func(c *Config) { c.Tunnels[0].Probe.Timeout = 0 },
		"no lifetime":  func(c *Config) { c.Tunnels[1].IPsec.IKELifetime = 0 },
		"no rank":      func(c *Config) { c.Tunnels[0].Rank = 0 },
	} {
		c := full()
		spoil(c)
		if c.Check() == nil {
			t.Error(name)
		}
	}
	for name, least := range map[string]func(c *Config){
		"one of each": func(c *Config) { *c.Tunnels[0].Probe = Probe{"far-lan", netip.Addr{}, 1, 1, 1, 1} },
		"no peer yet": func(c *Config) {
			w := c.Tunnels[0].WireGuard
			w.PublicKey, w.Endpoint, w.Allowed, w.List = "", "", nil, 0
		},
		"no mark": func(c *Config) { c.Rules[0].Mark, c.Rules[0].Mask = 0, 0 },
		"the top": func(c *Config) { c.Tunnels[0].WireGuard.Port, c.Tunnels[0].MTU = 65535, 65535 },
	} {
		c := full()
		least(c)
		if err := c.Check(); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// What is probed, what the LAN's router is asked for and how a link is left are as the
// plan has them.
func TestWhatIsProbedAndAsked(t *testing.T) {
	probed, beside, forwards := 0, 0, 0
	eachSite(t, 40, func(where string, m *route.Map, site int, c *Config) {
		s := m.Plan.Site(site)
		for i, peer := range m.Plan.Peers(site) {
			spec, one := peer.Overlay.Spec.Probe, c.Tunnels[i].Probe
			if (spec == nil) != (one == nil) {
				t.Errorf("%s, %s: probed %v", where, peer.Interface, one)
			}
			if spec == nil || one == nil {
				continue
			}
			probed++
			want := m.Plan.Site(peer.Remote.Site).Gateway.LANAddress
			if spec.Full().Target == estate.FarEnd {
				if want = peer.Remote.Address4.Addr(); !peer.Remote.Address4.IsValid() {
					want = peer.Remote.Address6.Addr()
				}
			}
			if one.Address != want || one.Interval != spec.Full().IntervalMs || one.Misses != spec.Full().Misses {
				t.Errorf("%s, %s: %+v, not %v", where, peer.Interface, *one, want)
			}
		}
		var asked, unreached, remote []netip.Prefix
		for _, r := range c.Neighbours.Routes {
			if r.Via != s.Gateway.LANAddressOf(r.Prefix.Addr().Is4()) {
				t.Errorf("%s: %v by %v", where, r.Prefix, r.Via)
			}
			if !r.From.IsValid() {
				asked = append(asked, r.Prefix)
			}
		}
		for _, r := range m.Table(site) {
			switch {
			case r.Kind != route.Overlay && r.Kind != route.Cut:
			case s.Gateway.LANAddressOf(r.Prefix.Addr().Is4()).IsValid():
				remote = append(remote, r.Prefix)
			default:
				unreached = append(unreached, r.Prefix)
			}
		}
		if s.Gateway.Placement != estate.OneArmed {
			remote, unreached = nil, nil
		} else {
			beside++
		}
		count := 0
		for _, w := range c.Neighbours.Without {
			count += w.Count
		}
		if !slices.Equal(addr.Aggregate(asked), addr.Aggregate(remote)) || count != len(addr.Aggregate(unreached)) {
			t.Errorf("%s: the router is asked for %v, %d without an address; planned %v, %v", where, asked, count, remote, unreached)
		}
		for _, f := range c.Neighbours.Forwards {
			forwards++
			l := s.Link(f.Link)
			var ports []int
			for _, p := range m.Plan.Peers(site) {
				if m.Plan.Link(p.Local) == l {
					ports = append(ports, p.Local.UDP)
				}
			}
			slices.Sort(ports)
			if l.Reach != estate.Forwarded || f.Outside != l.Outside || f.Inside != l.Addresses[0] || !slices.Equal(ports, f.Ports) {
				t.Errorf("%s: %+v of %+v, ports %v", where, f, *l, ports)
			}
		}
	})
	if probed == 0 || beside == 0 || forwards == 0 {
		t.Errorf("%d probed, %d beside a router, %d forwarded", probed, beside, forwards)
	}
}
