package outage

import (
	"cmp"
	"slices"

	"wideknot/core/tunnel"
)

// A bench is what one evaluation works with; it is used again for the next, so
// that a failure costs what it touches.
type bench struct {
	m     *Model
	state state
	load  loads
	logL  []int // links whose load differs from the base
	logG  []int
	seenL []bool
	seenG []bool

	hit     []tunnel.End // adjacencies whose choice differs
	touched []bool
	list    []int // touched sites
	direct  [][2]int
	fallen  []fallen
	lost    []int // pairs cut, by site
	tally   []SiteOutcome
	met     []bool
	changed []int // sites with a tally
	quiet   bool  // nobody but the dead is touched: no load grows
	over    []bool
	overG   []bool
	shut    int // the site of the link that keeps a pair's zone off, -1 for none

	courses courses
}

// fallen is a pair that is cut.
type fallen struct{ a, b int }

func (m *Model) bench() *bench {
	sites := len(m.Plan.Estate.Sites)
	return &bench{
		shut: -1, m: m, courses: m.kinds.courses(), state: m.newState(), load: m.base.clone(),
		seenL: make([]bool, len(m.sites)), seenG: make([]bool, sites), touched: make([]bool, sites),
		lost: make([]int, sites), met: make([]bool, sites), tally: make([]SiteOutcome, sites), over: make([]bool, len(m.sites)), overG: make([]bool, sites),
	}
}

// fail marks what is dead.
func (b *bench) fail(f *set) {
	for _, l := range f.links {
		b.state.dead[l] = true
	}
	for _, g := range f.gates {
		b.state.gone[g] = true
		for l := b.m.links[g]; l < b.m.links[g+1]; l++ {
			b.state.dead[l] = true
		}
	}
	for _, l := range f.slow {
		b.state.slow[l] = true
	}
	for _, l := range f.lossy {
		b.state.lossy[l] = true
	}
}

// touch finds the pairs whose way can differ. Only the death of a first tunnel,
// or of one that shares its load, moves anyone; spokes carry nobody else's traffic, so what joins a spoke to a hub
// matters to the spoke's pairs alone.
func (b *bench) touch(f *set) {
	m := b.m
	mark := func(site int) {
		if !b.touched[site] {
			b.touched[site] = true
			b.list = append(b.list, site)
		}
	}
	at := func(site int) {
		for _, e := range m.Plan.Ends(site) {
			n := &m.nets[e.Overlay]
			a := &n.overlay.Adjacencies[e.Adjacency]
			if e.Tunnel != 0 || b.differs(e) {
				continue // the first tunnel stands for its adjacency, once
			}
			b.state.first[e.Overlay][e.Adjacency] = m.choose(&b.state, a)
			if n.limits != nil {
				b.state.held[e.Overlay][e.Adjacency] = m.chooseHeld(&b.state, e.Overlay, e.Adjacency)
			}
			if !b.differs(e) {
				continue
			}
			b.hit = append(b.hit, e)
			hubA, hubB := n.place[a.A] >= 0, n.place[a.B] >= 0
			switch {
			case hubA && hubB:
				for _, s := range m.sharing[e.Overlay] {
					mark(s)
				}
			case hubB:
				mark(a.A)
			case hubA:
				mark(a.B)
			default:
				b.direct = append(b.direct, [2]int{min(a.A, a.B), max(a.A, a.B)})
			}
		}
	}
	for _, links := range [][]int{f.links, f.slow, f.lossy} {
		for i, l := range links {
			if i == 0 || m.sites[links[i-1]] != m.sites[l] {
				at(m.sites[l])
			}
		}
	}
	for _, g := range f.gates {
		mark(g)
		at(g)
	}
	b.sort()
}

// differs reports whether an adjacency carries its traffic by other tunnels than while
// nothing fails.
func (b *bench) differs(e tunnel.End) bool {
	none := b.m.none()
	return b.state.first[e.Overlay][e.Adjacency] != none.first[e.Overlay][e.Adjacency] ||
		none.held[e.Overlay] != nil && b.state.held[e.Overlay][e.Adjacency] != none.held[e.Overlay][e.Adjacency]
}

