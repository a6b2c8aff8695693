package route

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/tunnel"
)

// network makes an estate in which every site has one static link, or the
// links given, and shares 10.0.N.0/24, N being its place.
func network(t testing.TB, overlay estate.Overlay, links map[string][]estate.Link, sites ...string) *Map {
	t.Helper()
	e := &estate.Estate{Format: estate.Format, About: estate.About{Name: "network"}, Overlays: []estate.Overlay{overlay}}
	for i, key := range sites {
		site := estate.Site{Key: key, Name: key, Gateway: estate.Gateway{Switches: true}, Links: links[key], Subnets: []estate.Subnet{
			{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 0, byte(i), 0}), 24), Share: []string{overlay.Key}},
		}}
		if site.Links == nil {
			site.Links = []estate.Link{{Key: "wan", Reach: estate.Static, Addresses: []netip.Addr{netip.AddrFrom4([4]byte{203, 0, 113, byte(i + 1)})}}}
		}
		e.Sites = append(e.Sites, site)
	}
	if problems := estate.Validate(e); len(problems) > 0 {
		t.Fatal(problems)
	}
	return Build(tunnel.Derive(e))
}

func overlay(hubs string, spokes ...string) estate.Overlay {
	o := estate.Overlay{Key: "ops", Shape: estate.HubAndSpoke, Transit: []netip.Prefix{netip.MustParsePrefix("100.96.0.0/16")}, Hubs: strings.Fields(hubs)}
	for _, s := range spokes {
		words := strings.Fields(s)
		o.Spokes = append(o.Spokes, estate.Spoke{Site: words[0], Hubs: words[1:]})
	}
	return o
}

func (m *Map) path(from, to string) string {
	var keys []string
	for _, site := range m.Plan.Estate.Sites {
		keys = append(keys, site.Key)
	}
	var out []string
	for _, site := range m.Path(0, slices.Index(keys, from), slices.Index(keys, to)) {
		out = append(out, keys[site])
	}
	return strings.Join(out, " ")
}

var callsOut = []estate.Link{{Key: "cell", Reach: estate.NAT}}

func TestPaths(t *testing.T) {
	custom := overlay("h1 h2", "s", "u")
	custom.Shape, custom.Direct = estate.Custom, [][]string{{"s", "u"}}
	mesh := estate.Overlay{Key: "ops", Shape: estate.FullMesh, Hubs: []string{"h1"}, Spokes: []estate.Spoke{{Site: "s"}, {Site: "u"}}}
	for _, c := range []struct {
		name    string
		overlay estate.Overlay
		links   map[string][]estate.Link
		want    string
	}{
		{"by the first hub of both", overlay("h1 h2", "s", "u"), nil, "s h1 u"},
		{"first hubs differ: over both hubs", overlay("h1 h2", "s", "u h2 h1"), nil, "s h1 h2 u"},
		{"hubs far from each other: by the hub that is second for one", func() estate.Overlay {
			o := overlay("h1 h2", "s", "u h2 h1")
			o.Costs = &estate.Costs{HubHub: 500}
			return o
		}(), nil, "s h1 u"},
		{"a spoke with one hub only", overlay("h1 h2", "s h2", "u h1"), nil, "s h2 h1 u"},
		{"a direct pair is cheaper", custom, nil, "s u"},
		{"a direct pair that cannot be joined goes by the hub", custom, map[string][]estate.Link{"s": callsOut, "u": callsOut}, "s h1 u"},
		{"in a mesh a hub carries what cannot be joined", mesh, map[string][]estate.Link{"s": callsOut, "u": callsOut}, "s h1 u"},
		{"no hub in common and hubs apart", func() estate.Overlay { o := overlay("h1 h2", "s h1", "u h2"); o.HubLinks = new(bool); return o }(), nil, ""},
	} {
		m := network(t, c.overlay, c.links, "h1", "h2", "s", "u")
		if got := m.path("s", "u"); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
		back := strings.Fields(c.want)
		slices.Reverse(back)
		if got := m.path("u", "s"); got != strings.Join(back, " ") {
			t.Errorf("%s: the return is %q, not the reverse of %q", c.name, got, c.want)
		}
	}
}

func describe(m *Map, r Route) string {
	var hops []string
	for _, h := range r.Hops {
		hops = append(hops, fmt.Sprintf("%s %d %s", m.Plan.Site(h.Via).Key, h.Metric, h.Why))
	}
	return fmt.Sprintf("%s %s: %s", r.Prefix, r.Kind, strings.Join(hops, ", "))
}

