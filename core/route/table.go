package route

import (
	"cmp"
	"math"
	"net/netip"
	"slices"

	"wideknot/core/addr"

	"wideknot/core/estate"

	"wideknot/core/tunnel"
)

// Kind says what a route does.
type Kind string

// The kinds of route.
const (
	Connected Kind = "connected" // a subnet of the site itself
	Overlay   Kind = "overlay"   // through tunnels
	Cut       Kind = "cut"       // shared in an overlay of the site, but there is no path
	Breakout  Kind = "breakout"  // everything else, through the tunnels to a hub
	Pin       Kind = "pin"       // a tunnel's own endpoint, kept outside the tunnels
	Local     Kind = "local"     // excepted from the breakout: leaves by the site's own link
)

// DiscardMetric is the worst metric there is. Every overlay destination has a
// discard route with it, so that nothing meant for the overlay leaves by the
// internet when all its tunnels are down.
const DiscardMetric = math.MaxUint32

// A Route is a site's decision for one prefix. Hops are in order: the first
// carries the traffic, together with those of its metric, among which each flow
// takes one by their weights; each other stands by for those before it. Hops are
// shared between routes and must not be changed. Routes of kind Overlay, Cut
// and Breakout have a discard route besides; those of kind Pin and Local leave
// by Link. Those of kind Breakout stand in tables of their own (see Extras).
type Route struct {
	Prefix  netip.Prefix
	Kind    Kind
	To      int // the site that has the prefix (of several, the nearest)
	Overlay string
	Hops    []Hop
	From    []netip.Prefix // of kind Breakout: only packets that start there
	Link    *estate.Link
	NextHop netip.Addr
}

// Discards reports whether a discard route stands behind the route.
func (r *Route) Discards() bool { return r.Kind == Overlay || r.Kind == Cut || r.Kind == Breakout }

// A Hop is one way to a prefix: a tunnel to a neighbour.
type Hop struct {
	End       tunnel.End // the tunnel, seen from the site
	Via       int        // the neighbour at its far end
	Interface string
	Metric    int // for the site's routing table; lower is better
	Weight    int // its part among hops of the same metric; 0 where there is but one
	Cost      int // of the whole path
	Steps     int // tunnels on the whole path
	// Why is what set the hop before this one apart from it; for the first hop
	// it is what set it apart from the second, empty when there is none.
	Why Rule

	// To is the site reached, where a route knows several; -1 stands for the
	// route's own.
	To int

	weight weight
	pinned bool
	lead   int // of the tunnel, in its adjacency
}

// together reports whether two hops share the load of their sites.
func (h *Hop) together(o *Hop) bool {
	return h.End.Overlay == o.End.Overlay && h.End.Adjacency == o.End.Adjacency && h.To == o.To && h.lead == o.lead
}

// A Map knows the least paths of a plan.
type Map struct {
	Plan   *tunnel.Plan
	graphs []*graph
	shared []holdings // by overlay, as the overlay sees them
	local  holdings   // all subnets, as their hosts have them
}

// Build prepares the paths of a plan. It is immutable afterwards.
func Build(p *tunnel.Plan) *Map {
	m := &Map{Plan: p, graphs: make([]*graph, len(p.Overlays)), shared: make([]holdings, len(p.Overlays))}
	for i := range p.Overlays {
		o := &p.Overlays[i]
		m.graphs[i] = newGraph(p, o)
		var list []holding
		for _, site := range o.Members {
			list = append(list, sharedOf(p, o, site)...)
		}
		m.shared[i] = newHoldings(list)
	}
	for i := range m.graphs {
		g := m.graphs[i]
		g.told = m.Untold(i) == ""
		g.straight = g.joined || g.told
	}
	var list []holding
	for i := range p.Estate.Sites {
		list = append(list, localOf(p, i)...)
	}
	m.local = newHoldings(list)
	return m
}

