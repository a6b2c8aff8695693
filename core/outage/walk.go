package outage

import (
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// A leg is one tunnel on the way of a packet.
type leg struct{ overlay, adjacency, tunnel int32 }

// A way holds the legs of a walk. A packet that takes more circles.
type way struct {
	legs [8]leg
	n    int
	ok   bool // it arrives
	at   int  // where it ends
}

func (w *way) same(v *way) bool {
	if w.ok != v.ok || w.n != v.n {
		return false
	}
	for k := range w.n {
		if w.legs[k] != v.legs[k] {
			return false
		}
	}
	return true
}

// state is what has failed. A site without gateway has all its links dead.
type state struct {
	dead  []bool    // by link
	gone  []bool    // by site: the gateway is dead
	first [][]int32 // overlay → adjacency → its first tunnel that is alive, -1 for none
}

func (m *Model) newState() state {
	s := state{dead: make([]bool, len(m.sites)), gone: make([]bool, len(m.Plan.Estate.Sites)), first: make([][]int32, len(m.nets))}
	for i := range m.nets {
		s.first[i] = make([]int32, len(m.nets[i].overlay.Adjacencies))
	}
	return s
}

// alive looks for the first tunnel of an adjacency that is alive.
func (m *Model) alive(s *state, a *tunnel.Adjacency) int32 {
	for k := range a.Tunnels {
		t := &a.Tunnels[k]
		if !s.dead[m.links[t.A.Site]+t.A.Link] && !s.dead[m.links[t.B.Site]+t.B.Link] {
			return int32(k)
		}
	}
	return -1
}

// walk follows a packet of one site to another.
func (m *Model) walk(s *state, from, to int, w *way) {
	w.n, w.ok, w.at = 0, false, from
	if s.gone[from] || s.gone[to] {
		return
	}
	var overlay int32
	var ways []route.Way
	special := m.odd[from] && m.odd[to]
	if special {
		ways, special = m.special[pairKey(from, to)]
	}
	if special {
		next, ok := m.take(s, ways, from, w)
		if !ok {
			return
		}
		overlay = w.legs[0].overlay
		w.at = next
	} else {
		overlay = int32(m.firstCommon(from, to))
		if !m.step(s, overlay, from, from, to, false, w) {
			return
		}
	}
	n := &m.nets[overlay]
	before := from
	for w.at != to {
		at := w.at
		if n.place[at] < 0 || w.n == len(w.legs) {
			return
		}
		if !m.step(s, overlay, from, at, to, n.place[before] >= 0, w) {
			return
		}
		before = at
	}
	w.ok = true
}

// take takes the first way that is alive.
func (m *Model) take(s *state, ways []route.Way, origin int, w *way) (next int, ok bool) {
	for i := range ways {
		if t := s.first[ways[i].Overlay][ways[i].Adjacency]; t >= 0 {
			w.legs[w.n] = leg{int32(ways[i].Overlay), int32(ways[i].Adjacency), t}
			w.n++
			return ways[i].Via, ways[i].Via != origin
		}
	}
	return 0, false
}

// step takes a walk one tunnel on. It reports false where the packet ends.
func (m *Model) step(s *state, overlay int32, origin, at, to int, fromHub bool, w *way) bool {
	n := &m.nets[overlay]
	var places []int32
	if fromHub {
		places = n.onward[int(n.place[at])*n.classes+int(n.class[to])]
	} else {
		places = n.ways[int(n.class[at])*n.classes+int(n.class[to])]
	}
	if places == nil {
		var ways []route.Way
		if fromHub {
			ways = m.Map.Onward(int(overlay), at, to)
		} else {
			ways = m.Map.Ways([]int{int(overlay)}, at, to)
		}
		next, ok := m.take(s, ways, origin, w)
		w.at = next
		return ok
	}
	for _, p := range places {
		next := to
		var adjacency int32
		if p == here {
			if goal := n.place[to]; goal >= 0 {
				adjacency = *n.joins(at, goal)
			} else {
				adjacency = *n.joins(to, n.place[at])
			}
		} else {
			next = n.hubs[p]
			adjacency = *n.joins(at, p)
		}
		if t := s.first[overlay][adjacency]; t >= 0 {
			w.legs[w.n] = leg{overlay, adjacency, t}
			w.n++
			w.at = next
			return next != origin
		}
	}
	return false
}

// backOf finds the way back while nothing fails: the way there reversed, but
// for pins.
func (m *Model) backOf(there *way, from, to int, back *way) {
	if !m.mirrored {
		m.walk(m.none(), from, to, back)
		return
	}
	back.n, back.ok, back.at = there.n, there.ok, to
	for k := range there.n {
		back.legs[k] = there.legs[there.n-1-k]
	}
}

// ends returns the links, by number, at both ends of a leg.
func (m *Model) ends(l leg) (a, b int32) {
	n := &m.nets[l.overlay]
	e := n.ends[n.start[l.adjacency]+l.tunnel]
	return e[0], e[1]
}

// none is the state in which nothing has failed.
func (m *Model) none() *state { return &m.base.none }

// zonesOf returns the zones that a pair has and those that pass its way.
func (m *Model) zonesOf(i, j int, w *way) (has, pass uint64) {
	has = m.siteZone[i] | m.siteZone[j]
	pass = has
	if !m.narrowed {
		return has, pass
	}
	for k := range w.n {
		x, y := m.ends(w.legs[k])
		pass &= m.linkZone[x] & m.linkZone[y]
	}
	return has, pass
}
