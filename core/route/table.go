package route

import (
	"cmp"
	"math"
	"net/netip"
	"slices"

	"wideknot/core/addr"
	"wideknot/core/tunnel"
)

// Kind says what a route does.
type Kind string

// The kinds of route.
const (
	Connected Kind = "connected" // a subnet of the site itself
	Overlay   Kind = "overlay"   // through tunnels
	Cut       Kind = "cut"       // shared in an overlay of the site, but there is no path
)

// DiscardMetric is the worst metric there is. Every overlay destination has a
// discard route with it, so that nothing meant for the overlay leaves by the
// internet when all its tunnels are down.
const DiscardMetric = math.MaxUint32

// A Route is a site's decision for one prefix. Hops are in order: the first
// carries the traffic, each other stands by for those before it. Routes of
// kind Overlay and Cut have a discard route besides.
type Route struct {
	Prefix  netip.Prefix
	Kind    Kind
	To      int // the site that has the prefix (of several, the nearest)
	Overlay string
	Hops    []Hop
}

// A Hop is one way to a prefix: a tunnel to a neighbour.
type Hop struct {
	End       tunnel.End // the tunnel, seen from the site
	Via       int        // the neighbour at its far end
	To        int        // the site reached
	Interface string
	Metric    int // for the site's routing table; lower is better
	Cost      int // of the whole path
	Steps     int // tunnels on the whole path
	Why       Rule
	// Why is what set the hop before this one apart from it; for the first hop
	// it is what set it apart from the second, empty when there is none.
	weight weight
}

// A Map knows the least paths of a plan.
type Map struct {
	Plan   *tunnel.Plan
	graphs []*graph
}

// Build prepares the paths of a plan. It is immutable afterwards.
func Build(p *tunnel.Plan) *Map {
	m := &Map{Plan: p, graphs: make([]*graph, len(p.Overlays))}
	for i := range p.Overlays {
		m.graphs[i] = newGraph(p, &p.Overlays[i])
	}
	return m
}

// Path lists the sites from one to another in an overlay, both included, as
// hop-by-hop forwarding walks it; nil when there is no path.
func (m *Map) Path(overlay, from, to int) []int {
	g := m.graphs[overlay]
	toSite, ok := g.fromHubs(to)
	path := []int{from}
	for at := from; at != to; at = path[len(path)-1] {
		ways := g.ways(at, to, toSite, ok)
		if len(ways) == 0 || len(path) > len(g.hubs)+2 {
			return nil
		}
		path = append(path, ways[0].step.to)
	}
	return path
}

// Table returns the routes of a site in address order.
func (m *Map) Table(site int) []Route {
	p := m.Plan
	routes := map[netip.Prefix]*Route{}
	own := p.Site(site)
	for i := range own.Subnets {
		prefix := own.Subnets[i].Prefix
		routes[prefix] = &Route{Prefix: prefix, Kind: Connected, To: site}
	}
	for i, g := range m.graphs {
		if !g.overlay.Has(site) {
			continue
		}
		mine := own.Shared(g.overlay.Spec.Key)
		for _, to := range g.overlay.Members {
			if to == site {
				continue
			}
			shared := p.Site(to).Shared(g.overlay.Spec.Key)
			if len(shared) == 0 {
				continue
			}
			hops := m.hops(i, site, to)
			for _, prefix := range shared {
				if slices.ContainsFunc(mine, func(o netip.Prefix) bool { return addr.Covers(o, prefix) }) {
					continue // it could never arrive: the site's own subnet is nearer
				}
				r := routes[prefix]
				if r == nil {
					r = &Route{Prefix: prefix, Kind: Cut, To: to, Overlay: g.overlay.Spec.Key}
					routes[prefix] = r
				}
				if r.Kind != Connected && len(hops) > 0 {
					r.Kind = Overlay
					r.Hops = append(r.Hops, hops...)
				}
			}
		}
	}
	return m.sorted(routes)
}

// sorted puts the hops of each route, then the routes, in order.
func (m *Map) sorted(routes map[netip.Prefix]*Route) []Route {
	out := make([]Route, 0, len(routes))
	for _, r := range routes {
		m.order(r)
		out = append(out, *r)
	}
	slices.SortFunc(out, func(a, b Route) int { return addr.Compare(a.Prefix, b.Prefix) })
	return out
}

