package outage

import (
	"cmp"
	"net/netip"
	"slices"

	"wideknot/core/route"
)

// the tables that gateways are given, and asks a derivation of what is left
// whether there is a path at all.
type plain struct {
	m      *route.Map
	dead   func(site, link int) bool
	tables map[arrival]map[netip.Prefix]*route.Route
}

// An arrival is where a packet comes in: a site, and an interface unless it
// starts there.
type arrival struct {
	site int
	came string
}

// A crossing is the tunnels, by place, of which a flow takes one to cross an
// adjacency.
type crossing struct {
	overlay, adjacency int
	tunnels            uint64
}

// lookup finds the route to a prefix in the table a packet meets: the main one
// where it starts, else that for the interface it came by.
func (p *plain) lookup(site int, came string, to netip.Prefix) *route.Route {
	id := arrival{site, came}
	if p.tables[id] == nil {
		table := p.m.Table(site)
		for _, x := range p.m.Extras(site) {
			if came != "" && slices.Contains(x.Arriving, came) {
				table = x.Routes
			}
		}
		p.tables[id] = map[netip.Prefix]*route.Route{}
		for i := range table {
			p.tables[id][table[i].Prefix] = &table[i]
		}
	}
	return p.tables[id][to]
}

// walk returns the tunnels on the way, and whether the packet arrives.
func (p *plain) walk(from, to int, prefix netip.Prefix) (way []crossing, ok bool) {
	if p.gone(from) || p.gone(to) {
		return nil, false
	}
	at, came, before := from, "", -1
	for range 10 {
		r := p.lookup(at, came, prefix)
		if r == nil {
			return way, false
		}
		next, metric := -1, 0
		for _, h := range p.steered(r, at, before) {
			_, _, t := p.m.Plan.At(h.End)
			if p.dead(t.A.Site, t.A.Link) || p.dead(t.B.Site, t.B.Link) {
				continue
			}
			if next >= 0 && h.Metric != metric {
				break
			}
			if next >= 0 { // hops of one metric carry it together
				way[len(way)-1].tunnels |= 1 << h.End.Tunnel
				continue
			}
			_, remote := p.m.Plan.Sides(h.End)
			way = append(way, crossing{h.End.Overlay, h.End.Adjacency, 1 << h.End.Tunnel})
			next, metric, came = h.Via, h.Metric, remote.Interface
		}
		if next < 0 {
			return way, false
		}
		before = at
		if at = next; at == to {
			return way, true
		}
	}
	return way, false
}

// steered puts the hops first that lead to the neighbour at which, of all living paths
// with at most two hubs, the least begins.
func (p *plain) steered(r *route.Route, at, before int) []route.Hop {
	overlay, to, ok := p.m.Steered(r)
	if !ok || before >= 0 && p.hub(overlay, before) && p.hub(overlay, at) {
		return r.Hops
	}
	for _, c := range p.m.Candidates(overlay, at, to) {
		sites := append(append([]int{at}, c.Via...), to)
		hubs := 0
		living := true
		for i, site := range sites {
			if p.hub(overlay, site) {
				hubs++
			}
			living = living && (i == 0 || p.joined(overlay, sites[i-1], site))
		}
		if hubs > 2 && len(c.Via) > 1 || !living {
			continue
		}
		out := slices.Clone(r.Hops)
		slices.SortStableFunc(out, func(a, b route.Hop) int { return cmp.Compare(boolInt(a.Via != sites[1]), boolInt(b.Via != sites[1])) })
		return out
	}
	return r.Hops
}

func (p *plain) hub(overlay, site int) bool {
	return slices.Contains(p.m.Plan.Overlays[overlay].Spec.Hubs, p.m.Plan.Site(site).Key)
}

// joined reports whether a tunnel between two sites lives.
func (p *plain) joined(overlay, x, y int) bool {
	for _, a := range p.m.Plan.Overlays[overlay].Adjacencies {
		if a.A != min(x, y) && a.A != max(x, y) || a.B != min(x, y) && a.B != max(x, y) {
			continue
		}
		for _, t := range a.Tunnels {
			if !p.dead(t.A.Site, t.A.Link) && !p.dead(t.B.Site, t.B.Link) {
				return true
			}
		}
	}
	return false
}

func (p *plain) gone(site int) bool {
	for j := range p.m.Plan.Site(site).Links {
		if !p.dead(site, j) {
			return false
		}
	}
	return true
}

// random makes a small estate of any shape: hubs with own and common links,
