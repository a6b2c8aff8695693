package outage

import (
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// A choice is by what an adjacency carries its traffic: its first tunnel that is
// alive, -1 for none, and which of those after it that share the load with it
// are alive too. Bit n of beside stands for the tunnel n+1 places on.
type choice struct {
	tunnel int16
	dead   bool // it is dead, or one beside it, and in use all the same: nothing there switches
	beyond bool // it, or one beside it, is beyond the limits to which the traffic is held
	beside uint32
}

// choices are those of the two ends of an adjacency, A's first.
type choices [2]choice

// A leg is one adjacency on the way of a packet and what carries it there. Of
// tunnels that share the load each flow takes one.
type leg struct {
	adjacency int32
	overlay   int16
	choice
}

// same reports whether two legs are of the same tunnels.
func (l leg) same(o leg) bool {
	l.beyond = o.beyond
	return l == o
}

// A way holds the legs of a walk. A packet that takes more circles.
type way struct {
	legs [8]leg
	n    int
	ok   bool   // it arrives
	tied bool   // by the order of this pair alone: other pairs of their classes may go elsewhere
	held uint64 // overlays to whose limits the packet is held, one bit each
	at   int    // where it ends
}

// same reports whether two walks take the same tunnels, within limits or beyond.
func (w *way) same(v *way) bool {
	if w.ok != v.ok || w.n != v.n {
		return false
	}
	for k := range w.n {
		if !w.legs[k].same(v.legs[k]) {
			return false
		}
	}
	return true
}

// state is what has failed. A site without gateway has all its links dead.
type state struct {
	dead        []bool      // by link
	slow, lossy []bool      // by link
	gone        []bool      // by site: the gateway is dead
	first       [][]choices // overlay → adjacency
	held        [][]choices // the same for what is held to limits; nil for overlays without
}

// newState returns the state in which nothing has failed.
func (m *Model) newState() state {
	s := state{dead: make([]bool, len(m.sites)), slow: make([]bool, len(m.sites)), lossy: make([]bool, len(m.sites)), held: make([][]choices, len(m.nets)), gone: make([]bool, len(m.Plan.Estate.Sites)), first: make([][]choices, len(m.nets))}
	for i := range m.nets {
		adjacencies := m.nets[i].overlay.Adjacencies
		s.first[i] = make([]choices, len(adjacencies))
		for j := range adjacencies {
			if tunnels := adjacencies[j].Tunnels; len(tunnels) > 0 && (tunnels[0].Weight > 0 || tunnels[0].Mute) {
				s.first[i][j] = m.choose(&s, &adjacencies[j])
			}
		}
		if m.nets[i].limits == nil {
			continue
		}
		s.held[i] = make([]choices, len(adjacencies))
		for j := range adjacencies {
			s.held[i][j] = m.chooseHeld(&s, i, j)
		}
	}
	return s
}

// lit reports whether a tunnel lives.
func (m *Model) lit(s *state, t *tunnel.Tunnel) bool {
	return !t.Mute && !s.dead[m.links[t.A.Site]+t.A.Link] && !s.dead[m.links[t.B.Site]+t.B.Link]
}

// choose finds what carries the traffic of an adjacency, from each end.
func (m *Model) choose(s *state, a *tunnel.Adjacency) choices {
	alive := func(k int) bool { return m.lit(s, &a.Tunnels[k]) }
	seen := choice{tunnel: -1} // by who takes dead ones out of use
	for k := range a.Tunnels {
		if alive(k) {
			seen = choice{tunnel: int16(k), beside: mates(a, k, alive)}
			break
		}
	}
	if m.switching[a.A] && m.switching[a.B] || len(a.Tunnels) == 0 {
		return choices{seen, seen}
	}
	kept := choice{beside: mates(a, 0, func(int) bool { return true })}
	kept.dead = !alive(0) || kept.beside != mates(a, 0, alive)
	out := choices{kept, kept}
	for i, site := range [2]int{a.A, a.B} {
		if m.switching[site] {
			out[i] = seen
		}
	}
	return out
}

// chooseHeld finds what carries the traffic of an adjacency that is held to the
// overlay's limits: the first of the living tunnels within them and, where none is, as
// other traffic goes. Both gateways have to keep to limits for that.
func (m *Model) chooseHeld(s *state, overlay, adjacency int) choices {
	n := &m.nets[overlay]
	a := &n.overlay.Adjacencies[adjacency]
	out := m.choose(s, a)
	beyond := func(k int) bool { return m.beyond(s, n, int(n.start[adjacency])+k) }
	if spec := n.overlay.Spec; m.Plan.Site(a.A).Gateway.KeepsLimits(spec) && m.Plan.Site(a.B).Gateway.KeepsLimits(spec) {
		within := func(k int) bool { return m.lit(s, &a.Tunnels[k]) && !beyond(k) }
		for k := range a.Tunnels {
			if within(k) {
				c := choice{tunnel: int16(k), beside: mates(a, k, within)}
				return choices{c, c}
			}
		}
	}
	for i := range out {
		if out[i].tunnel < 0 || len(a.Tunnels) == 0 {
			continue
		}
		for k, beside := int(out[i].tunnel), uint64(out[i].beside)<<1|1; beside != 0; k, beside = k+1, beside>>1 {
			out[i].beyond = out[i].beyond || beside&1 != 0 && beyond(k)
		}
	}
	return out
}

// beyond reports whether a tunnel, as numbered in ends, is beyond the limits of its
// overlay in a state.
func (m *Model) beyond(s *state, n *net, t int) bool {
	a, b := n.ends[t][0], n.ends[t][1]
	return n.beyond[t] ||
		(s.slow[a] || s.slow[b]) && (n.limits.LatencyMs > 0 || n.limits.JitterMs > 0) ||
		(s.lossy[a] || s.lossy[b]) && n.limits.LossPercent > 0
}

// mates are those after a tunnel that share the load with it, as far as wanted.
func mates(a *tunnel.Adjacency, k int, wanted func(k int) bool) (beside uint32) {
	if a.Tunnels[k].Weight == 0 {
		return 0
	}
	_, end := a.Group(k)
	for n := k + 1; n < min(end, k+33); n++ {
		if wanted(n) {
			beside |= 1 << (n - k - 1)
		}
	}
	return beside
}

// from returns the choice of an adjacency from one of its ends, for what is held to the
// limits of some overlays.
func (m *Model) from(s *state, held uint64, overlay, adjacency, site int) choice {
	c := &s.first[overlay][adjacency]
	if held&(1<<min(overlay, 63)) != 0 && s.held[overlay] != nil {
		c = &s.held[overlay][adjacency]
	}
	if m.nets[overlay].overlay.Adjacencies[adjacency].A == site {
		return c[0]
	}
	return c[1]
}

// walk follows a packet of one site to another, by the overlays of a lane.
func (m *Model) walk(s *state, l *lane, from, to int, w *way) {
	w.n, w.ok, w.tied, w.at, w.held = 0, false, false, from, l.held
	if s.gone[from] || s.gone[to] {
		return
	}
	var overlay int16
	var ways []route.Way
	special := m.odd[from] && m.odd[to]
	if special {
		ways, special = m.special[ask{from, to, overlaysBits(l.overlays)}]
	}
	if special {
		next, ok := m.steerBy(s, ways, to, w)
		if !ok {
			next, ok = m.take(s, ways, w)
		}
		if !ok {
			return
		}
		overlay = w.legs[0].overlay
		w.at = next
	} else {
		overlay = int16(l.overlays[0])
		if !m.step(s, overlay, from, to, false, w) {
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
		if !m.step(s, overlay, at, to, n.place[before] >= 0, w) {
			return
		}
		before = at
	}
	w.ok = true
}

// take takes the first way that is alive.
func (m *Model) take(s *state, ways []route.Way, w *way) (next int, ok bool) {
	for i := range ways {
		if c := m.from(s, w.held, ways[i].Overlay, ways[i].Adjacency, w.at); c.tunnel >= 0 {
			if c.dead {
				return w.at, false
			}
			w.legs[w.n] = leg{int32(ways[i].Adjacency), int16(ways[i].Overlay), c}
			w.n++
			return ways[i].Via, true
		}
	}
	return w.at, false
}

// step takes a walk one tunnel on. It reports false where the packet ends.
func (m *Model) step(s *state, overlay int16, at, to int, fromHub bool, w *way) bool {
	n := &m.nets[overlay]
	if n.told && !fromHub {
		if next, ok := m.steer(s, overlay, at, to, w); ok {
			w.at = next
			return true
		}
	}
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
		next, ok := m.take(s, ways, w)
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
		if c := m.from(s, w.held, int(overlay), int(adjacency), at); c.tunnel >= 0 {
			if c.dead {
				return false
			}
			w.legs[w.n] = leg{adjacency, overlay, c}
			w.n++
			w.at = next
			return true
		}
	}
	return false
}

// backOf finds the way back while nothing fails: the way there reversed, but
// for pins.
func (m *Model) backOf(there *way, l *lane, from, to int, back *way) {
	if !m.mirrored {
		m.walk(m.none(), l, from, to, back)
		return
	}
	back.n, back.ok, back.tied, back.at, back.held = there.n, there.ok, there.tied, to, there.held
	for k := range there.n {
		back.legs[k] = there.legs[there.n-1-k]
	}
}

// A flowPart is a tunnel of a leg: the links at its ends, by number, and what part
// of the flows takes it.
type flowPart struct {
	links  [2]int32
	of     float64
	tunnel int // in its adjacency
}

// parts lists the tunnels of a leg, in the room given where there is enough.
func (m *Model) parts(l leg, room []flowPart) []flowPart {
	n := &m.nets[l.overlay]
	start := n.start[l.adjacency] + int32(l.tunnel)
	if l.beside == 0 {
		return append(room[:0], flowPart{n.ends[start], 1, int(l.tunnel)})
	}
	tunnels := n.overlay.Adjacencies[l.adjacency].Tunnels
	out := room[:0]
	total := 0.0
	for k, beside := 0, uint64(l.beside)<<1|1; beside != 0; k, beside = k+1, beside>>1 {
		if beside&1 != 0 {
			weight := float64(tunnels[int(l.tunnel)+k].Weight)
			total += weight
			out = append(out, flowPart{n.ends[start+int32(k)], weight, int(l.tunnel) + k})
		}
	}
	for i := range out {
		out[i].of /= total
	}
	return out
}

// none is the state in which nothing has failed.
func (m *Model) none() *state { return &m.base.none }
