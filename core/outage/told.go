package outage

import (
	"slices"

	"wideknot/core/route"
)

// A path is one that may be taken while all its adjacencies live: the places of the
// hubs between its ends. See route.Candidate.
type path struct {
	by [2]int32
	n  int
}

// paths notes those between classes; none where the paths of other sites of the two
// classes may stand in another order.
func (m *Model) paths(i int, n *net, first, second []int) {
	n.paths = make([][]path, len(first)*len(first))
	for x := range first {
		for y := range first {
			to := first[y]
			if x == y {
				to = second[y]
			}
			if first[x] == to {
				continue
			}
			list := m.Map.Candidates(i, first[x], to)
			if slices.ContainsFunc(list, func(c route.Candidate) bool { return c.Tied }) {
				continue
			}
			out := make([]path, 0, len(list))
			for _, c := range list {
				if len(c.Via) == 0 && n.place[first[x]] < 0 && n.place[to] < 0 {
					continue // not of the class
				}
				p := path{n: len(c.Via)}
				for k, hub := range c.Via {
					p.by[k] = n.place[hub]
				}
				out = append(out, p)
			}
			n.paths[x*n.classes+y] = out
		}
	}
}

// steer takes a walk one tunnel on along the least path that lives.
func (m *Model) steer(s *state, overlay int16, at, to int, w *way) (next int, ok bool) {
	n := &m.nets[overlay]
	known := n.paths[int(n.class[at])*n.classes+int(n.class[to])]
	if known == nil || m.odd[at] && m.odd[to] {
		for _, c := range m.Map.Candidates(int(overlay), at, to) {
			if next, ok := m.along(s, overlay, at, to, c.Via, c.Adjacencies, w); ok {
				return next, true
			}
		}
		return at, false
	}
	var via, adjacencies [3]int
	for k := range known {
		p := &known[k]
		from := at
		for i := range p.n {
			via[i] = n.hubs[p.by[i]]
			adjacencies[i] = int(*n.joins(from, p.by[i]))
			from = via[i]
		}
		if goal := n.place[to]; goal >= 0 {
			adjacencies[p.n] = int(*n.joins(from, goal))
		} else {
			adjacencies[p.n] = int(*n.joins(to, n.place[from]))
		}
		if next, ok := m.along(s, overlay, at, to, via[:p.n], adjacencies[:p.n+1], w); ok {
			return next, true
		}
	}
	return at, false
}

// along takes the first step of a path if all of it lives.
func (m *Model) along(s *state, overlay int16, at, to int, via, adjacencies []int, w *way) (next int, ok bool) {
	from := at
	var first choice
	for i, a := range adjacencies {
		c := m.from(s, int(overlay), a, from)
		if c.tunnel < 0 {
			return at, false
		}
		if i == 0 {
			first = c
		}
		if i < len(via) {
			from = via[i]
		}
	}
	w.legs[w.n] = leg{int32(adjacencies[0]), overlay, first}
	w.n++
	if len(via) > 0 {
		return via[0], true
	}
	return to, true
}

// steerBy does so where all ways are of one overlay, whose hubs tell.
func (m *Model) steerBy(s *state, ways []route.Way, to int, w *way) (next int, ok bool) {
	if len(ways) == 0 || !m.nets[ways[0].Overlay].told || slices.ContainsFunc(ways, func(o route.Way) bool { return o.Overlay != ways[0].Overlay }) {
		return w.at, false
	}
	return m.steer(s, int16(ways[0].Overlay), w.at, to, w)
}
