package route

import (
	"encoding/binary"

	"wideknot/core/tunnel"
)

// tables makes those of one site, and what they have in common once.
type tables struct {
	*Map
	site     int
	chainers []*chainer // by overlay; nil where none was asked for
	room     *Room      // nil where routes are kept
}

func (m *Map) tables(site int) *tables {
	return &tables{m, site, make([]*chainer, len(m.graphs)), nil}
}

func (t *tables) chainer(overlay int) *chainer {
	if t.chainers[overlay] == nil {
		t.chainers[overlay] = t.Map.chainer(overlay, t.site)
	}
	return t.chainers[overlay]
}

// A chainer makes the hops of one site in one overlay. Most destinations are
// reached by the same neighbours at the same costs, and one that is joined has the
// same neighbours in several tables, so a chain is made once and shared.
type chainer struct {
	m       *Map
	overlay int
	site    int
	reach   *reach
	ways    []trail
	id      []byte
	made    map[string][]Hop
	// Where nothing is pinned, by site, as one has several subnets; and, where the site is
	// joined with hubs alone, by the class of sites.
	sites, classes [][]Hop
}

func (m *Map) chainer(overlay, site int) *chainer {
	g := m.graphs[overlay]
	c := &chainer{m: m, overlay: overlay, site: site, reach: g.newReach(), made: map[string][]Hop{}, sites: make([][]Hop, len(m.Plan.Estate.Sites))}
	if g.places[site] < 0 && len(g.steps[site]) == len(g.toHubs[site]) {
		c.classes = make([][]Hop, g.classes)
	}
	return c
}

// chain returns the hops to a site, those of the neighbour via first when it
// is not -1.
func (c *chainer) chain(to, via int) []Hop {
	if via < 0 && c.sites[to] != nil {
		return c.sites[to]
	}
	g := c.m.graphs[c.overlay]
	class := -1
	if via < 0 && c.classes != nil {
		if class = g.class[to]; class >= 0 && c.classes[class] != nil {
			return c.classes[class]
		}
	}
	c.ways = g.ways(c.ways[:0], c.site, to, c.reach.to(g, to))
	hops := c.hops(c.ways, via)
	switch {
	case via >= 0:
	case class >= 0 && !tied(c.ways):
		c.classes[class] = hops // never nil
	default:
		c.sites[to] = hops
	}
	return hops
}

// tied reports whether nothing but the hash of keys sets two of some ways in order apart.
func tied(ways []trail) bool {
	for i := 1; i < len(ways); i++ {
		if ways[i].weight.like(ways[i-1].weight) {
			return true
		}
	}
	return false
}

func (c *chainer) hops(ways []trail, via int) []Hop {
	c.id = binary.AppendVarint(c.id[:0], int64(via))
	for _, w := range ways {
		c.id = binary.AppendUvarint(c.id, uint64(w.step.adjacency))
		c.id = binary.AppendUvarint(c.id, uint64(w.weight.cost))
		c.id = binary.AppendUvarint(c.id, uint64(w.weight.hops))
		c.id = binary.AppendUvarint(c.id, uint64(w.weight.key))
	}
	if hops, ok := c.made[string(c.id)]; ok {
		return hops
	}
	hops := c.fresh(ways, via)
	c.made[string(c.id)] = hops
	return hops
}

func (c *chainer) fresh(ways []trail, via int) []Hop {
	hops := c.m.tunnelsOf(c.overlay, c.site, ways)
	if via < 0 {
		number(hops) // ways and ranks are in order already
		return hops
	}
	for i := range hops {
		hops[i].pinned = hops[i].Via == via
	}
	c.m.order(hops)
	return hops
}

// tunnelsOf lists all tunnels of the ways, in their order and by rank.
func (m *Map) tunnelsOf(overlay, site int, ways []trail) []Hop {
	g := m.graphs[overlay]
	size := 0
	for _, w := range ways {
		size += len(g.overlay.Adjacencies[w.step.adjacency].Tunnels)
	}
	out := make([]Hop, 0, size)
	for _, w := range ways {
		a := &g.overlay.Adjacencies[w.step.adjacency]
		for rank := range a.Tunnels {
			end := tunnel.End{Overlay: overlay, Adjacency: w.step.adjacency, Tunnel: rank, AtA: a.A == site}
			local, _ := m.Plan.Sides(end)
			out = append(out, Hop{
				End: end, Via: w.step.to, Interface: local.Interface,
				Weight: a.Tunnels[rank].Weight, lead: a.Tunnels[rank].Lead,
				Cost: int(w.weight.cost), Steps: int(w.weight.hops), To: -1, weight: w.weight,
			})
		}
	}
	return out
}
