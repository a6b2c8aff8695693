// Package outage works out on paper what a failure does: which pairs of sites
// stay as they are, move to another tunnel, no longer fit, or are cut.
package outage

import (
	"math/bits"
	"slices"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// A Model is an estate prepared for being asked about failures. It is immutable
// after New and safe to share.
//
// Gateways choose among the tunnels of their routing tables by what they see
// of their own tunnels; unless hubs tell, nobody tells them of failures elsewhere. So a packet is
// walked hop by hop, and each site on its way takes the first tunnel of its
// table that is alive; where nothing switches, the first, dead or alive.
type Model struct {
	Map  *route.Map
	Plan *tunnel.Plan

	links    []int   // site → number of its first link
	sites    []int   // link number → site
	overlays [][]int // site → overlays into which it shares
	sharing  [][]int // overlay → sites that share into it
	nets     []net
	special  map[ask][]route.Way // what no class gives
	odd      []bool              // sites of such pairs

	switching []bool // by site: it takes dead tunnels out of use by itself
	mirrored  bool   // no pin, and ends that choose alike: every way back is the way there reversed
	narrowed  bool   // some link lets only some zones through
	limited   bool   // some overlay has limits

	zones    []string
	siteZone []uint64 // zones the site shares
	linkZone []uint64 // zones a link lets through
	profiles profiles
	policies []*route.Policy           // by overlay; nil where everything may pass
	sides    []map[route.Member]string // by overlay, where it has a policy; see route.Policy.Sides
	demand   []float64
	weight   []float64 // 1 by the sum of the demands of a site's partners
	capacity []float64 // by link, Mbit/s; 0 is unknown
	through  []float64 // by site, of its gateway

	kinds    kinds
	base     loads
	stranded map[uint64]bool // pairs cut although nothing fails
}

// net is an overlay as failures see it. Sites at equal costs from the same hubs
// form a class and have equal ways.
type net struct {
	overlay *tunnel.Overlay
	place   []int32 // site → its place among the hubs, -1 for others
	hubs    []int
	toHub   []int32 // site and place (see joins) → adjacency, -1 for none
	class   []int32 // site → class; hubs have one each
	classes int
	ways    [][]int32  // class and class → places of hubs in order; nil: not known by class
	onward  [][]int32  // place of hub and class → places, here for the site itself
	told    bool       // hubs tell which adjacencies live
	paths   [][]path   // class and class → paths in order, where hubs tell
	ends    [][2]int32 // the links at both ends of each tunnel, by number
	start   []int32    // adjacency → its first tunnel in ends
	limits  *estate.Limits
	beyond  []bool // by tunnel as in ends: the plan's own figures are beyond the limits
}

// An ask is for the way from one site to another by some overlays.
type ask struct {
	from, to int
	overlays uint64 // one bit each
}

// overlaysBits and overlaysIn turn lists of overlays into bits and back.
func overlaysBits(list []int) (bits uint64) {
	for _, o := range list {
		bits |= 1 << o
	}
	return bits
}

func overlaysIn(set uint64) (list []int) {
	for ; set != 0; set &= set - 1 {
		list = append(list, bits.TrailingZeros64(set))
	}
	return list
}

// here stands for the goal itself in a list of places.
const here = -1

func pairKey(i, j int) uint64 { return uint64(i)<<32 | uint64(uint32(j)) }

// New prepares a model of a plan's routes.
func New(m *route.Map) *Model {
	p := m.Plan
	sites := p.Estate.Sites
	o := &Model{Map: m, Plan: p, links: make([]int, len(sites)+1), overlays: make([][]int, len(sites)), sharing: make([][]int, len(p.Overlays)), special: map[ask][]route.Way{}, odd: make([]bool, len(sites)), stranded: map[uint64]bool{}}
	for i := range sites {
		o.links[i+1] = o.links[i] + len(sites[i].Links)
		for j := range sites[i].Links {
			l := &sites[i].Links[j]
			o.sites = append(o.sites, i)
			// A demand is one figure, that of its busier direction; lines with
			// unlike directions are bought for that one.
			o.capacity = append(o.capacity, max(l.DownMbps, l.UpMbps))
		}
		o.through = append(o.through, sites[i].Gateway.ThroughputMbps)
		o.switching = append(o.switching, sites[i].Gateway.SwitchesItself())
		o.demand = append(o.demand, sites[i].DemandMbps)
	}
	for i := range p.Overlays {
		o.limited = o.limited || p.Overlays[i].Spec.Limits() != nil
	}
	o.zone()
	o.sortSubnets()
	o.mirrored = true
	for i := range p.Overlays {
		o.mirrored = o.mirrored && len(p.Overlays[i].Spec.Pins) == 0
		for _, site := range p.Overlays[i].Members {
			if len(p.Site(site).Shared(p.Overlays[i].Spec.Key)) > 0 {
				o.sharing[i] = append(o.sharing[i], site)
				o.overlays[site] = append(o.overlays[site], i)
			}
		}
		slices.Sort(o.sharing[i])
	}
	o.nets = make([]net, len(p.Overlays))
	for i := range o.nets {
		o.nets[i] = o.net(i)
	}
	o.mirrored = o.mirrored && o.alike()
	for a := range o.special {
		o.special[a] = m.Ways(overlaysIn(a.overlays), a.from, a.to)
		o.odd[a.from], o.odd[a.to] = true, true
	}
	o.weigh()
	o.kinds = o.sortSites()
	o.settle()
	return o
}

// alike reports whether the two ends of each adjacency choose the same tunnels while
// nothing fails. They do not where a tunnel is dead by design, for want of a port, say,
// and only one of them takes it out of use.
func (m *Model) alike() bool {
	none := m.newState()
	for i := range none.first {
		if slices.ContainsFunc(none.first[i], func(c choices) bool { return c[0] != c[1] }) {
			return false
		}
	}
	return true
}

// zone numbers the zones, of which a word holds 64; further ones share the
// last number. Subnets without a zone make one of their own, so that a link
// for some zones keeps them out, as the bundles do.
func (m *Model) zone() {
	m.zones = append(m.Plan.Estate.Zones(), "")
	bit := func(zone string) uint64 { return 1 << min(slices.Index(m.zones, zone), 63) }
	for i := range m.Plan.Estate.Sites {
		site := m.Plan.Site(i)
		var held uint64
		for j := range site.Subnets {
			if n := &site.Subnets[j]; len(n.Share) > 0 {
				held |= bit(n.Zone)
			}
		}
		m.siteZone = append(m.siteZone, held)
		for j := range site.Links {
			passes := ^uint64(0)
			if only := site.Links[j].Zones; len(only) > 0 {
				passes, m.narrowed = 0, true
				for _, z := range only {
					if slices.Contains(m.zones, z) {
						passes |= bit(z)
					}
				}
			}
			m.linkZone = append(m.linkZone, passes)
		}
	}
}

// net groups an overlay's sites into classes and asks for the ways of each pair
// of classes once, by one site of each.
func (m *Model) net(i int) net {
	p := m.Plan
	o := &p.Overlays[i]
	n := net{overlay: o, limits: o.Spec.Limits(), place: make([]int32, len(p.Estate.Sites)), hubs: o.Hubs, toHub: make([]int32, len(p.Estate.Sites)*len(o.Hubs)), class: make([]int32, len(p.Estate.Sites))}
	for i := range n.place {
		n.place[i] = -1
	}
	for at, h := range o.Hubs {
		n.place[h] = int32(at)
	}
	for i := range n.toHub {
		n.toHub[i] = -1
	}
	direct := n.adjoin(m)
	first, second := n.classify(p)
	m.ways(i, &n, first, second)
	if n.told = m.Map.Told(i); n.told {
		m.paths(i, &n, first, second)
	}
	m.except(i, direct)
	return n
}

// adjoin notes the links of all tunnels and who is joined to which hub, and
// returns the neighbours of sites that are no hubs, by site.
func (n *net) adjoin(m *Model) (direct map[int][]int) {
	o := n.overlay
	direct = map[int][]int{}
	for j := range o.Adjacencies {
		a := &o.Adjacencies[j]
		n.start = append(n.start, int32(len(n.ends)))
		for k := range a.Tunnels {
			t := &a.Tunnels[k]
			n.ends = append(n.ends, [2]int32{int32(m.links[t.A.Site] + t.A.Link), int32(m.links[t.B.Site] + t.B.Link)})
			if n.limits != nil {
				n.beyond = append(n.beyond, len(n.limits.Exceeded(m.Plan.Quality(t))) > 0)
			}
		}
		if len(a.Tunnels) == 0 {
			continue
		}
		for _, ends := range [2][2]int{{a.A, a.B}, {a.B, a.A}} {
			if at := n.place[ends[1]]; at >= 0 {
				*n.joins(ends[0], at) = int32(j)
			} else if n.place[ends[0]] < 0 {
				direct[ends[0]] = append(direct[ends[0]], ends[1])
			}
		}
	}
	return direct
}

// classify puts the members into classes, and returns two sites of each, or the
// same one twice where there is but one.
func (n *net) classify(p *tunnel.Plan) (first, second []int) {
	o := n.overlay
	pinned := map[string]bool{}
	for _, pin := range o.Spec.Pins {
		pinned[pin.Site] = pinned[pin.Site] || !pin.Prefix.IsValid()
	}
	numbers := map[string]int32{}
	for _, site := range o.Members {
		id := make([]byte, 0, 32)
		for at := range n.hubs {
			cost := int32(-1)
			if a := *n.joins(site, int32(at)); a >= 0 {
				cost = int32(o.Adjacencies[a].Cost)
			}
			id = append(id, byte(cost), byte(cost>>8), byte(cost>>16), byte(cost>>24))
		}
		if n.place[site] >= 0 || pinned[p.Site(site).Key] {
			id = append(id, p.Site(site).Key...)
		}
		c, ok := numbers[string(id)]
		if !ok {
			c = int32(len(first))
			numbers[string(id)] = c
			first = append(first, site)
		}
		n.class[site] = c
	}
	second = slices.Clone(first)
	for _, site := range o.Members {
		if c := n.class[site]; second[c] == first[c] {
			second[c] = site
		}
	}
	n.classes = len(first)
	return first, second
}

// ways notes the ways between classes, and those from hubs on.
func (m *Model) ways(i int, n *net, first, second []int) {
	n.ways, n.onward = make([][]int32, len(first)*len(first)), make([][]int32, len(n.hubs)*len(first))
	for x := range first {
		for y := range first {
			to := first[y]
			if x == y {
				to = second[y]
			}
			if first[x] != to {
				n.ways[x*n.classes+y] = n.places(m.Map.Ways([]int{i}, first[x], to), first[x], to)
			}
		}
	}
	for at, h := range n.hubs {
		for y, to := range first {
			if to != h {
				n.onward[at*n.classes+y] = n.places(m.Map.Onward(i, h, to), h, to)
			}
		}
	}
}

// joins is where the adjacency of a site and the hub of a place is kept.
func (n *net) joins(site int, place int32) *int32 {
	return &n.toHub[site*len(n.hubs)+int(place)]
}

// places turns ways into places of hubs; nil when the ways of other sites of
// the two classes may differ. A direct way is not of the class.
func (n *net) places(ways []route.Way, from, to int) []int32 {
	out := make([]int32, 0, len(ways))
	fromHub, toHub := n.place[from] >= 0, n.place[to] >= 0
	for _, w := range ways {
		switch {
		case w.Tied:
			return nil
		case w.Via == to && (fromHub || toHub):
			out = append(out, here)
		case w.Via != to:
			out = append(out, n.place[w.Via])
		}
	}
	return out
}

// except marks the pairs whose ways no class gives: sites joined directly, or
// by several overlays together.
func (m *Model) except(i int, direct map[int][]int) {
	for from, list := range direct {
		for _, to := range list {
			for _, l := range m.lanesOf(from, to) {
				if slices.Contains(l.overlays, i) {
					m.special[ask{from, to, overlaysBits(l.overlays)}] = nil
				}
			}
		}
	}
	for _, from := range m.sharing[i] {
		if len(m.overlays[from]) < 2 {
			continue
		}
		for _, to := range m.sharing[i] {
			if from == to || len(m.overlays[to]) < 2 {
				continue
			}
			for _, l := range m.lanesOf(from, to) {
				if len(l.overlays) > 1 && l.overlays[0] == i {
					m.special[ask{from, to, overlaysBits(l.overlays)}] = nil
				}
			}
		}
	}
}

// firstCommon is the first overlay into which both sites share, -1 for none.
func (m *Model) firstCommon(i, j int) int {
	for _, o := range m.overlays[i] {
		if slices.Contains(m.overlays[j], o) {
			return o
		}
	}
	return -1
}

// link returns the link of a number.
func (m *Model) link(n int) *estate.Link {
	site := m.sites[n]
	return &m.Plan.Site(site).Links[n-m.links[site]]
}

// Idle lists the sites without automatic failover, where a dead tunnel stays in use until somebody intervenes,
// though others stand by.
func (m *Model) Idle() (out []int) {
	for i := range m.switching {
		if !m.switching[i] && len(m.Plan.Ends(i)) > 1 {
			out = append(out, i)
		}
	}
	return out
}