func TestTable(t *testing.T) {
	two := []estate.Link{
		{Key: "fibre", Reach: estate.Static, Addresses: []netip.Addr{netip.MustParseAddr("203.0.113.99")}, Rank: 1},
		{Key: "cell", Reach: estate.NAT, Rank: 2},
	}
	m := network(t, overlay("h1 h2", "s", "u"), map[string][]estate.Link{"s": two}, "h1", "h2", "s", "u")
	for _, c := range []struct {
		site int
		want []string
	}{
		{2, []string{
			"10.0.0.0/24 overlay: h1 100 tunnel rank, h1 110 tunnel rank, h2 200 path cost, h2 210 tunnel rank",
			"10.0.1.0/24 overlay: h1 100 tunnel rank, h1 110 tunnel rank, h2 200 path cost, h2 210 tunnel rank",
			"10.0.2.0/24 connected: ",
			"10.0.3.0/24 overlay: h1 100 tunnel rank, h1 110 tunnel rank, h2 200 path cost, h2 210 tunnel rank",
		}},
		{0, []string{
			"10.0.0.0/24 connected: ",
			"10.0.1.0/24 overlay: h2 100 ",
			"10.0.2.0/24 overlay: s 100 tunnel rank, s 110 tunnel rank, h2 200 path cost",
			"10.0.3.0/24 overlay: u 100 path cost, h2 200 path cost",
		}},
	} {
		var got []string
		for _, r := range m.Table(c.site) {
			got = append(got, describe(m, r))
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s:\n%s\nwant\n%s", m.Plan.Site(c.site).Key, strings.Join(got, "\n"), strings.Join(c.want, "\n"))
		}
	}
}

func TestSamePrefixAtTwoSites(t *testing.T) {
	m := network(t, overlay("h1 h2", "s h2 h1", "near h2 h1", "far h1 h2"), nil, "h1", "h2", "s", "near", "far")
	e := m.Plan.Estate.Clone()
	anycast := netip.MustParsePrefix("10.9.9.0/24")
	for _, i := range []int{3, 4} {
		e.Sites[i].Subnets[0].Prefix = anycast
	}
	m = Build(tunnel.Derive(e))
	for _, r := range m.Table(2) {
		if r.Prefix == anycast {
			if got := m.Plan.Site(r.To).Key; got != "near" {
				t.Errorf("the prefix is reached at %s, want the nearer site", got)
			}
			if !slices.ContainsFunc(r.Hops, func(h Hop) bool { return h.To >= 0 && m.Plan.Site(h.To).Key == "far" }) {
				t.Error("the other site does not stand by")
			}
		}
	}
	for _, r := range m.Table(4) {
		if r.Prefix == anycast && r.Kind != Connected {
			t.Error("a site looks for its own prefix elsewhere")
		}
	}
}

func TestNoPathIsCut(t *testing.T) {
	m := network(t, overlay("h1", "s"), map[string][]estate.Link{"h1": callsOut, "s": callsOut}, "h1", "s")
	if r := m.Table(1)[0]; r.Kind != Cut || len(r.Hops) != 0 || m.Plan.Site(r.To).Key != "h1" {
		t.Errorf("%+v", r)
	}
}

// TestReturnIsForwardReversed walks random estates hop by hop, both ways
// between every two sites, by the paths and by the routing tables.
func TestReturnIsForwardReversed(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	for round := range 60 {
		m := randomNetwork(t, r)
		n := len(m.Plan.Estate.Sites)
		tables := make([][]Route, n)
		for i := range tables {
			tables[i] = m.Table(i)
		}
		for a := range n {
			for b := range a {
				forward, back := m.Path(0, a, b), m.Path(0, b, a)
				slices.Reverse(back)
				if !slices.Equal(forward, back) {
					t.Fatalf("round %d: %d to %d goes %v, and back %v", round, a, b, forward, back)
				}
				there, here := walk(t, m, tables, a, b), walk(t, m, tables, b, a)
				slices.Reverse(here)
				if !slices.Equal(there, here) {
					t.Fatalf("round %d: the tunnels from %d to %d are %v, and back %v", round, a, b, there, here)
				}
				if (forward == nil) != (there == nil) {
					t.Fatalf("round %d: path %v, but tunnels %v", round, forward, there)
				}
			}
		}
	}
}

// TestHubTablesNeverCircle follows, in every failure of any set of tunnels at
// random, the first hop of each table that is left, and checks that packets
// arrive or are discarded, and never circle.
func TestHubTablesNeverCircle(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 14))
	for range 40 {
		m := randomNetwork(t, r)
		if !m.graphs[0].joined {
			continue
		}
		sites := len(m.Plan.Estate.Sites)
		main, fromHubs := make([][]Route, sites), make([][]Route, sites)
		for i := range sites {
			main[i] = m.Table(i)
			if tables := m.Extras(i); len(tables) > 0 {
				fromHubs[i] = tables[0].Routes
			}
		}
		for range 20 {
			down := map[string]bool{}
			for i := range sites {
				for _, p := range m.Plan.Peers(i) {
					if r.IntN(3) == 0 {
						down[m.Plan.Ident(p.Tunnel)] = true
					}
				}
			}
			from, to := r.IntN(sites), r.IntN(sites)
			if from == to {
				continue
			}
			prefix := m.Plan.Site(to).Subnets[0].Prefix
			at, table := from, main
			for steps := 0; at != to; steps++ {
				if steps > 6 {
					t.Fatalf("a packet from %d to %d circles with %v down", from, to, down)
				}
				i := slices.IndexFunc(table[at], func(r Route) bool { return r.Prefix == prefix })
				hops := table[at][i].Hops
				j := slices.IndexFunc(hops, func(h Hop) bool { _, _, tun := m.Plan.At(h.End); return !down[m.Plan.Ident(tun)] })
				if j < 0 {
					break // discarded
				}
				o := &m.Plan.Overlays[0]
				table = main
				if o.IsHub(at) && o.IsHub(hops[j].Via) {
					table = fromHubs
				}
				at = hops[j].Via
			}
		}
	}
}