// pairs visits each pair with traffic that has a touched site, once, and the
// direct pairs.
func (b *bench) pairs(sites []int, in []bool, direct [][2]int, visit func(i, j int)) {
	m := b.m
	for _, i := range sites {
		for _, o := range m.overlays[i] {
			for _, j := range m.sharing[o] {
				if i == j || in[j] && j < i {
					continue
				}
				if len(m.overlays[i]) > 1 && len(m.overlays[j]) > 1 && m.firstCommon(i, j) != o {
					continue // another overlay joins the two too, and has visited them
				}
				if m.lanesOf(i, j) != nil {
					visit(min(i, j), max(i, j))
				}
			}
		}
	}
	slices.SortFunc(direct, func(a, b [2]int) int { return cmp.Or(a[0]-b[0], a[1]-b[1]) })
	for k, d := range direct {
		if k > 0 && direct[k-1] == d || in[d[0]] || in[d[1]] || m.lanesOf(d[0], d[1]) == nil {
			continue
		}
		visit(d[0], d[1])
	}
}

func (b *bench) at(site int) *SiteOutcome {
	if !b.met[site] {
		b.met[site] = true
		b.tally[site] = SiteOutcome{Site: site}
		b.changed = append(b.changed, site)
	}
	return &b.tally[site]
}

// run evaluates one failure.
func (b *bench) run(f *set) Outcome {
	m := b.m
	b.fail(f)
	b.touch(f)
	b.quiet = len(b.direct) == 0
	for _, s := range b.list {
		b.quiet = b.quiet && b.state.gone[s]
	}
	out := Outcome{Parts: f.parts}
	b.pairs(b.list, b.touched, b.direct, func(i, j int) { b.pair(i, j, &out) })
	b.squeeze(&out)
	isolated := func(site int) bool {
		return b.state.gone[site] || b.lost[site] > 0 && b.lost[site] >= m.base.partners[site]
	}
	for _, p := range b.fallen {
		x, y := isolated(p.a), isolated(p.b)
		if x || !y {
			b.at(p.a).Cut++
		}
		if y || !x {
			b.at(p.b).Cut++
		}
	}
	for _, g := range f.gates {
		b.at(g).Verdict = Cut
	}
	for _, site := range b.changed {
		t := b.tally[site]
		switch {
		case t.Cut > 0 || t.Verdict == Cut:
			t.Verdict = Cut
			if !b.state.gone[site] {
				out.Lost++
			}
		case t.Squeezed > 0:
			t.Verdict = Squeezed
		default:
			t.Verdict = Moved
		}
		if isolated(site) {
			out.Isolated++
		}
		out.Sites = append(out.Sites, t)
	}
	slices.SortFunc(out.Sites, func(a, b SiteOutcome) int { return a.Site - b.Site })
	b.reset(f)
	return out
}

// pair judges one pair and moves its load.
func (b *bench) pair(i, j int, out *Outcome) {
	m := b.m
	if len(m.stranded) > 0 && m.stranded[pairKey(i, j)] {
		return
	}
	if b.quiet {
		b.lose(i, j, out)
		return
	}
	f := b.fortune(i, j, nil, func(l *lane, c *course, was, now passage) {
		if !c.moved {
			return
		}
		flow := m.flow(i, j) * l.weight
		b.carry(&c.was, -flow*l.partOf(was))
		if now != 0 {
			b.carry(&c.now, flow*l.partOf(now))
		}
		if m.narrowed && was&^now != 0 && b.shut < 0 {
			b.shut = b.first(&c.now, func(l int32) bool { return m.linkZone[l] != ^uint64(0) })
		}
	})
	at := b.shut
	b.shut = -1
	switch {
	case !f.now:
		b.lose(i, j, out)
	case f.lost || f.beyond >= 0:
		if f.beyond >= 0 {
			out.Beyond++
		}
		if !f.lost {
			at = f.beyond
		}
		out.Squeezed++
		b.blame(at, i, j)
	case f.moved:
		out.Moved++
		if f.atA {
			b.at(i).Moved++
		}
		if f.atB {
			b.at(j).Moved++
		}
	}
}

// lose counts a pair that is cut.
func (b *bench) lose(i, j int, out *Outcome) {
	out.Cut++
	b.lost[i]++
	b.lost[j]++
	b.fallen = append(b.fallen, fallen{i, j})
}

// blame counts a squeezed pair for the one of its sites where it is narrow, or
// for both when it is narrow elsewhere.
func (b *bench) blame(at, i, j int) {
	if at == i || at == j {
		b.at(at).Squeezed++
		return
	}
	b.at(i).Squeezed++
	b.at(j).Squeezed++
}

