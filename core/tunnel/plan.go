// Package tunnel derives from an estate which sites are adjacent, the tunnels
// that serve each adjacency in order, and what each tunnel is given: addresses,
// ports, interface names, peers.
package tunnel

import (
	"cmp"
	"net/netip"
	"slices"

	"wideknot/core/addr"
	"wideknot/core/estate"
)

// A Plan is the derivation of one estate. It is immutable and safe to share.
// Sites are named by their index in Estate.Sites.
type Plan struct {
	Estate   *estate.Estate
	Overlays []Overlay

	index map[string]int
	ends  [][]End // by site
	stale estate.Allocations

	recorded bool // everything given out is what Estate.Allocations says
}

// An Overlay is the derivation of one overlay.
type Overlay struct {
	Spec        *estate.Overlay
	Hubs        []int // in the overlay's order
	Members     []int // hubs, spokes, sites of direct pairs; each once
	Adjacencies []Adjacency
	Shared      []netip.Prefix // all that members share, aggregated
	Starved     int            // tunnels for which the transit pools had no room
	Needs4      bool           // IPv4 runs inside
	Needs6      bool           // IPv6 runs inside

	member map[int]bool
	hub    map[int]bool
	pools  []netip.Prefix // what the tunnels of its hubs are numbered from, in all their overlays
	taken  []netip.Prefix // what a hub takes from another: Shared and pools, aggregated
}

// IsHub reports whether the site is a hub of the overlay.
func (o *Overlay) IsHub(site int) bool { return o.hub[site] }

// Has reports whether the site is a member of the overlay.
func (o *Overlay) Has(site int) bool { return o.member[site] }

// Kind says why two sites are adjacent.
type Kind string

// The kinds of adjacency.
const (
	ToHub  Kind = "to-hub" // a spoke and a hub of its list
	HubHub Kind = "hub-hub"
	Direct Kind = "direct" // a pair of a mesh or a listed pair
)

// The costs of adjacencies of an overlay that names none (section 7 of the
// domain).
const (
	HubStep    = 100 // times the hub's position in the spoke's list, from 1
	HubHubCost = 10
	DirectCost = 50
)

func costsOf(spec *estate.Overlay) estate.Costs {
	costs := estate.Costs{HubStep: HubStep, HubHub: HubHubCost, Direct: DirectCost}
	if c := spec.Costs; c != nil {
		costs = estate.Costs{HubStep: cmp.Or(c.HubStep, HubStep), HubHub: cmp.Or(c.HubHub, HubHubCost), Direct: cmp.Or(c.Direct, DirectCost)}
	}
	return costs
}

// An Adjacency is two sites that an overlay joins. A is the leading end: the
// spoke where one end is a hub, else the site whose key sorts first.
type Adjacency struct {
	A, B     int
	Kind     Kind
	Position int // of hub B in A's list, from 1; 0 for other kinds
	Cost     int
	Tunnels  []Tunnel // in rank order, the first choice first
}

// A Tunnel joins one WAN link at each end.
type Tunnel struct {
	A, B   Port
	Family estate.Family // of the outside
	MTU    int           // bytes, inside
	Wanted int           // the MTU before it was raised to the IPv6 minimum
	// Lead is the place of the first of the tunnels that share the load with it,
	// which stand together; its own where it shares with none. Weight is its part
	// among them, 0 where it shares with none.
	Lead, Weight int
	// Mute is set where neither end can open it, as the ports by which they would
	// be called are not forwarded to them. It counts as dead.
	Mute bool
}

// Group returns the places of the tunnels, from one up to but not including
// another, that share the load with the tunnel of the given place.
func (a *Adjacency) Group(place int) (from, to int) {
	from = a.Tunnels[place].Lead
	for to = place + 1; to < len(a.Tunnels) && a.Tunnels[to].Lead == from; to++ {
	}
	return from, to
}

// A Share is the part of the flows between two sites that a tunnel takes.
type Share struct {
	Lead   int `json:"lead" doc:"rank of the first of the tunnels that share the load"`
	Weight int `json:"weight" doc:"its part"`
	Whole  int `json:"whole" doc:"of how many"`
}

