// Package route decides, for every site of a plan, through which tunnels it
// reaches every prefix, in what order, and why.
package route

import (
	"cmp"
	"encoding/binary"
	"hash/fnv"
	"slices"

	"wideknot/core/tunnel"
)

// An edge is an adjacency with a tunnel, seen from one of its sites.
type edge struct {
	to        int
	adjacency int
	hub       int // the place of the far site among the hubs, or -1
	weight    weight
}

// graph is one overlay as paths see it.
type graph struct {
	overlay *tunnel.Overlay
	steps   [][]edge   // by site, sorted by where they lead
	toHubs  [][]edge   // those that lead to hubs
	hubs    []int      // in key order
	places  []int      // by site, its place in hubs, or -1
	between [][]weight // hub to hub over hubs
	reached [][]bool
	reaches []reach // by member, where hubs are few; else nil
	class   []int   // by site: those of one class have like reaches; -1 for hubs and where none are kept
	classes int
	joined  bool // every two hubs are adjacent, and no detour between them is shorter
	told    bool // hubs tell which adjacencies live
	// straight says that what one hub hands another goes straight on, as between hubs
	// that are joined, or that tell.
	straight bool
}

func newGraph(p *tunnel.Plan, o *tunnel.Overlay) *graph {
	sites := len(p.Estate.Sites)
	g := &graph{overlay: o, steps: make([][]edge, sites), toHubs: make([][]edge, sites), places: slices.Repeat([]int{-1}, sites)}
	g.hubs = slices.SortedFunc(slices.Values(o.Hubs), func(a, b int) int { return cmp.Compare(p.Site(a).Key, p.Site(b).Key) })
	for i, h := range g.hubs {
		g.places[h] = i
	}
	hashes := make(map[int]uint64, len(o.Members))
	for _, m := range o.Members {
		h := fnv.New64a()
		h.Write([]byte(p.Site(m).Key)) // never fails
		hashes[m] = h.Sum64()
	}
	degree := make([]int, sites)
	for i := range o.Adjacencies {
		degree[o.Adjacencies[i].A]++
		degree[o.Adjacencies[i].B]++
	}
	for site, n := range degree {
		if n > 0 {
			g.steps[site] = make([]edge, 0, n)
		}
	}
	for i := range o.Adjacencies {
		a := &o.Adjacencies[i]
		if len(a.Tunnels) == 0 {
			continue
		}
		w := weight{cost: int32(a.Cost), hops: 1, tie: mix(hashes[a.A]^hashes[a.B]) >> 16}
		for _, end := range []int{a.A, a.B} {
			w.key += int32(g.places[end] + 1)
		}
		g.steps[a.A] = append(g.steps[a.A], edge{a.B, i, g.places[a.B], w})
		g.steps[a.B] = append(g.steps[a.B], edge{a.A, i, g.places[a.A], w})
	}
	for _, site := range o.Members {
		slices.SortFunc(g.steps[site], func(a, b edge) int { return cmp.Compare(a.to, b.to) })
		for _, s := range g.steps[site] {
			if s.hub >= 0 {
				g.toHubs[site] = append(g.toHubs[site], s)
			}
		}
	}
	g.measureHubs()
	g.class = slices.Repeat([]int{-1}, sites)
	if len(g.hubs) <= fewHubs {
		g.keepReaches()
	}
	g.joined = len(g.hubs) > 1
	for i := range g.hubs {
		for j := range g.hubs {
			g.joined = g.joined && (i == j || g.reached[i][j] && g.between[i][j].hops == 1)
		}
	}
	return g
}