func sharedOf(p *tunnel.Plan, o *tunnel.Overlay, site int) (out []holding) {
	subnets := p.Site(site).Subnets
	for j := range subnets {
		if subnets[j].SharedInto(o.Spec.Key) {
			out = append(out, holding{prefix: subnets[j].Taking(), site: site, subnet: j})
		}
	}
	return out
}

func localOf(p *tunnel.Plan, site int) (out []holding) {
	for j := range p.Site(site).Subnets {
		out = append(out, holding{prefix: p.Site(site).Subnets[j].Prefix, site: site, subnet: j})
	}
	return out
}

// Narrow returns the same map as if nothing but the given prefixes were
// shared, to ask what became of those few.
func (m *Map) Narrow(prefixes map[netip.Prefix]bool) *Map {
	out := *m
	out.shared = make([]holdings, len(m.shared))
	for i, h := range m.shared {
		var list []holding
		for _, one := range h.list {
			if prefixes[one.prefix] {
				list = append(list, one)
			}
		}
		out.shared[i] = sortedHoldings(list)
	}
	return &out
}

// Path lists the sites from one to another in an overlay, both included, as
// hop-by-hop forwarding walks it; nil when there is no path. Pins count where
// they hold for every prefix.
func (m *Map) Path(overlay, from, to int) []int {
	g := m.graphs[overlay]
	r := g.newReach()
	r.measure(g, to)
	path := []int{from}
	fromHub := false
	for at := from; at != to; at = path[len(path)-1] {
		var ways []trail
		if fromHub && g.straight {
			ways = g.onward(nil, at, to)
		} else {
			ways = g.ways(nil, at, to, r)
			if via := m.pinned(overlay, at, netip.Prefix{}); via >= 0 {
				slices.SortStableFunc(ways, func(a, b trail) int { return cmp.Compare(boolInt(a.step.to != via), boolInt(b.step.to != via)) })
			}
		}
		if len(ways) == 0 || len(path) > len(g.hubs)+2 {
			return nil
		}
		fromHub = g.overlay.IsHub(at) && g.overlay.IsHub(ways[0].step.to)
		path = append(path, ways[0].step.to)
	}
	return path
}