// hops lists the ways from a site to another with all tunnels of each.
func (m *Map) hops(overlay, site, to int) []Hop {
	g := m.graphs[overlay]
	toSite, ok := g.fromHubs(to)
	return m.tunnelsOf(overlay, site, to, g.ways(site, to, toSite, ok))
}

func (m *Map) tunnelsOf(overlay, site, to int, ways []way) []Hop {
	g := m.graphs[overlay]
	var out []Hop
	for _, w := range ways {
		a := &g.overlay.Adjacencies[w.step.adjacency]
		for rank := range a.Tunnels {
			end := tunnel.End{Overlay: overlay, Adjacency: w.step.adjacency, Tunnel: rank, AtA: a.A == site}
			local, remote := m.Plan.Sides(end)
			out = append(out, Hop{
				End: end, Via: w.step.to, To: to, Interface: m.Plan.Interface(local, remote),
				Cost: int(w.weight.cost), Steps: int(w.weight.hops), weight: w.weight,
			})
		}
	}
	return out
}

// A HubTable is what a hub does with packets that come from other hubs of an
// overlay: it hands them straight to the site they are for or, while its own
// tunnels there are down, to a hub that is farther from the site than itself.
// So hubs stand by for each other, and no packet ever circles between them.
type HubTable struct {
	Overlay    int
	Interfaces []string // the hub's tunnels to other hubs
	Routes     []Route
}

// FromHubs returns the hub tables of a site; none where it is no hub, or where
// hubs must pass traffic on because not every two of them are joined.
func (m *Map) FromHubs(site int) []HubTable {
	p := m.Plan
	var out []HubTable
	for i, g := range m.graphs {
		if !g.joined || !g.overlay.IsHub(site) {
			continue
		}
		table := HubTable{Overlay: i}
		for _, e := range p.Ends(site) {
			local, remote := p.Sides(e)
			if e.Overlay == i && g.overlay.IsHub(remote.Site) {
				table.Interfaces = append(table.Interfaces, p.Interface(local, remote))
			}
		}
		key := g.overlay.Spec.Key
		mine := p.Site(site).Shared(key)
		routes := map[netip.Prefix]*Route{}
		for _, to := range g.overlay.Members {
			if to == site {
				continue
			}
			hops := m.tunnelsOf(i, site, to, g.onward(site, to))
			for _, prefix := range p.Site(to).Shared(key) {
				if slices.ContainsFunc(mine, func(o netip.Prefix) bool { return addr.Covers(o, prefix) }) {
					continue
				}
				r := routes[prefix]
				if r == nil {
					r = &Route{Prefix: prefix, Kind: Cut, To: to, Overlay: key}
					routes[prefix] = r
				}
				if len(hops) > 0 {
					r.Kind = Overlay
					r.Hops = append(r.Hops, hops...)
				}
			}
		}
		table.Routes = m.sorted(routes)
		out = append(out, table)
	}
	return out
}

// order sorts a route's hops, gives them metrics and says why each stands
// where it does. Metrics leave room: a new neighbour starts at the next
// hundred, its further tunnels follow in tens.
func (m *Map) order(r *Route) {
	if len(r.Hops) == 0 {
		return
	}
	key := func(i int) string { return m.Plan.Site(i).Key }
	slices.SortStableFunc(r.Hops, func(a, b Hop) int {
		return cmp.Or(a.weight.compare(b.weight), cmp.Compare(key(a.To), key(b.To)), cmp.Compare(a.End.Overlay, b.End.Overlay), cmp.Compare(a.End.Tunnel, b.End.Tunnel))
	})
	metric := 0
	for i := range r.Hops {
		h := &r.Hops[i]
		if i > 0 && sameNeighbour(h, &r.Hops[i-1]) {
			metric += 10
			h.Why = TunnelRank
		} else {
			metric = (metric/100 + 1) * 100
			if i > 0 {
				h.Why = r.Hops[i-1].weight.rule(h.weight)
			}
		}
		h.Metric = metric
	}
	if len(r.Hops) > 1 {
		r.Hops[0].Why = r.Hops[1].Why
	}
	r.To = r.Hops[0].To
	r.Overlay = m.Plan.Overlays[r.Hops[0].End.Overlay].Spec.Key
}

func sameNeighbour(a, b *Hop) bool {
	return a.Via == b.Via && a.To == b.To && a.End.Overlay == b.End.Overlay
}