// Share returns the part that the tunnel of a place takes of what its group
// carries; nil where it carries all.
func (a *Adjacency) Share(place int) *Share {
	t := &a.Tunnels[place]
	if t.Weight == 0 {
		return nil
	}
	out := &Share{Lead: t.Lead + 1, Weight: t.Weight}
	from, to := a.Group(place)
	for _, other := range a.Tunnels[from:to] {
		out.Whole += other.Weight
	}
	return out
}

// A Port is what one end of a tunnel was given.
type Port struct {
	Site, Link int
	Slot       int // number at the end of the interface name; 0 when the site ran out
	UDP        int // listen port; 0 when the site ran out
	Address4   netip.Prefix
	Address6   netip.Prefix
	Calls      bool   // this end can open the session
	Interface  string // unique at the site, at most MaxInterface bytes
}

// An End is one end's place in the plan: a tunnel seen from a site.
type End struct {
	Overlay, Adjacency, Tunnel int
	AtA                        bool
}

// Derive computes the plan of a valid estate. What Estate.Allocations holds is
// kept; what is new is given from what was never used before.
func Derive(e *estate.Estate) *Plan {
	p := &Plan{Estate: e, index: e.Index(), Overlays: make([]Overlay, len(e.Overlays))}
	links := usableLinks(e)
	for i := range e.Overlays {
		p.Overlays[i] = p.shape(&e.Overlays[i], links)
	}
	for i := range p.Overlays {
		o := &p.Overlays[i]
		o.pools = o.hubPools(p)
		o.taken = addr.Aggregate(slices.Concat(o.Shared, o.pools))
	}
	p.allocate()
	p.hear()
	p.collectEnds()
	return p
}

// SiteIndex returns the index of the site with that key, or -1.
func (p *Plan) SiteIndex(key string) int {
	if i, ok := p.index[key]; ok {
		return i
	}
	return -1
}

// Site returns the site of that index.
func (p *Plan) Site(i int) *estate.Site { return &p.Estate.Sites[i] }

// shape lists the overlay's adjacencies with their tunnels.
// Long because the order in which it joins sites is the rule: hubs, spokes, direct pairs.
func (p *Plan) shape(spec *estate.Overlay, links [][]usable) Overlay {
	o := Overlay{Spec: spec, member: map[int]bool{}, hub: map[int]bool{}}
	for _, key := range spec.Members() {
		if i, ok := p.index[key]; ok {
			o.Members = append(o.Members, i)
			o.member[i] = true
		}
	}
	for _, key := range spec.Hubs {
		if i, ok := p.index[key]; ok {
			o.Hubs = append(o.Hubs, i)
			o.hub[i] = true
		}
	}
	o.share(p)
	costs := costsOf(spec)
	join := func(a, b int, kind Kind, position, cost int) {
		adjacency := Adjacency{A: a, B: b, Kind: kind, Position: position, Cost: cost}
		adjacency.Tunnels = o.pair(p, a, b, links)
		o.Adjacencies = append(o.Adjacencies, adjacency)
	}
	leading := func(a, b int) (int, int) {
		if p.Site(b).Key < p.Site(a).Key {
			return b, a
		}
		return a, b
	}
	if spec.Shape == estate.FullMesh {
		o.Adjacencies = make([]Adjacency, 0, len(o.Members)*(len(o.Members)-1)/2)
		for i, x := range o.Members {
			for _, y := range o.Members[i+1:] {
				a, b := leading(x, y)
				join(a, b, Direct, 0, costs.Direct)
			}
		}
		return o
	}
	for i, x := range o.Hubs {
		for _, y := range o.Hubs[i+1:] {
			if spec.JoinsHubs() {
				a, b := leading(x, y)
				join(a, b, HubHub, 0, costs.HubHub)
			}
		}
	}
	for _, s := range spec.Spokes {
		for position, key := range spec.HubOrder(s) {
			if hub, ok := p.index[key]; ok {
				join(p.index[s.Site], hub, ToHub, position+1, costs.HubStep*(position+1))
			}
		}
	}
	if spec.Shape == estate.Custom {
		joined := map[[2]int]bool{}
		for _, a := range o.Adjacencies {
			joined[[2]int{min(a.A, a.B), max(a.A, a.B)}] = true
		}
		for _, pair := range spec.Direct {
			a, b := leading(p.index[pair[0]], p.index[pair[1]])
			if id := [2]int{min(a, b), max(a, b)}; !joined[id] {
				joined[id] = true
				join(a, b, Direct, 0, costs.Direct)
			}
		}
	}
	return o
}

