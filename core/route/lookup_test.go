package route_test

import (
	"fmt"
	"net/netip"
	"testing"

	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// What a packet meets is worked out for its address alone; the tables that
// gateways get, asked in the order of their rules, must say the same.
func TestLookupsAreThoseOfTheTables(t *testing.T) {
	asked := 0
	for seed := range uint64(24) {
		m := route.Build(tunnel.Derive(sample.Mixed(seed)))
		e := m.Plan.Estate
		addresses := map[netip.Addr]bool{netip.MustParseAddr("192.0.2.77"): true, netip.MustParseAddr("198.51.100.7"): true, netip.MustParseAddr("2001:db8:ffff::77"): true}
		for i := range e.Sites {
			for _, n := range e.Sites[i].Subnets {
				addresses[n.Taking().Addr().Next()], addresses[n.Prefix.Addr().Next()] = true, true
			}
		}
		for site := range e.Sites {
			for _, in := range m.Arrivals(site) {
				extras, table := m.Extras(site), m.Table(site)
				for to := range addresses {
					got, known := m.Decide(site, in, to)
					want, there := byTables(extras, table, in, m.Inside(site, in, to))
					asked++
					if known != there || known && text(&got) != text(&want) {
						t.Fatalf("seed %d, at %s, %s, to %s:\n%v %s\ntables: %v %s", seed, e.Sites[site].Key, in, to, known, text(&got), there, text(&want))
					}
				}
			}
		}
	}
	if asked < 10_000 {
		t.Errorf("only %d lookups", asked)
	}
}

func text(r *route.Route) string {
	out := fmt.Sprint(r.Prefix, r.Kind)
	for _, h := range r.Hops {
		out += fmt.Sprint(" ", h.Interface, h.Metric, h.Weight)
	}
	return out
}

// byTables asks the tables of a site one after the other.
func byTables(extras []route.Extra, table []route.Route, in route.Inward, to netip.Addr) (best route.Route, known bool) {
	find := func(routes []route.Route, wanted func(*route.Route) bool) bool {
		for i := range routes {
			r := &routes[i]
			if wanted(r) && r.Prefix.Contains(to) && (!known || r.Prefix.Bits() > best.Prefix.Bits() || r.Prefix == best.Prefix && r.Kind == route.Connected) {
				best, known = *r, true
			}
		}
		return known
	}
	all := func(*route.Route) bool { return true }
	for _, last := range []bool{false, true} {
		for i := range extras {
			x := &extras[i]
			if x.Last == last && x.Place == 0 && in.Meets(x) && find(x.Routes, all) {
				return best, true
			}
		}
		if !last && find(table, func(r *route.Route) bool { return r.Kind != route.Breakout }) {
			return best, true
		}
	}
	return best, known
}

// Without pins an answer takes the tunnels of the way there, whatever overlays at
// equal costs there are to choose from.
func TestAnswersComeBackTheSameWay(t *testing.T) {
	followed := 0
	for seed := range uint64(150) {
		e := sample.Mixed(seed)
		pinned := false
		for i := range e.Overlays {
			pinned = pinned || len(e.Overlays[i].Pins) > 0
		}
		if pinned {
			continue
		}
		m := route.Build(tunnel.Derive(e))
		for a := range e.Sites {
			for b := range e.Sites {
				if a == b { // what a site asks of its own mapped addresses it answers itself
					continue
				}
				for _, from := range e.Sites[a].Subnets {
					for _, to := range e.Sites[b].Subnets {
						got := m.Follow(route.Packet{From: from.Prefix.Addr().Next(), To: to.Taking().Addr().Next()})
						if got.Forward.End == route.Delivered && got.Arrives() {
							if followed++; !got.Symmetric {
								t.Fatalf("seed %d: %s to %s and back take different tunnels", seed, from.Prefix, to.Prefix)
							}
						}
					}
				}
			}
		}
	}
	if followed < 2000 {
		t.Errorf("only %d packets arrived", followed)
	}
}