// mix spreads the bits of a sum so that sums of it hardly ever meet (the
// finaliser of a 64-bit multiplicative hash).
func mix(x uint64) uint64 {
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// measureHubs finds the least weight between every two hubs over hubs only
// (Floyd and Warshall's relaxation).
func (g *graph) measureHubs() {
	n := len(g.hubs)
	g.between, g.reached = make([][]weight, n), make([][]bool, n)
	for i, h := range g.hubs {
		g.between[i], g.reached[i] = make([]weight, n), make([]bool, n)
		g.reached[i][i] = true
		for _, s := range g.toHubs[h] {
			g.between[i][s.hub], g.reached[i][s.hub] = s.weight, true
		}
	}
	for k := range n {
		for i := range n {
			for j := range n {
				if i == j || !g.reached[i][k] || !g.reached[k][j] {
					continue
				}
				if w := g.between[i][k].plus(g.between[k][j]); !g.reached[i][j] || w.compare(g.between[i][j]) < 0 {
					g.between[i][j], g.reached[i][j] = w, true
				}
			}
		}
	}
}

// A reach is the least weight from each hub, in key order, to one site over
// hubs, and whether there is a path.
type reach struct {
	weight []weight
	ok     []bool
}

func (g *graph) newReach() *reach {
	return &reach{make([]weight, len(g.hubs)), make([]bool, len(g.hubs))}
}

// keepReaches measures the reach of each member, and finds those that are alike but for the
// hash of keys.
func (g *graph) keepReaches() {
	g.reaches = make([]reach, len(g.places))
	known := map[string]int{}
	var id []byte
	for _, m := range g.overlay.Members {
		r := g.newReach()
		r.measure(g, m)
		g.reaches[m] = *r
		if g.places[m] >= 0 {
			continue
		}
		id = id[:0]
		for i, w := range r.weight {
			if r.ok[i] {
				id = binary.AppendUvarint(id, uint64(i)+1)
				for _, part := range [...]int32{w.cost, w.hops, w.key} {
					id = binary.AppendVarint(id, int64(part))
				}
			}
		}
		class, ok := known[string(id)]
		if !ok {
			class = len(known)
			known[string(id)] = class
		}
		g.class[m] = class
	}
	g.classes = len(known)
}

// fewHubs are so few that what each site's reach is can be kept.
const fewHubs = 16

// to is the reach for a member: one that is kept, or this one, measured.
func (r *reach) to(g *graph, to int) *reach {
	if g.reaches != nil {
		return &g.reaches[to]
	}
	r.measure(g, to)
	return r
}

// measure fills the reach for a site.
func (r *reach) measure(g *graph, to int) {
	if at := g.places[to]; at >= 0 {
		for i := range g.hubs {
			r.weight[i], r.ok[i] = g.between[i][at], g.reached[i][at]
		}
		return
	}
	clear(r.ok)
	for _, s := range g.toHubs[to] {
		for i := range g.hubs {
			if !g.reached[i][s.hub] {
				continue
			}
			if w := g.between[i][s.hub].plus(s.weight); !r.ok[i] || w.compare(r.weight[i]) < 0 {
				r.weight[i], r.ok[i] = w, true
			}
		}
	}
}

// A trail is one first step towards a site and the weight of the whole path.
type trail struct {
	step   edge
	weight weight
}

// ways lists the first steps from one site to another, best first. Where all
// hubs are joined, a hub hands what another hub sent it straight to the site
// (see Extras), so a hub can stand by for another whose own tunnels are
// down. Elsewhere a step to a hub that would send the traffic back is none.
func (g *graph) ways(out []trail, from, to int, r *reach) []trail {
	at := g.places[from]
	fromHub := at >= 0
	if s, adjacent := g.step(from, to); adjacent {
		out = append(out, trail{s, s.weight})
	}
	for _, s := range g.toHubs[from] {
		hub := s.hub
		if s.to == to || !r.ok[hub] {
			continue
		}
		rest := r.weight[hub]
		if fromHub && g.straight {
			direct, adjacent := g.step(s.to, to)
			if !adjacent {
				continue
			}
			rest = direct.weight
		} else if fromHub && r.ok[at] && rest == g.between[hub][at].plus(r.weight[at]) {
			continue
		}
		out = append(out, trail{s, s.weight.plus(rest)})
	}
	slices.SortFunc(out, func(a, b trail) int { return a.weight.compare(b.weight) })
	return out
}

// step returns the step from one site to an adjacent one.
func (g *graph) step(from, to int) (edge, bool) {
	i, found := slices.BinarySearchFunc(g.steps[from], to, func(s edge, to int) int { return cmp.Compare(s.to, to) })
	if !found {
		return edge{}, false
	}
	return g.steps[from][i], true
}

// onward adds to a list what a hub does with traffic that another hub handed it: the
// step to the site itself, then those to hubs farther from it; where hubs tell, who
// sent it knew a path that needs no more.
func (g *graph) onward(out []trail, hub, to int) []trail {
	direct, adjacent := g.step(hub, to)
	if adjacent {
		out = append(out, trail{direct, direct.weight})
	}
	if g.places[to] >= 0 || g.told {
		return out
	}
	for _, s := range g.toHubs[hub] {
		if rest, ok := g.step(s.to, to); ok && (!adjacent || rest.weight.compare(direct.weight) > 0) {
			out = append(out, trail{s, s.weight.plus(rest.weight)})
		}
	}
	slices.SortFunc(out, func(a, b trail) int { return a.weight.compare(b.weight) })
	return out
}