// share collects what the members share and which families run inside.
func (o *Overlay) share(p *Plan) {
	all := make([]netip.Prefix, 0, len(o.Members))
	for _, m := range o.Members {
		subnets := p.Site(m).Subnets
		for i := range subnets {
			if subnets[i].SharedInto(o.Spec.Key) {
				all = append(all, subnets[i].Taking())
			}
		}
	}
	o.Shared = addr.Aggregate(all)
	o.Needs4, o.Needs6 = false, false
	for _, list := range [][]netip.Prefix{o.Spec.Transit, o.Shared} {
		for _, prefix := range list {
			o.Needs4 = o.Needs4 || prefix.Addr().Is4()
			o.Needs6 = o.Needs6 || prefix.Addr().Is6()
		}
	}
}

// hear settles who can open a tunnel, now that ports are given: an end is called
// in vain at a port that the router before it does not forward.
func (p *Plan) hear() {
	p.eachTunnel(func(_ *Overlay, _ *Adjacency, t *Tunnel, _ End) {
		t.A.Calls, t.B.Calls = p.callable(&t.B), p.callable(&t.A)
		t.Mute = !t.A.Calls && !t.B.Calls
	})
}

func (p *Plan) callable(port *Port) bool {
	l := p.Link(port)
	return l.Reach.Callable() && l.HasForward(port.UDP)
}

func (p *Plan) collectEnds() {
	counts := make([]int, len(p.Estate.Sites))
	p.eachTunnel(func(_ *Overlay, a *Adjacency, _ *Tunnel, _ End) { counts[a.A]++; counts[a.B]++ })
	p.ends = make([][]End, len(counts))
	for i, n := range counts {
		p.ends[i] = make([]End, 0, n)
	}
	p.eachTunnel(func(_ *Overlay, a *Adjacency, _ *Tunnel, at End) {
		p.ends[a.B] = append(p.ends[a.B], at)
		at.AtA = true
		p.ends[a.A] = append(p.ends[a.A], at)
	})
}

func (p *Plan) eachTunnel(visit func(*Overlay, *Adjacency, *Tunnel, End)) {
	for i := range p.Overlays {
		o := &p.Overlays[i]
		for j := range o.Adjacencies {
			a := &o.Adjacencies[j]
			for k := range a.Tunnels {
				visit(o, a, &a.Tunnels[k], End{Overlay: i, Adjacency: j, Tunnel: k})
			}
		}
	}
}

// Tunnels counts all tunnels of the plan.
func (p *Plan) Tunnels() int {
	n := 0
	p.eachTunnel(func(*Overlay, *Adjacency, *Tunnel, End) { n++ })
	return n
}

// Ends lists the tunnel ends of a site, in the order of overlays, adjacencies
// and ranks.
func (p *Plan) Ends(site int) []End { return p.ends[site] }

// At resolves an end.
func (p *Plan) At(e End) (*Overlay, *Adjacency, *Tunnel) {
	o := &p.Overlays[e.Overlay]
	a := &o.Adjacencies[e.Adjacency]
	return o, a, &a.Tunnels[e.Tunnel]
}

// Sides returns what the end itself and the far end were given.
func (p *Plan) Sides(e End) (local, remote *Port) {
	_, _, t := p.At(e)
	if e.AtA {
		return &t.A, &t.B
	}
	return &t.B, &t.A
}

// Link returns the WAN link of a port.
func (p *Plan) Link(port *Port) *estate.Link { return &p.Site(port.Site).Links[port.Link] }

// Ident names a tunnel for allocation records and URLs.
func (p *Plan) Ident(t *Tunnel) string {
	return estate.TunnelIdent(p.Site(t.A.Site).Key, p.Link(&t.A).Key, p.Site(t.B.Site).Key, p.Link(&t.B).Key)
}