// walk follows the routing tables from a site to another and returns the
// tunnels it takes.
func walk(t *testing.T, m *Map, tables [][]Route, from, to int) []string {
	t.Helper()
	prefix := m.Plan.Site(to).Subnets[0].Prefix
	var tunnels []string
	for at := from; at != to; {
		i := slices.IndexFunc(tables[at], func(r Route) bool { return r.Prefix == prefix })
		r := tables[at][i]
		if r.Kind == Cut {
			return nil
		}
		for j := 1; j < len(r.Hops); j++ {
			if r.Hops[j].Metric <= r.Hops[j-1].Metric {
				t.Fatalf("metrics do not rise: %s", describe(m, r))
			}
		}
		_, _, tun := m.Plan.At(r.Hops[0].End)
		tunnels = append(tunnels, m.Plan.Ident(tun))
		if at = r.Hops[0].Via; len(tunnels) > len(m.Plan.Estate.Sites) {
			t.Fatalf("packets from %d to %d go round and round: %v", from, to, tunnels)
		}
	}
	return tunnels
}

func randomNetwork(t *testing.T, r *rand.Rand) *Map {
	hubs := []string{"h1", "h2", "h3"}[:1+r.IntN(3)]
	o := overlay(strings.Join(hubs, " "))
	if r.IntN(4) == 0 {
		o.HubLinks = new(bool)
	}
	sites := slices.Clone(hubs)
	links := map[string][]estate.Link{}
	for i := range 2 + r.IntN(8) {
		key := fmt.Sprintf("s%d", i)
		own := slices.Clone(hubs)
		r.Shuffle(len(own), func(i, j int) { own[i], own[j] = own[j], own[i] })
		o.Spokes = append(o.Spokes, estate.Spoke{Site: key, Hubs: own[:1+r.IntN(len(own))]})
		sites = append(sites, key)
		if r.IntN(3) > 0 {
			links[key] = callsOut
		}
	}
	switch r.IntN(3) {
	case 0:
		o.Shape = estate.Custom
		for range 3 {
			a, b := r.IntN(len(o.Spokes)), r.IntN(len(o.Spokes))
			if a != b {
				o.Direct = append(o.Direct, []string{o.Spokes[a].Site, o.Spokes[b].Site})
			}
		}
	case 1:
		o.Shape = estate.FullMesh
	}
	return network(t, o, links, sites...)
}

// What breaks out goes by all tunnels to the first hub in the order of their ranks,
// then by those to the next.
func TestExitsAreInTheOrderOfHubs(t *testing.T) {
	o := overlay("h1 h2", "s")
	o.Breakout = &estate.Breakout{Hubs: []string{"h2", "h1"}, Sites: []string{"s"}}
	two := func(last byte) []estate.Link {
		return []estate.Link{
			{Key: "a", Reach: estate.Static, Addresses: []netip.Addr{netip.AddrFrom4([4]byte{198, 51, 100, last})}, Device: "wan0", NextHop: []netip.Addr{netip.MustParseAddr("198.51.100.254")}},
			{Key: "b", Reach: estate.Static, Rank: 2, Addresses: []netip.Addr{netip.AddrFrom4([4]byte{203, 0, 113, 100 + last})}, Device: "wan1", NextHop: []netip.Addr{netip.MustParseAddr("203.0.113.254")}},
		}
	}
	m := network(t, o, map[string][]estate.Link{"s": two(9), "h1": two(1), "h2": two(2)}, "h1", "h2", "s")
	var got []string
	for _, x := range m.Extras(m.Plan.SiteIndex("s")) {
		if x.Last {
			for _, h := range x.Routes[0].Hops {
				got = append(got, fmt.Sprintf("%s %d %s", m.Plan.Site(h.Via).Key, h.Metric, h.Why))
			}
		}
	}
	want := []string{}
	for i, hub := range []string{"h2", "h1"} {
		for rank := range 4 {
			why := TunnelRank
			if rank == 0 {
				why = HubOrder
			}
			want = append(want, fmt.Sprintf("%s %d %s", hub, 100*(i+1)+10*rank, why))
		}
	}
	if !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
}
