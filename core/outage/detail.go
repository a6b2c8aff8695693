package outage

import (
	"cmp"
	"math/bits"
	"net/netip"
	"slices"
	"sort"
)

// A Detail is what one failure does, and how.
type Detail struct {
	Outcome
	Another   int        // pairs of sites that take another way, whether they fit there or not
	Takeovers []Takeover // those that concern most pairs first
	Lost      []LostPair // the first of the pairs that lose something
	Lines     []Line     // links and gateways with another load than before
}

// A Takeover is a tunnel of a site that stands in for another. From is nil for
// a site that was not reached before, To nil for one that is no longer.
type Takeover struct {
	Site     int
	From, To *Stretch
	Pairs    int // pairs of sites that it concerns
}

// A Stretch is a tunnel as the first on the way.
type Stretch struct {
	Overlay string
	Tunnel  string // as estate.TunnelIdent writes it
	Link    string // at the site
	Via     int    // the site at its far end
	ViaLink string // and the link there
	Rank    int    // among the tunnels of the two sites, from 1
	Cost    int    // of the two sites' adjacency
	Beside  []Beside
	Beyond  bool // the limits to which the traffic is held
}

// Beside is a tunnel between the same sites that shares the load with another.
type Beside struct {
	Tunnel  string `json:"tunnel"`
	Link    string `json:"link"`
	ViaLink string `json:"via_link"`
}

// A LostPair is two sites that no longer reach each other, or Partly: of which
// some subnets no longer do. At is the site where the packets end.
type LostPair struct {
	A, B, At int
	Partly   bool
	Subnets  [][2]netip.Prefix // of those that are lost partly: the first subnets of A and B, two by two
}

// A Line is a link, or with Link -1 a gateway, and its load in Mbit/s. Shed
// says what gives way where the load does not fit.
type Line struct {
	Site, Link              int
	Before, After, Capacity float64
	Dead                    bool
	Shed                    []Shed
}

// A Shed is the part of a zone's load that a line has no room for, in Mbit/s.
type Shed struct {
	Zone string  `json:"zone"`
	Mbps float64 `json:"mbps"`
}

// maxLost bounds the list of lost pairs; their number is in the outcome.
const maxLost = 500

// maxSubnets bounds the list of subnets of one of them.
const maxSubnets = 20

// Explain evaluates the failure of all the parts at once and tells how it comes
// about. It errs when the estate has no such part.
func (m *Model) Explain(parts ...Part) (*Detail, error) {
	f, err := m.failing(parts)
	if err != nil {
		return nil, err
	}
	d := &Detail{Outcome: m.bench().run(&f)}
	b := m.bench()
	b.fail(&f)
	b.touch(&f)
	c := changes{pairs: map[legChange]int{}, mine: map[legChange]bool{}}
	b.pairs(b.list, b.touched, b.direct, func(i, j int) {
		if !m.stranded[pairKey(i, j)] {
			m.explain(b, i, j, d, &c)
		}
	})
	d.Takeovers = m.takeovers(&c)
	m.lines(b, d)
	return d, nil
}

// explain notes what a failure does to one pair of sites.
func (m *Model) explain(b *bench, i, j int, d *Detail, changes *changes) {
	var out Outcome
	b.pair(i, j, &out)
	lanes := m.lanesOf(i, j)
	lost := make([]passage, len(lanes))
	at := -1
	another := false
	for k := range lanes {
		c := b.course(i, j, &lanes[k])
		was, now := m.passes(&lanes[k], c)
		if was == 0 {
			continue
		}
		another = another || c.moved && now != 0
		if lost[k] = was &^ now; lost[k] != 0 && at < 0 {
			if at = c.now.at; c.now.ok {
				at = c.nowBack.at
			}
		}
		if b.state.gone[i] || b.state.gone[j] {
			continue // nothing can take over where one end is gone
		}
		there := c.now
		there.ok = now != 0
		if !there.ok || c.worse || b.moves(i, &c.was, &there, true) {
			changes.note(i, &c.was, &there, true)
		}
		if !there.ok || c.worse || b.moves(j, &c.was, &there, false) {
			changes.note(j, &c.was, &there, false)
		}
	}
	changes.count()
	if another {
		d.Another++
	}
	if at >= 0 && len(d.Lost) < maxLost {
		p := LostPair{A: i, B: j, At: at, Partly: out.Cut == 0}
		if p.Partly {
			p.Subnets = m.within(i, j, lost, maxSubnets)
		}
		d.Lost = append(d.Lost, p)
	}
}

