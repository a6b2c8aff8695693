package route

import (
	"fmt"
	"slices"

	"wideknot/core/estate"
	"wideknot/core/tunnel"
)

// Where hubs tell which of their adjacencies live, everyone takes the least path
// whose adjacencies all do. Paths have at most two hubs, ends included, unless there
// is one between two sites that are none: so what came from a hub goes straight to its
// site, nothing circles whatever anybody was told, and a path and its reverse are the
// least of the same paths, so both directions stay together.

// Told reports whether the hubs of an overlay tell: its design wants that, all hubs are
// joined, nothing is pinned, and every gateway switches by itself.
func (m *Map) Told(overlay int) bool { return m.graphs[overlay].told }

// MaxTold is how many sites an overlay may have whose hubs tell: a bit each, in one packet.
const MaxTold = 8000

// Untold says why the hubs of an overlay tell nothing; empty where they do.
func (m *Map) Untold(overlay int) string {
	g := m.graphs[overlay]
	switch o := g.overlay; {
	case !o.Spec.HubsTell:
		return "the design does not want it"
	case len(g.hubs) < 2:
		return "there is one hub at most"
	case !g.joinedByGroups():
		return "some hubs reach each other by a third one only, or sooner by it"
	case len(o.Spec.Pins) > 0:
		return "traffic is pinned"
	case len(o.Members) > MaxTold:
		return fmt.Sprintf("it has %d sites; what a hub tells of more than %d fits into no packet", len(o.Members), MaxTold)
	case o.Spec.Transport == estate.IPsec:
		return "gateways that tell keep tunnels of WireGuard"
	}
	for _, site := range g.overlay.Members {
		switch gateway := &m.Plan.Site(site).Gateway; {
		case gateway.Target != "" && gateway.Target != estate.TargetLinux:
			return fmt.Sprintf("%s is rendered for %s, which tells nothing", m.Plan.Site(site).Key, gateway.Target)
		case !gateway.SwitchesItself():
			return m.Plan.Site(site).Key + " does not switch by itself"
		}
	}
	return ""
}

// joinedByGroups reports whether hubs that reach each other over hubs at all are adjacent,
// and no detour between them is shorter.
func (g *graph) joinedByGroups() bool {
	for i := range g.hubs {
		for j := range g.hubs {
			if i != j && g.reached[i][j] && g.between[i][j].hops != 1 {
				return false
			}
		}
	}
	return true
}

// A Candidate is a path that may be taken while all its adjacencies live.
type Candidate struct {
	Via         []int // hubs between its ends, in order
	Adjacencies []int // of the overlay, in order
	// Tied reports that nothing but the hash of keys sets it apart from the one before.
	Tied bool

	weight weight
}

// Candidates lists the paths from one site to another in an overlay whose hubs tell,
// best first.
func (m *Map) Candidates(overlay, from, to int) []Candidate {
	g := m.graphs[overlay]
	var out []Candidate
	if s, ok := g.step(from, to); ok {
		out = append(out, Candidate{Adjacencies: []int{s.adjacency}, weight: s.weight})
	}
	fromHub, toHub := g.places[from] >= 0, g.places[to] >= 0
	for _, first := range g.toHubs[from] {
		x := first.to
		if x == to {
			continue
		}
		if last, ok := g.step(x, to); ok {
			out = append(out, Candidate{Via: []int{x}, Adjacencies: []int{first.adjacency, last.adjacency}, weight: first.weight.plus(last.weight)})
		}
		if fromHub || toHub {
			continue
		}
		for _, between := range g.toHubs[x] {
			if last, ok := g.step(between.to, to); ok {
				out = append(out, Candidate{
					Via: []int{x, between.to}, Adjacencies: []int{first.adjacency, between.adjacency, last.adjacency},
					weight: first.weight.plus(between.weight).plus(last.weight),
				})
			}
		}
	}
	slices.SortFunc(out, func(a, b Candidate) int { return a.weight.compare(b.weight) })
	for i := 1; i < len(out); i++ {
		a, b := out[i-1].weight, out[i].weight
		out[i].Tied = a.cost == b.cost && a.hops == b.hops && a.key == b.key
	}
	return out
}

// Steered returns the one overlay and the one site to which a route leads, where hubs
// tell of it: only then is it moved by what they tell.
func (m *Map) Steered(r *Route) (overlay, to int, ok bool) {
	if r.Kind != Overlay || len(r.Hops) == 0 {
		return 0, 0, false
	}
	overlay, to = r.Hops[0].End.Overlay, r.To
	for i := range r.Hops {
		h := &r.Hops[i]
		if h.End.Overlay != overlay || h.To >= 0 && h.To != to {
			return 0, 0, false
		}
	}
	return overlay, to, m.graphs[overlay].told
}

// steer puts those of living hops first that begin the least living path.
func (f *flight) steer(r *Route, hops []Hop) []Hop {
	overlay, to, ok := f.m.Steered(r)
	if !ok || len(hops) == 0 || f.in.by == byTunnel && f.fromHub() {
		return hops
	}
	adjacencies := f.m.graphs[overlay].overlay.Adjacencies
	for _, c := range f.m.Candidates(overlay, f.at, to) {
		if slices.ContainsFunc(c.Adjacencies, func(a int) bool { return !f.lives(&adjacencies[a]) }) {
			continue
		}
		first := to
		if len(c.Via) > 0 {
			first = c.Via[0]
		}
		if hops[0].Via == first {
			return hops
		}
		var before, after []Hop
		for _, h := range hops {
			if h.Via == first {
				before = append(before, h)
			} else {
				after = append(after, h)
			}
		}
		return append(before, after...)
	}
	return hops
}

// lives reports whether a tunnel of an adjacency is alive.
func (f *flight) lives(a *tunnel.Adjacency) bool {
	for i := range a.Tunnels {
		if t := &a.Tunnels[i]; !t.Mute && (f.dead == nil || !f.dead(t)) {
			return true
		}
	}
	return false
}

// fromHub reports whether the packet came by a tunnel from a hub to this one.
func (f *flight) fromHub() bool {
	o := f.m.graphs[f.in.end.Overlay].overlay
	_, remote := f.m.Plan.Sides(f.in.end)
	return o.IsHub(f.at) && o.IsHub(remote.Site)
}