// Via lists the hubs between two sites, by key; none where they are joined, or
// where no path is.
func (m *Map) Via(overlay, from, to int) (hubs []string) {
	path := m.Path(overlay, from, to)
	for at := 1; at < len(path)-1; at++ {
		hubs = append(hubs, m.Plan.Site(path[at]).Key)
	}
	return hubs
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

// pinned returns the neighbour to which the engineer pinned a site's traffic
// for a prefix in an overlay, or -1. The longest prefix that holds wins; the
// zero prefix asks for pins that hold for everything.
func (m *Map) pinned(overlay, site int, prefix netip.Prefix) int {
	via, bits := -1, -1
	for _, pin := range m.graphs[overlay].overlay.Spec.Pins {
		if m.Plan.SiteIndex(pin.Site) != site {
			continue
		}
		if !pin.Prefix.IsValid() && bits < 0 {
			via, bits = m.Plan.SiteIndex(pin.Via), 0
		} else if pin.Prefix.IsValid() && prefix.IsValid() && addr.Covers(pin.Prefix, prefix) && pin.Prefix.Bits() > bits {
			via, bits = m.Plan.SiteIndex(pin.Via), pin.Prefix.Bits()
		}
	}
	return via
}

// Table returns the routes of a site in address order, for packets that start
// there and may use every overlay of the site.
func (m *Map) Table(site int) []Route { return m.tables(site).main() }

// Tables returns the routes of a site, as Table does, and the tables it needs besides,
// as Extras does.
func (m *Map) Tables(site int) (main []Route, extras []Extra) { return m.TablesIn(nil, site) }

// TablesIn returns the same, in a room where there is one: the routes are there until it is
// used again.
func (m *Map) TablesIn(room *Room, site int) (main []Route, extras []Extra) {
	t := m.tables(site)
	if t.room = room; room != nil {
		room.used = 0
	}
	return t.main(), t.extras()
}

// A Room is memory for the routes of one site.
type Room struct {
	routes []Route
	used   int
}

// take returns an empty list with room for so many routes.
func (r *Room) take(size int) []Route {
	if r == nil {
		return make([]Route, 0, size)
	}
	if len(r.routes)-r.used < size { // who has something in the old has it still
		r.routes, r.used = make([]Route, max(size, 2*len(r.routes))), 0
	}
	out := r.routes[r.used : r.used : r.used+size]
	r.used += size
	return out
}

func (m *tables) main() []Route {
	routes := m.routes(m.overlaysOf(m.site), nil)
	var others []Route
	own := m.Plan.Site(m.site)
	for i := range own.Subnets {
		others = append(others, Route{Prefix: own.Subnets[i].Prefix, Kind: Connected, To: m.site})
	}
	others = append(others, m.around(m.site)...)
	for _, x := range m.breakouts(m.site) {
		others = append(others, x.Routes...)
	}
	slices.SortStableFunc(others, byPrefix)
	return inserted(routes, others)
}

func byPrefix(a, b Route) int { return netip.Prefix.Compare(a.Prefix, b.Prefix) }

// inserted puts routes among others, both in address order: those stand first whose
// prefix is the same.
func inserted(routes, more []Route) []Route {
	last, next := len(routes)-1, len(more)-1
	routes = append(routes, more...)
	for to := len(routes) - 1; next >= 0; to-- {
		if last >= 0 && byPrefix(routes[last], more[next]) > 0 {
			routes[to] = routes[last]
			last--
		} else {
			routes[to] = more[next]
			next--
		}
	}
	return routes
}

// overlaysOf lists the overlays of which a site is a member.
func (m *Map) overlaysOf(site int) []int {
	var out []int
	for i, g := range m.graphs {
		if g.overlay.Has(site) {
			out = append(out, i)
		}
	}
	return out
}

// routes lists a site's routes to what is shared in the given overlays, by the
// paths of those overlays, in address order. What is shared only in closed
// ones is cut.
func (m *tables) routes(open, closed []int) []Route {
	site := m.site
	size := len(m.Plan.Site(site).Subnets) // what the main table has besides
	for _, i := range open {
		size += len(m.shared[i].list)
	}
	out := m.room.take(size)
	for _, i := range open {
		out = m.routesOf(out, i)
	}
	for _, i := range closed {
		own := m.Plan.Site(site).Shared(m.graphs[i].overlay.Spec.Key)
		for _, h := range m.shared[i].list {
			if h.site != site && !h.within(own) {
				out = append(out, Route{Prefix: h.prefix, Kind: Cut, To: h.site, Overlay: m.graphs[i].overlay.Spec.Key})
			}
		}
	}
	if len(open)+len(closed) > 1 {
		slices.SortStableFunc(out, byPrefix)
	}
	return m.merge(out, func(overlay, to int) []trail { return m.waysFrom(overlay, site, to) })
}

// waysFrom lists the first steps from a site to another in an overlay.
func (m *Map) waysFrom(overlay, site, to int) []trail {
	r := m.graphs[overlay].newReach()
	r.measure(m.graphs[overlay], to)
	return m.graphs[overlay].ways(nil, site, to, r)
}

// covered reports whether some prefixes hold another one.
func covered(own []netip.Prefix, prefix netip.Prefix) bool {
	for _, o := range own {
		if addr.Covers(o, prefix) {
			return true
		}
	}
	return false
}

func (m *tables) routesOf(out []Route, overlay int) []Route {
	g, site := m.graphs[overlay], m.site
	c := m.chainer(overlay)
	own := m.Plan.Site(site).Shared(g.overlay.Spec.Key)
	pins := len(g.overlay.Spec.Pins) > 0
	list := m.shared[overlay].list
	for i := range list {
		h := &list[i]
		if h.site == site || h.within(own) {
			continue
		}
		via := -1
		if pins {
			via = m.pinned(overlay, site, h.prefix)
		}
		r := Route{Prefix: h.prefix, Kind: Overlay, To: h.site, Overlay: g.overlay.Spec.Key, Hops: c.chain(h.site, via)}
		if len(r.Hops) == 0 {
			r.Kind = Cut
		}
		out = append(out, r)
	}
	return out
}

// merge joins neighbouring routes for one prefix, which several sites hold or
// several overlays reach, into one with all their hops. Hops are shared among
// destinations at equal costs; what else sets two overlays apart is asked of
// ways, for this destination.
func (m *Map) merge(routes []Route, ways func(overlay, to int) []trail) []Route {
	twice := func(i int) bool { return routes[i].Prefix == routes[i-1].Prefix }
	first := 1
	for first < len(routes) && !twice(first) {
		first++
	}
	if first >= len(routes) {
		return routes
	}
	out := routes[:first-1]
	for i := first - 1; i < len(routes); {
		j := i + 1
		for j < len(routes) && twice(j) {
			j++
		}
		if j == i+1 {
			out = append(out, routes[i])
			i = j
			continue
		}
		r := routes[i]
		r.Hops = nil
		for _, one := range routes[i:j] {
			var steps []trail
			if len(one.Hops) > 0 {
				steps = ways(one.Hops[0].End.Overlay, one.To)
			}
			for _, h := range one.Hops {
				h.To = one.To
				if at := slices.IndexFunc(steps, func(w trail) bool { return w.step.to == h.Via }); at >= 0 {
					h.weight = steps[at].weight
				}
				r.Hops = append(r.Hops, h)
			}
			if one.Kind != Cut {
				r.Kind = one.Kind
			}
		}
		if len(r.Hops) > 0 {
			m.order(r.Hops)
			first := r.Hops[0]
			r.To, r.Overlay = first.To, m.graphs[first.End.Overlay].overlay.Spec.Key
		}
		out = append(out, r)
		i = j
	}
	return out
}

// order sorts hops, gives them metrics and says why each stands where it does.
// Metrics leave room: a new neighbour starts at the next hundred, its further
// tunnels follow in tens.
func (m *Map) order(hops []Hop) {
	byKey := func(a, b int) int {
		if a == b {
			return 0
		}
		return cmp.Compare(m.Plan.Site(a).Key, m.Plan.Site(b).Key)
	}
	slices.SortStableFunc(hops, func(a, b Hop) int {
		return cmp.Or(cmp.Compare(boolInt(!a.pinned), boolInt(!b.pinned)), a.weight.compare(b.weight), byKey(a.To, b.To),
			cmp.Compare(a.End.Overlay, b.End.Overlay), cmp.Compare(a.End.Tunnel, b.End.Tunnel))
	})
	number(hops)
}

// Sharing counts the first of some hops that carry traffic together: 1 where the
// first does alone.
func Sharing(hops []Hop) int {
	n := min(1, len(hops))
	for n < len(hops) && hops[n].together(&hops[0]) {
		n++
	}
	return n
}

// number gives sorted hops their metrics and reasons.
func number(hops []Hop) {
	metric := 0
	for i := range hops {
		h := &hops[i]
		switch {
		case i > 0 && h.together(&hops[i-1]):
			h.Why = LoadSharing
		case i > 0 && h.Via == hops[i-1].Via && h.To == hops[i-1].To && h.End.Overlay == hops[i-1].End.Overlay:
			metric += 10
			h.Why = TunnelRank
		case i > 0 && hops[i-1].pinned && !h.pinned:
			metric, h.Why = (metric/100+1)*100, Pinned
		case i > 0:
			metric, h.Why = (metric/100+1)*100, hops[i-1].weight.rule(h.weight)
		default:
			metric, h.Why = 100, ""
		}
		h.Metric = metric
	}
	if len(hops) > 1 {
		hops[0].Why = hops[1].Why
	}
}