// A legChange is one leg that another takes the place of, as a site sees it.
type legChange struct {
	site     int
	from, to leg
	had, has bool
}

// changes counts for how many pairs of sites each change is made.
type changes struct {
	pairs map[legChange]int
	mine  map[legChange]bool // of the pair looked at
}

// note compares the first, or last, leg of two ways of a pair.
func (c *changes) note(site int, was, now *way, first bool) {
	one := legChange{site: site, had: was.n > 0, has: now.ok}
	at := func(w *way) leg {
		if first {
			return w.legs[0]
		}
		return w.legs[w.n-1]
	}
	if one.had {
		one.from = at(was)
	}
	if one.has {
		one.to = at(now)
	}
	if one.from != one.to || one.had != one.has {
		c.mine[one] = true
	}
}

// count ends the look at a pair.
func (c *changes) count() {
	for one := range c.mine {
		c.pairs[one]++
	}
	clear(c.mine)
}

// takeovers lists changes, those of most pairs first.
func (m *Model) takeovers(c *changes) []Takeover {
	var out []Takeover
	for one, n := range c.pairs {
		t := Takeover{Site: one.site, Pairs: n}
		if one.had {
			t.From = m.stretch(one.site, one.from)
		}
		if one.has {
			t.To = m.stretch(one.site, one.to)
		}
		out = append(out, t)
	}
	name := func(s *Stretch) string {
		if s == nil {
			return ""
		}
		return s.Tunnel + " " + s.Overlay
	}
	sort.Slice(out, func(i, j int) bool {
		x, y := &out[i], &out[j]
		return cmp.Or(y.Pairs-x.Pairs, x.Site-y.Site, cmp.Compare(name(x.From), name(y.From)), cmp.Compare(name(x.To), name(y.To))) < 0
	})
	return out
}

func (m *Model) stretch(site int, l leg) *Stretch {
	a := &m.nets[l.overlay].overlay.Adjacencies[l.adjacency]
	out := &Stretch{Overlay: m.nets[l.overlay].overlay.Spec.Key, Via: a.A + a.B - site, Rank: int(l.tunnel) + 1, Cost: a.Cost, Beyond: l.beyond}
	for i, p := range m.parts(l, nil) {
		t := &a.Tunnels[p.tunnel]
		near, far := &t.A, &t.B
		if near.Site != site {
			near, far = far, near
		}
		if i == 0 {
			out.Tunnel, out.Link, out.ViaLink = m.Plan.Ident(t), m.Plan.Link(near).Key, m.Plan.Link(far).Key
		} else {
			out.Beside = append(out.Beside, Beside{m.Plan.Ident(t), m.Plan.Link(near).Key, m.Plan.Link(far).Key})
		}
	}
	return out
}

// lines lists what carries another load, the fullest first.
func (m *Model) lines(b *bench, d *Detail) {
	for _, l := range b.logL {
		line := Line{m.sites[l], l - m.links[m.sites[l]], m.base.link[l], b.load.link[l], m.capacity[l], b.state.dead[l], nil}
		if line.After-line.Before > tiny || line.Before-line.After > tiny {
			d.Lines = append(d.Lines, line)
		}
	}
	for _, g := range b.logG {
		line := Line{g, -1, m.base.gate[g], b.load.gate[g], m.through[g], b.state.gone[g], nil}
		if line.After-line.Before > tiny || line.Before-line.After > tiny {
			d.Lines = append(d.Lines, line)
		}
	}
	for i := range d.Lines {
		if l := &d.Lines[i]; l.Capacity > 0 && l.After > l.Capacity*slack {
			l.Shed = m.shed(b, l)
		}
	}
	fill := func(l *Line) float64 {
		if l.Capacity == 0 {
			return 0
		}
		return l.After / l.Capacity
	}
	slices.SortFunc(d.Lines, func(x, y Line) int {
		return cmp.Or(cmp.Compare(fill(&y), fill(&x)), cmp.Compare(y.After, x.After), x.Site-y.Site, x.Link-y.Link)
	})
}

