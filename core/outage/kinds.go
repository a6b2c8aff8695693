package outage

import (
	"encoding/binary"
	"slices"
)

// A course is the way between two sites while nothing fails and in the state of
// a bench, seen from the first of them.
type course struct {
	was, now         way
	wasBack, nowBack way  // the ways back; wasBack where it is not was reversed, nowBack where it moved
	moved            bool // the way there or the way back differs
	worse            bool // it goes by a tunnel beyond the limits, and did not
	ok               bool // both directions arrive now
	atA, atB         bool // it moves at its ends, not only in between
}

// course follows a pair in both states. What it returns holds until the next
// call. Pairs of sites of the same two kinds are followed once.
func (b *bench) course(i, j int, l *lane) *course {
	m, k := b.m, &b.courses
	x, y := k.of[i], k.of[j]
	if x < 0 || y < 0 || k.count > maxKinds || m.odd[i] && m.odd[j] {
		b.follow(i, j, l, &k.single)
		return &k.single
	}
	at := &k.known[(int(x)*k.count+int(y))*2+boolInt(l.held != 0)]
	if *at == 0 {
		k.list = append(k.list, fitting{})
		*at = int32(len(k.list))
		c := &k.list[*at-1]
		b.follow(i, j, l, &c.course)
		n := &m.nets[m.overlays[i][0]]
		c.fits = m.fits(n, i, j) && !c.was.tied && !c.now.tied && !c.wasBack.tied && !c.nowBack.tied
		if c.fits {
			c.wasBy, c.nowBy, c.backBy = n.outer(&c.was), n.outer(&c.now), n.outer(&c.nowBack)
		}
		return &c.course
	}
	c := &k.list[*at-1]
	if !c.fits {
		b.follow(i, j, l, &k.single)
		return &k.single
	}
	n := &m.nets[m.overlays[i][0]]
	n.fit(&c.was, c.wasBy, i, j)
	if c.ok {
		n.fit(&c.now, c.nowBy, i, j)
		if c.moved && m.narrowed { // else nothing asks for its tunnels
			n.fit(&c.nowBack, c.backBy, j, i)
		}
	}
	return &c.course
}

// follow walks a pair in both states.
func (b *bench) follow(i, j int, l *lane, c *course) {
	m := b.m
	m.walk(m.none(), l, i, j, &c.was)
	m.walk(&b.state, l, i, j, &c.now)
	c.atA, c.atB = false, false
	c.moved, c.ok = !c.now.same(&c.was), c.now.ok
	c.worse = c.now.exceeds() && !c.was.exceeds()
	if m.mirrored && !c.moved {
		return // all its tunnels are alive, and the way back takes the same
	}
	m.backOf(&c.was, l, j, i, &c.wasBack)
	if c.now.ok {
		m.walk(&b.state, l, j, i, &c.nowBack)
		c.ok = c.nowBack.ok
		c.moved = c.moved || !c.nowBack.same(&c.wasBack)
		c.worse = c.worse || c.nowBack.exceeds() && !c.wasBack.exceeds()
		c.atA = b.moves(i, &c.was, &c.now, true) || b.moves(i, &c.wasBack, &c.nowBack, false)
		c.atB = b.moves(j, &c.was, &c.now, false) || b.moves(j, &c.wasBack, &c.nowBack, true)
	}
}

// passes says which cells of a lane pass on a course, there and back, while
// nothing fails and now.
func (m *Model) passes(l *lane, c *course) (was, now passage) {
	if l.open && m.mirrored {
		if c.was.ok {
			was = l.all
		}
		if c.ok {
			now = l.all
		}
		return was, now
	}
	was = m.pass(l, &c.was, false)
	if !m.mirrored {
		was &= m.pass(l, &c.wasBack, true)
	}
	switch {
	case !c.moved:
		return was, was
	case c.ok:
		now = m.pass(l, &c.now, false) & m.pass(l, &c.nowBack, true)
	}
	return was, now
}

// A fortune is what a failure does to a pair, all its lanes together.
type fortune struct {
	was, now bool // something reached the other, and does
	lost     bool // something that did does no more
	moved    bool
	atA, atB bool // it moves at its ends, not only in between
	full     int  // the first site where a lane is narrow, -1 for none
	beyond   int  // the first site where a lane leaves the limits to which it is held, -1 for none
}

// fortune sums the lanes of a pair up. narrow may be nil.
func (b *bench) fortune(i, j int, narrow func(link int32) bool, visit func(l *lane, c *course, was, now passage)) (out fortune) {
	m := b.m
	out.full, out.beyond = -1, -1
	lanes := m.lanesOf(i, j)
	for k := range lanes {
		l := &lanes[k]
		c := b.course(i, j, l)
		was, now := m.passes(l, c)
		if visit != nil {
			visit(l, c, was, now)
		}
		out.was, out.now, out.lost = out.was || was != 0, out.now || now != 0, out.lost || was&^now != 0
		if now == 0 {
			continue
		}
		if narrow != nil && out.full < 0 {
			out.full = b.first(&c.now, narrow)
		}
		if out.beyond < 0 && c.worse && was != 0 {
			out.beyond = b.first(&c.now, func(l int32) bool { return b.state.slow[l] || b.state.lossy[l] })
			if out.beyond < 0 {
				out.beyond = i
			}
		}
		if c.moved && was != 0 {
			out.moved, out.atA, out.atB = true, out.atA || c.atA, out.atB || c.atB
		}
	}
	return out
}

// exceeds reports whether a walk goes by a tunnel beyond the limits to which it is held.
func (w *way) exceeds() bool {
	return slices.ContainsFunc(w.legs[:w.n], func(l leg) bool { return l.beyond })
}

