package outage

import (
	"slices"

	"wideknot/core/route"
)

// A path is one that may be taken while all its adjacencies live: the places of the
// hubs between its ends. See route.Candidate.
type path struct {
	by   [2]int32
	n    int
	tied bool // other sites of the two classes may have it and the one before the other way round
}

// paths notes those between classes.
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
			out := make([]path, 0, len(list))
			for _, c := range list {
				if len(c.Via) == 0 && n.place[first[x]] < 0 && n.place[to] < 0 {
					continue // not of the class
				}
				p := path{n: len(c.Via), tied: c.Tied}
				for k, hub := range c.Via {
					p.by[k] = n.place[hub]
				}
				out = append(out, p)
			}
			n.paths[x*n.classes+y] = out
		}
	}
}

// steer takes a walk one tunnel on along the least path that lives. Where only the hash
// of keys sets two living ones apart it asks for this pair's own order, and the walk
// says so.
func (m *Model) steer(s *state, overlay int16, at, to int, w *way) (next int, ok bool) {
	n := &m.nets[overlay]
	known := n.paths[int(n.class[at])*n.classes+int(n.class[to])]
	own := m.odd[at] && m.odd[to]
	var best [3]int
	found := -1
	for k := 0; k < len(known) && !own; k++ {
		p := &known[k]
		if found >= 0 && !p.tied {
			break
		}
		var adjacencies [3]int
		if !m.lives(s, overlay, n.along(p, at, to, &adjacencies)) {
			continue
		}
		own = found >= 0
		if found < 0 {
			best, found = adjacencies, k
		}
	}
	if own {
		w.tied = true
		return m.steerOwn(s, overlay, at, to, w)
	}
	if found < 0 {
		return at, false
	}
	next = to
	if p := &known[found]; p.n > 0 {
		next = n.hubs[p.by[0]]
	}
	m.leave(s, overlay, best[0], at, w)
	return next, true
}

// steerOwn does so by the order of one pair.
func (m *Model) steerOwn(s *state, overlay int16, at, to int, w *way) (next int, ok bool) {
	for _, c := range m.Map.Candidates(int(overlay), at, to) {
		if !m.lives(s, overlay, c.Adjacencies) {
			continue
		}
		m.leave(s, overlay, c.Adjacencies[0], at, w)
		if len(c.Via) > 0 {
			return c.Via[0], true
		}
		return to, true
	}
	return at, false
}

// leave adds a leg to a walk.
func (m *Model) leave(s *state, overlay int16, adjacency, from int, w *way) {
	w.legs[w.n] = leg{int32(adjacency), overlay, m.from(s, w.held, int(overlay), adjacency, from)}
	w.n++
}

// along lists the adjacencies of a path between two sites, in the room given.
func (n *net) along(p *path, at, to int, room *[3]int) []int {
	for i := range p.n {
		room[i] = int(*n.joins(at, p.by[i]))
		at = n.hubs[p.by[i]]
	}
	if goal := n.place[to]; goal >= 0 {
		room[p.n] = int(*n.joins(at, goal))
	} else {
		room[p.n] = int(*n.joins(to, n.place[at]))
	}
	return room[:p.n+1]
}

// lives reports whether all adjacencies of a path do. Where hubs tell both ends see the
// same of each.
func (m *Model) lives(s *state, overlay int16, adjacencies []int) bool {
	for _, a := range adjacencies {
		if s.first[overlay][a][0].tunnel < 0 {
			return false
		}
	}
	return true
}

// steerBy does so where all ways are of one overlay, whose hubs tell.
func (m *Model) steerBy(s *state, ways []route.Way, to int, w *way) (next int, ok bool) {
	if len(ways) == 0 || !m.nets[ways[0].Overlay].told || slices.ContainsFunc(ways, func(o route.Way) bool { return o.Overlay != ways[0].Overlay }) {
		return w.at, false
	}
	return m.steer(s, int16(ways[0].Overlay), w.at, to, w)
}