// shed says which zones give way on a line and by how much, in the estate's
// order; zones without a place in it give way last, each by the same part.
func (m *Model) shed(b *bench, line *Line) []Shed {
	load := m.loadByZone(b, line)
	excess := line.After - line.Capacity
	var out []Shed
	listed := make([]bool, len(m.zones))
	for _, zone := range m.Plan.Estate.About.Shed {
		z := slices.Index(m.zones, zone)
		if z < 0 || listed[z] {
			continue
		}
		listed[z] = true
		if give := min(excess, load[z]); give > tiny {
			out = append(out, Shed{zone, give})
			excess -= give
		}
	}
	rest := 0.0
	for z, mbps := range load {
		if !listed[z] {
			rest += mbps
		}
	}
	for z, mbps := range load {
		if !listed[z] && excess > tiny && mbps > tiny {
			out = append(out, Shed{cmp.Or(m.zones[z], "no zone"), mbps * min(1, excess/rest)})
		}
	}
	return out
}

// loadByZone is what a line carries of each zone, in Mbit/s.
func (m *Model) loadByZone(b *bench, line *Line) []float64 {
	load := make([]float64, len(m.zones))
	in := make([]bool, len(m.Plan.Estate.Sites))
	sites := []int{line.Site}
	in[line.Site] = true
	for i := range m.nets {
		if m.nets[i].place[line.Site] < 0 {
			continue
		}
		for _, s := range m.sharing[i] { // a hub carries what others send each other
			if !in[s] {
				in[s] = true
				sites = append(sites, s)
			}
		}
	}
	b.pairs(sites, in, nil, func(i, j int) {
		lanes := m.lanesOf(i, j)
		for k := range lanes {
			l := &lanes[k]
			c := b.course(i, j, l)
			_, pass := m.passes(l, c)
			crossings := 0.0
			if pass != 0 {
				crossings = m.crossings(&c.now, line)
			}
			if crossings == 0 {
				continue
			}
			zones := m.siteZone[i] | m.siteZone[j]
			if m.narrowed {
				zones = l.through(pass)
			}
			each := crossings * m.flow(i, j) * l.weight * l.partOf(pass) / float64(max(1, bits.OnesCount64(zones)))
			for z := range m.zones {
				if zones&(1<<min(z, 63)) != 0 {
					load[z] += each
				}
			}
		}
	})
	return load
}

// crossings is how often a way goes through a line, parts of its flows counted
// as such.
func (m *Model) crossings(w *way, line *Line) float64 {
	n := 0.0
	var room [2]flowPart
	for k := range w.n {
		for _, p := range m.parts(w.legs[k], room[:]) {
			for _, l := range p.links {
				if m.sites[l] == line.Site && (line.Link < 0 || int(l) == m.links[line.Site]+line.Link) {
					n += p.of
				}
			}
		}
	}
	return n
}

// Crowded lists the links and gateways that have more to carry than they can
// while nothing fails.
func (m *Model) Crowded() []Over {
	var out []Over
	for l, load := range m.base.link {
		if c := m.capacity[l]; c > 0 && load > c*slack {
			out = append(out, Over{m.sites[l], l - m.links[m.sites[l]], load, load, c})
		}
	}
	for g, load := range m.base.gate {
		if c := m.through[g]; c > 0 && load > c*slack {
			out = append(out, Over{g, -1, load, load, c})
		}
	}
	return out
}