// kinds sorts the sites that are no hubs: those of one kind are at equal costs
// from the same hubs, and their tunnels there are of equal ranks, before a
// failure and in it. So their ways differ only in whose tunnels they take.
type kinds struct {
	of     []int32 // site → its kind while nothing fails, -1 for none
	number map[string]int32
}

// maxKinds bounds the table of courses.
const maxKinds = 256

// courses are those a bench has followed in its state.
type courses struct {
	of     []int32 // site → its kind in the state
	fresh  map[string]int32
	moved  []int // sites whose kind differs from that while nothing fails
	count  int
	known  []int32 // kind, kind and whether it is held to limits → place in list, from 1
	list   []fitting
	single course
	id     []byte
}

// A fitting is a course that fits all pairs of its two kinds, once their own
// adjacencies are put in. It fits none but its first pair where ways hang on
// more than the kinds.
type fitting struct {
	course
	fits bool
	// The places of the first and the last hub on the ways.
	wasBy, nowBy, backBy [2]int32
}

func (k *kinds) courses() courses {
	return courses{of: append([]int32(nil), k.of...), fresh: map[string]int32{}}
}

// sortSites numbers the kinds that there are while nothing fails.
func (m *Model) sortSites() kinds {
	k := kinds{of: make([]int32, len(m.Plan.Estate.Sites)), number: map[string]int32{}}
	none := m.newState()
	var id []byte
	for site := range k.of {
		k.of[site] = -1
		if len(m.overlays[site]) != 1 || !m.mirrored || m.nets[m.overlays[site][0]].place[site] >= 0 {
			continue
		}
		id = m.kindOf(site, &none, &none, id)
		number, known := k.number[string(id)]
		if !known {
			number = int32(len(k.number))
			k.number[string(id)] = number
		}
		k.of[site] = number
	}
	return k
}

// kindOf writes down what makes a site's kind: its class and, for each hub, the
// choices of their adjacency in both states.
func (m *Model) kindOf(site int, none, s *state, id []byte) []byte {
	o := m.overlays[site][0]
	n := &m.nets[o]
	id = binary.AppendUvarint(id[:0], uint64(o))
	id = binary.AppendVarint(id, int64(n.class[site]))
	for at := range n.hubs {
		a := *n.joins(site, int32(at))
		if a < 0 {
			continue // of all the class
		}
		if m.nets[o].overlay.Adjacencies[a].A == site {
			id = append(id, 'A')
		}
		all := []*choices{&none.first[o][a], &s.first[o][a]}
		if n.limits != nil {
			all = append(all, &none.held[o][a], &s.held[o][a])
		}
		for _, both := range all {
			for _, c := range both {
				id = binary.AppendVarint(id, int64(c.tunnel))
				id = binary.AppendUvarint(id, uint64(c.beside)<<2|uint64(boolInt(c.dead)<<1|boolInt(c.beyond)))
			}
		}
	}
	return id
}

// sort finds the kinds of those sites that a failure hits.
func (b *bench) sort() {
	m, k := b.m, &b.courses
	for _, e := range b.hit {
		a := &m.nets[e.Overlay].overlay.Adjacencies[e.Adjacency]
		for _, site := range [2]int{a.A, a.B} {
			if m.kinds.of[site] < 0 || m.overlays[site][0] != e.Overlay {
				continue
			}
			k.id = m.kindOf(site, m.none(), &b.state, k.id)
			number, known := k.fresh[string(k.id)]
			if !known {
				number = int32(len(m.kinds.number) + len(k.fresh))
				k.fresh[string(k.id)] = number
			}
			k.of[site] = number
			k.moved = append(k.moved, site)
		}
	}
	k.count = len(m.kinds.number) + len(k.fresh)
	if k.count > maxKinds {
		return
	}
	if len(k.known) < 2*k.count*k.count {
		k.known = make([]int32, 2*k.count*k.count)
	}
}

// forget makes the courses ready for the next state.
func (b *bench) forget() {
	k := &b.courses
	for _, site := range k.moved {
		k.of[site] = b.m.kinds.of[site]
	}
	if k.count <= maxKinds {
		clear(k.known[:2*k.count*k.count])
	}
	clear(k.fresh)
	k.moved, k.list, k.count = k.moved[:0], k.list[:0], 0
}

// fits reports whether the ways between two sites hang on nothing but their
// kinds, wherever they lead.
func (m *Model) fits(n *net, i, j int) bool {
	x, y := int(n.class[i]), int(n.class[j])
	if n.ways[x*n.classes+y] == nil || n.ways[y*n.classes+x] == nil {
		return false
	}
	for at, h := range n.hubs {
		c := int(n.class[h])
		if n.ways[c*n.classes+x] == nil || n.ways[c*n.classes+y] == nil || n.onward[at*n.classes+x] == nil || n.onward[at*n.classes+y] == nil {
			return false
		}
	}
	return true
}

// outer finds the first and the last hub on a way between sites that are none.
func (n *net) outer(w *way) (places [2]int32) {
	if !w.ok {
		return places
	}
	for end, l := range [2]leg{w.legs[0], w.legs[w.n-1]} {
		a := &n.overlay.Adjacencies[l.adjacency]
		places[end] = max(n.place[a.A], n.place[a.B])
	}
	return places
}

// fit puts the adjacencies of another pair into a way between two kinds.
func (n *net) fit(w *way, by [2]int32, i, j int) {
	if w.n == 0 {
		return
	}
	w.legs[0].adjacency = *n.joins(i, by[0])
	w.legs[w.n-1].adjacency = *n.joins(j, by[1])
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}
