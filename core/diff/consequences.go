package diff

import (
	"math/bits"
	"slices"

	"wideknot/core/check"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// A State is a derivation with its findings.
type State struct {
	Routes   *route.Map
	Findings []check.Finding
}

// A Pair is two sites, in key order.
type Pair struct {
	A string `json:"a"`
	B string `json:"b"`
}

// Consequences says what a change does and to whom. The lists of moves and
// pairs are cut at Most entries; the counts are whole.
type Consequences struct {
	Sites        Set             `json:"sites"`
	Overlays     Set             `json:"overlays"`
	Tunnels      Set             `json:"tunnels"`
	Moved        int             `json:"moved"` // routes
	Moves        []Move          `json:"moves"`
	MovedAt      int             `json:"moved_at"` // sites
	Touched      []string        `json:"touched"`  // sites whose tunnels or routes differ
	FindingsNew  []check.Finding `json:"findings_new"`
	FindingsGone []check.Finding `json:"findings_gone"`
	CutPairs     int             `json:"cut_pairs"` // could exchange traffic before, and cannot now
	Cut          []Pair          `json:"cut"`
	CutOff       []string        `json:"cut_off"`      // sites that can reach nobody any more
	JoinedPairs  int             `json:"joined_pairs"` // the other way round
}

// Most is how many moves and pairs Consequences lists.
const Most = 200

// Empty reports whether the change does nothing at all.
func (c *Consequences) Empty() bool {
	return c.Sites.Empty() && c.Overlays.Empty() && c.Tunnels.Empty() &&
		c.Moved+len(c.FindingsNew)+len(c.FindingsGone)+c.CutPairs+c.JoinedPairs == 0
}

// Weigh says what comes of going from one state to another.
func Weigh(old, new State) *Consequences {
	c := &Consequences{
		Sites:    sites(old.Routes.Plan.Estate, new.Routes.Plan.Estate),
		Overlays: overlays(old.Routes.Plan.Estate, new.Routes.Plan.Estate),
		Tunnels:  tunnels(old.Routes.Plan, new.Routes.Plan),
		Moves:    []Move{}, Cut: []Pair{}, CutOff: []string{},
	}
	touched := map[string]bool{}
	for _, t := range slices.Concat(c.Tunnels.Added, c.Tunnels.Removed, names(c.Tunnels.Changed)) {
		for _, site := range endsOf(t) {
			touched[site] = true
		}
	}
	last := ""
	for m := range moves(old.Routes, new.Routes) {
		c.Moved++
		if m.site != last {
			last = m.site
			c.MovedAt++
			touched[m.site] = true
		}
		if len(c.Moves) < Most {
			c.Moves = append(c.Moves, m.inWords(old.Routes, new.Routes))
		}
	}
	c.Touched = sorted(touched)
	c.FindingsNew, c.FindingsGone = without(new.Findings, old.Findings), without(old.Findings, new.Findings)
	c.meetings(old.Routes.Plan, new.Routes.Plan)
	return c
}

// without lists the findings that are not among others.
func without(list, others []check.Finding) []check.Finding {
	known := make(map[string]bool, len(others))
	for _, f := range others {
		known[f.ID] = true
	}
	out := []check.Finding{}
	for _, f := range list {
		if !known[f.ID] {
			out = append(out, f)
		}
	}
	return out
}

// meetings compares which pairs of the sites that are in both can exchange
// traffic.
func (c *Consequences) meetings(old, new *tunnel.Plan) {
	var keys []string
	for _, key := range sitesOfBoth(old, new) {
		if old.SiteIndex(key) >= 0 && new.SiteIndex(key) >= 0 {
			keys = append(keys, key)
		}
	}
	was, is := newMeeting(old, keys), newMeeting(new, keys)
	a, b := make([]uint64, was.words), make([]uint64, was.words)
	for i, key := range keys {
		was.of(i, a)
		is.of(i, b)
		met, meets := 0, 0
		for w := range a {
			met += bits.OnesCount64(a[w])
			meets += bits.OnesCount64(b[w])
			for cut := a[w] &^ b[w]; cut != 0; cut &= cut - 1 {
				if j := w*64 + bits.TrailingZeros64(cut); j > i {
					c.CutPairs++
					if len(c.Cut) < Most {
						c.Cut = append(c.Cut, Pair{key, keys[j]})
					}
				}
			}
			for joined := b[w] &^ a[w]; joined != 0; joined &= joined - 1 {
				if w*64+bits.TrailingZeros64(joined) > i {
					c.JoinedPairs++
				}
			}
		}
		if met > 0 && meets == 0 {
			c.CutOff = append(c.CutOff, key)
		}
	}
}

// A meeting knows which sites of a list can exchange traffic: both share
// something into an overlay, and are adjacent in it or near the same hubs,
// where near is what tunnels from hub to hub lead to. Sets are bits by place in
// the list.
type meeting struct {
	words  int
	groups [][]uint64 // sets of sites that all meet each other
	inside [][]int    // by site: the groups it is in
	direct [][]uint64 // by site: those it meets without a hub; nil for none
}

func newMeeting(p *tunnel.Plan, keys []string) *meeting {
	m := &meeting{words: (len(keys) + 63) / 64, inside: make([][]int, len(keys)), direct: make([][]uint64, len(keys))}
	place := make(map[int]int, len(keys))
	for i, key := range keys {
		place[p.SiteIndex(key)] = i
	}
	for i := range p.Overlays {
		m.add(p, &p.Overlays[i], place)
	}
	return m
}

func (m *meeting) add(p *tunnel.Plan, o *tunnel.Overlay, place map[int]int) {
	shares := func(site int) (int, bool) {
		at, ok := place[site]
		return at, ok && len(p.Site(site).Shared(o.Spec.Key)) > 0
	}
	// Hubs that tunnels join are one group; root finds its first hub.
	parent := map[int]int{}
	for _, h := range o.Hubs {
		parent[h] = h
	}
	root := func(h int) int {
		for parent[h] != h {
			h = parent[h]
		}
		return h
	}
	for i := range o.Adjacencies {
		if a := &o.Adjacencies[i]; len(a.Tunnels) > 0 && o.IsHub(a.A) && o.IsHub(a.B) {
			parent[root(a.A)] = root(a.B)
		}
	}
	group := map[int]int{}
	enter := func(hub, site int) {
		at, ok := shares(site)
		if !ok {
			return
		}
		g, known := group[root(hub)]
		if !known {
			g = len(m.groups)
			group[root(hub)] = g
			m.groups = append(m.groups, make([]uint64, m.words))
		}
		m.groups[g][at/64] |= 1 << (at % 64)
		if !slices.Contains(m.inside[at], g) {
			m.inside[at] = append(m.inside[at], g)
		}
	}
	for _, h := range o.Hubs {
		enter(h, h)
	}
	for i := range o.Adjacencies {
		a := &o.Adjacencies[i]
		switch {
		case len(a.Tunnels) == 0:
		case o.IsHub(a.B):
			enter(a.B, a.A)
		case o.IsHub(a.A):
			enter(a.A, a.B)
		default:
			x, ok := shares(a.A)
			y, also := shares(a.B)
			if ok && also {
				m.join(x, y)
				m.join(y, x)
			}
		}
	}
}

func (m *meeting) join(x, y int) {
	if m.direct[x] == nil {
		m.direct[x] = make([]uint64, m.words)
	}
	m.direct[x][y/64] |= 1 << (y % 64)
}

// of fills the set of sites that the site at that place meets.
func (m *meeting) of(at int, set []uint64) {
	clear(set)
	for _, g := range m.inside[at] {
		for w, x := range m.groups[g] {
			set[w] |= x
		}
	}
	for w, x := range m.direct[at] {
		set[w] |= x
	}
	if len(set) > 0 {
		set[at/64] &^= 1 << (at % 64)
	}
}
