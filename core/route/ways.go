package route

import (
	"cmp"
	"net/netip"
	"slices"
)

// A Way is one first step from a site towards another.
type Way struct {
	Overlay   int
	Adjacency int // in the overlay
	Via       int // the neighbour it leads to
	Cost      int // of the whole path
	Pinned    bool
	// Tied reports that nothing but the hash of keys sets the way apart from
	// the one before it; otherwise sites at equal costs have equal ways.
	Tied bool

	weight weight
}

func waysOf(overlay int, list []trail) []Way {
	out := make([]Way, len(list))
	for i, w := range list {
		out[i] = Way{Overlay: overlay, Adjacency: w.step.adjacency, Via: w.step.to, Cost: int(w.weight.cost), weight: w.weight}
		if i > 0 {
			out[i].Tied = w.weight.like(list[i-1].weight)
		}
	}
	return out
}

// Ways lists the first steps from one site to another in the given overlays,
// best first, as the site's routes have them. Pins count where they hold for
// every prefix.
func (m *Map) Ways(overlays []int, from, to int) []Way {
	var out []Way
	for _, i := range overlays {
		g := m.graphs[i]
		r := g.newReach()
		r.measure(g, to)
		list := waysOf(i, g.ways(nil, from, to, r))
		if via := m.pinned(i, from, netip.Prefix{}); via >= 0 {
			for j := range list {
				list[j].Pinned = list[j].Via == via
			}
		}
		out = append(out, list...)
	}
	slices.SortStableFunc(out, func(a, b Way) int {
		return cmp.Or(cmp.Compare(boolInt(!a.Pinned), boolInt(!b.Pinned)), a.weight.compare(b.weight), cmp.Compare(a.Overlay, b.Overlay))
	})
	return out
}

// Onward lists what a hub does with traffic that another hub of the overlay
// handed it, best first. Where not all hubs are joined it is the same as Ways.
func (m *Map) Onward(overlay, hub, to int) []Way {
	if g := m.graphs[overlay]; g.straight {
		return waysOf(overlay, g.onward(nil, hub, to))
	}
	return m.Ways([]int{overlay}, hub, to)
}
