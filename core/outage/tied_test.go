package outage

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// rings is an estate of four hubs, each pair of them joined by circuits of its own, half of whose
// spokes prefer the first two and half the last two. Without what joins the first and the third,
// two ways are as good as each other: by the first and the fourth, and by the second and the third.
func rings() *estate.Estate {
	e := &estate.Estate{Format: estate.Format, About: estate.About{Name: "rings", Regions: []estate.Region{{Key: "fen"}}}}
	o := estate.Overlay{Key: "ops", Shape: estate.Custom, Transport: estate.WireGuard, Pairing: estate.Every, HubsTell: true, Transit: []netip.Prefix{netip.MustParsePrefix("100.64.0.0/16")}, Numbering: estate.PerTunnel}
	const hubs, spokes = 4, 16
	site := func(i int, key string) *estate.Site {
		e.Sites = append(e.Sites, estate.Site{
			Key: key, Region: "fen", Gateway: estate.Gateway{Switches: true},
			Subnets: []estate.Subnet{{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(i), 0, 0}), 24), Share: []string{"ops"}}},
		})
		return &e.Sites[i]
	}
	circuit := func(s *estate.Site, underlay string) {
		n := len(s.Links)
		s.Links = append(s.Links, estate.Link{
			Key: underlay, Underlay: underlay, Rank: n + 1, Reach: estate.Static, DownMbps: 100,
			Addresses: []netip.Addr{netip.AddrFrom4([4]byte{198, 18, s.Subnets[0].Prefix.Addr().As4()[1], byte(n + 1)})},
		})
	}
	for i := range hubs {
		s := site(i, fmt.Sprintf("h%d", i))
		circuit(s, s.Key)
		for j := range hubs {
			if i != j {
				circuit(s, fmt.Sprintf("h%d-h%d", min(i, j), max(i, j)))
			}
		}
		o.Hubs = append(o.Hubs, s.Key)
	}
	for i := range spokes {
		s := site(hubs+i, fmt.Sprintf("s%02d", i))
		prefers := []string{"h0", "h1"}
		if i >= spokes/2 {
			prefers = []string{"h2", "h3"}
		}
		for _, hub := range prefers {
			circuit(s, hub)
		}
		o.Spokes = append(o.Spokes, estate.Spoke{Site: s.Key, Hubs: prefers})
	}
	e.Overlays = []estate.Overlay{o}
	return e
}

// Where two ways are as good as each other a pair goes by its own order, which its tables have.
func TestTiedWays(t *testing.T) {
	e := rings()
	if problems := estate.Validate(e); len(problems) > 0 {
		t.Fatal(problems)
	}
	routes := route.Build(tunnel.Derive(e))
	if why := routes.Untold(0); why != "" {
		t.Fatal(why)
	}
	m := New(routes)
	part := Part{Kind: Link, Name: "h0/h0-h2"}
	f, err := m.failing([]Part{part})
	if err != nil {
		t.Fatal(err)
	}
	dead := func(site, link int) bool { return slices.Contains(f.links, m.links[site]+link) }
	after := &plain{routes, dead, map[arrival]map[netip.Prefix]*route.Route{}}
	b := m.bench()
	b.fail(&f)
	b.touch(&f)
	firsts := map[int]int{}
	for i := range e.Sites {
		for j := range e.Sites {
			if i == j {
				continue
			}
			var w way
			m.walk(&b.state, &m.lanesOf(i, j)[0], i, j, &w)
			var got []crossing
			for _, l := range w.legs[:w.n] {
				got = append(got, crossing{int(l.overlay), int(l.adjacency), 1})
			}
			want, ok := after.walk(i, j, e.Sites[j].Subnets[0].Prefix)
			if ok != w.ok || !slices.Equal(got, want) {
				t.Errorf("from %s to %s: %v %v, by their tables %v %v", e.Sites[i].Key, e.Sites[j].Key, w.ok, got, ok, want)
			}
			if w.tied {
				firsts[want[0].adjacency]++
			}
		}
	}
	if len(firsts) < 24 { // of the two of each of 16 spokes
		t.Errorf("ties are decided for %d first steps only", len(firsts))
	}
}