// moves reports whether a walk moved at one of its ends: the first leg or the
// last differs, and not only because a hub's spoke lost its side of it.
func (b *bench) moves(site int, was, now *way, first bool) bool {
	if was.n == 0 || now.n == 0 {
		return false
	}
	x, y := was.legs[0], now.legs[0]
	if !first {
		x, y = was.legs[was.n-1], now.legs[now.n-1]
	}
	if x.same(y) {
		return false
	}
	if b.m.nets[x.overlay].place[site] < 0 {
		return true
	}
	var room [2]flowPart
	return slices.ContainsFunc(b.m.parts(x, room[:]), func(p flowPart) bool {
		near, far := p.links[0], p.links[1]
		if b.m.sites[near] != site {
			near, far = far, near
		}
		return b.state.dead[near] || b.m.nets[x.overlay].place[b.m.sites[far]] >= 0
	})
}

// squeeze finds the links and gateways with more than they can carry, and the
// pairs that cross them.
func (b *bench) squeeze(out *Outcome) {
	m := b.m
	for _, l := range b.logL {
		if c := m.capacity[l]; c > 0 && b.load.link[l] > c*slack && b.load.link[l] > m.base.link[l]+tiny {
			b.over[l] = true
			out.Over = append(out.Over, Over{m.sites[l], l - m.links[m.sites[l]], m.base.link[l], b.load.link[l], c})
		}
	}
	for _, g := range b.logG {
		if c := m.through[g]; c > 0 && b.load.gate[g] > c*slack && b.load.gate[g] > m.base.gate[g]+tiny {
			b.overG[g] = true
			out.Over = append(out.Over, Over{g, -1, m.base.gate[g], b.load.gate[g], c})
		}
	}
	if len(out.Over) == 0 {
		return
	}
	slices.SortFunc(out.Over, func(a, b Over) int { return cmp.Or(a.Site-b.Site, a.Link-b.Link) })
	in := make([]bool, len(m.Plan.Estate.Sites))
	var sites []int
	for _, o := range out.Over {
		if in[o.Site] {
			continue
		}
		in[o.Site] = true
		for i := range m.nets {
			if m.nets[i].place[o.Site] >= 0 { // anyone may come by it
				for _, s := range m.sharing[i] {
					in[s] = true
				}
			}
		}
	}
	for site, yes := range in {
		if yes {
			sites = append(sites, site)
		}
	}
	full := func(l int32) bool { return b.over[l] || b.overG[m.sites[l]] }
	b.pairs(sites, in, nil, func(i, j int) {
		if len(m.stranded) > 0 && m.stranded[pairKey(i, j)] {
			return
		}
		f := b.fortune(i, j, full, nil)
		if f.full < 0 || f.lost || f.beyond >= 0 { // what lost something is counted already
			return
		}
		if f.moved {
			out.Moved--
		}
		out.Squeezed++
		b.blame(f.full, i, j)
	})
}

// first returns the site of the first link on a walk that is narrow, or -1.
func (b *bench) first(w *way, narrow func(link int32) bool) int {
	var room [2]flowPart
	for k := range w.n {
		for _, p := range b.m.parts(w.legs[k], room[:]) {
			for _, l := range p.links {
				if narrow(l) {
					return b.m.sites[l]
				}
			}
		}
	}
	return -1
}

// reset makes the bench ready for the next failure.
func (b *bench) reset(f *set) {
	m := b.m
	for _, l := range f.links {
		b.state.dead[l] = false
	}
	for _, g := range f.gates {
		b.state.gone[g] = false
		for l := m.links[g]; l < m.links[g+1]; l++ {
			b.state.dead[l] = false
		}
	}
	for _, l := range f.slow {
		b.state.slow[l] = false
	}
	for _, l := range f.lossy {
		b.state.lossy[l] = false
	}
	for _, e := range b.hit {
		b.state.first[e.Overlay][e.Adjacency] = m.none().first[e.Overlay][e.Adjacency]
		if m.none().held[e.Overlay] != nil {
			b.state.held[e.Overlay][e.Adjacency] = m.none().held[e.Overlay][e.Adjacency]
		}
	}
	for _, l := range b.logL {
		b.load.link[l], b.seenL[l], b.over[l] = m.base.link[l], false, false
	}
	for _, g := range b.logG {
		b.load.gate[g], b.seenG[g], b.overG[g] = m.base.gate[g], false, false
	}
	for _, s := range b.list {
		b.touched[s] = false
	}
	for _, p := range b.fallen {
		b.lost[p.a], b.lost[p.b] = 0, 0
	}
	for _, s := range b.changed {
		b.met[s] = false
	}
	b.forget()
	b.hit, b.logL, b.logG, b.list, b.direct, b.fallen, b.changed = b.hit[:0], b.logL[:0], b.logG[:0], b.list[:0], b.direct[:0], b.fallen[:0], b.changed[:0]
}
