package outage

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/tunnel"
)

// MinutesPerYear is 365.25 days.
const MinutesPerYear = 365.25 * 24 * 60

// RepairHours is how long a failed link is taken to stay away, for turning
// availability into failures a year: the documents give no such figure.
const RepairHours = 4

// An Availability is the part of the time in which a site reaches the overlay's
// hubs, or in a mesh any neighbour, by its own links and theirs.
type Availability struct {
	Site    int
	Part    float64  // 0 to 1
	Minutes float64  // a year in which it reaches nobody
	Switch  float64  // minutes a year besides, while failures of its first tunnel are noticed
	Unknown []string // links without a figure; they count as always there
	OwnOnly bool     // too many links are involved for an exact sum: the hubs' count as always there
}

// An element is something that is up or down by itself: a link's own part, or
// what several links have in common.
type element struct {
	name string
	down float64 // probability
	has  []int   // links by number
}

// elements splits the links into independent parts. What links of one shared
// fate have in common is down for the least of their downtimes; the rest of
// each is its own. A fate that only one of the links has says nothing.
func (m *Model) elements(links []int) (out []element) {
	rest := map[int]float64{} // probability of a link's own part being up
	groups := map[string][]int{}
	var names []string
	for _, n := range links {
		l := m.link(n)
		up := 1.0
		if l.Availability > 0 {
			up = l.Availability / 100
		}
		rest[n] = up
		for _, g := range l.SharedFate {
			if groups[g] == nil {
				names = append(names, g)
			}
			groups[g] = append(groups[g], n)
		}
	}
	for _, g := range names {
		if len(groups[g]) < 2 {
			continue
		}
		up := 0.0
		for _, n := range groups[g] {
			up = max(up, rest[n])
		}
		if up == 1 {
			continue
		}
		for _, n := range groups[g] {
			rest[n] = min(1, rest[n]/up)
		}
		out = append(out, element{g, 1 - up, groups[g]})
	}
	for _, n := range links {
		if rest[n] < 1 {
			out = append(out, element{"", 1 - rest[n], []int{n}})
		}
	}
	return out
}

// chance adds up the probability of all states of the elements in which up
// holds. It is exact: 2^len(elements) states are tried.
func chance(elements []element, dead []bool, up func() bool) float64 {
	if len(elements) == 0 {
		if up() {
			return 1
		}
		return 0
	}
	e, rest := elements[0], elements[1:]
	total := (1 - e.down) * chance(rest, dead, up)
	var mine []int
	for _, n := range e.has {
		if !dead[n] {
			dead[n] = true
			mine = append(mine, n)
		}
	}
	total += e.down * chance(rest, dead, up)
	for _, n := range mine {
		dead[n] = false
	}
	return total
}

// maxElements bounds the exact sum.
const maxElements = 16

// around lists the links that decide whether a site reaches its overlays: its
// own and, of the hubs it uses, theirs.
func (m *Model) around(site int) (own, all []int) {
	for n := m.links[site]; n < m.links[site+1]; n++ {
		if !m.link(n).NoTunnels {
			own = append(own, n)
		}
	}
	all = slices.Clone(own)
	for _, e := range m.Plan.Ends(site) {
		_, remote := m.Plan.Sides(e)
		if n := m.links[remote.Site] + remote.Link; m.nets[e.Overlay].place[remote.Site] >= 0 && !slices.Contains(all, n) {
			all = append(all, n)
		}
	}
	return own, all
}

// Availability works out a site's availability exactly from the figures of the
// links involved and their shared fates.
func (m *Model) Availability(site int) Availability {
	return m.availability(site, nil)
}

// availability does, with the elements changed by the caller. The number after
// the last link stands for a new link of the site, which is dead unless change
// adds it.
func (m *Model) availability(site int, change func([]element) []element) Availability {
	out := Availability{Site: site}
	own, all := m.around(site)
	for _, n := range own {
		if m.link(n).Availability == 0 {
			out.Unknown = append(out.Unknown, m.link(n).Key)
		}
	}
	if len(m.Plan.Ends(site)) == 0 {
		out.Minutes = MinutesPerYear
		return out
	}
	elements := m.elements(all)
	if len(elements) > maxElements {
		elements, out.OwnOnly = m.elements(own), true
	}
	if change != nil {
		elements = change(elements)
	}
	dead := make([]bool, len(m.sites)+1)
	added := slices.ContainsFunc(elements, func(e element) bool { return e.has[0] == len(m.sites) })
	dead[len(m.sites)] = !added
	out.Part = chance(elements, dead, func() bool { return m.joined(site, dead) })
	out.Minutes = (1 - out.Part) * MinutesPerYear
	// Each failure of the first tunnel's link costs one detection; where several
	// share the load, that of each costs its part of the flows one.
	first := m.Plan.Ends(site)[0]
	timing := TimingOf(m.nets[first.Overlay].overlay.Spec.Probe)
	l := leg{int32(first.Adjacency), int16(first.Overlay), m.from(m.none(), 0, first.Overlay, first.Adjacency, site)}
	if !m.switching[site] || l.tunnel < 0 {
		return out // nothing switches; the outage lasts until somebody acts
	}
	for _, p := range m.parts(l, nil) {
		near := p.links[0]
		if m.sites[near] != site {
			near = p.links[1]
		}
		if a := m.link(int(near)).Availability; a > 0 {
			failures := (1 - a/100) * MinutesPerYear / 60 / RepairHours
			out.Switch += p.of * failures * timing.Detect / 60
		}
	}
	return out
}

// joined reports whether some neighbour is reached: by any tunnel that is alive
// where both ends switch, else by the first alone. A new link is taken to reach
// whatever the others reach.
func (m *Model) joined(site int, dead []bool) bool {
	ends := m.Plan.Ends(site)
	for len(ends) > 0 {
		e := ends[0]
		a := &m.nets[e.Overlay].overlay.Adjacencies[e.Adjacency]
		alive := func(t *tunnel.Tunnel) bool {
			near, far := &t.A, &t.B
			if near.Site != site {
				near, far = far, near
			}
			return !t.Mute && (!dead[m.links[site]+near.Link] || !dead[len(m.sites)]) && !dead[m.links[far.Site]+far.Link]
		}
		_, first := a.Group(0)
		works := true
		for k := range a.Tunnels[:first] {
			works = works && alive(&a.Tunnels[k])
		}
		for k := 0; k < len(a.Tunnels) && !works && m.switching[a.A] && m.switching[a.B]; k++ {
			works = alive(&a.Tunnels[k])
		}
		if works {
			return true
		}
		ends = ends[len(a.Tunnels):]
	}
	return false
}

// maxPairElements bounds the exact sum for a pair, which walks each state.
const maxPairElements = 18

// PairAvailability is the part of the time in which two sites reach each other
// both ways, with some of their subnets at least, exactly, by their links and those of the hubs between them. It
// errs when more than 18 things can fail independently.
func (m *Model) PairAvailability(a, b int) (part float64, err error) {
	lanes := m.lanesOf(a, b)
	if lanes == nil {
		return 0, fmt.Errorf("%s and %s share no overlay", m.Plan.Site(a).Key, m.Plan.Site(b).Key)
	}
	_, all := m.around(a)
	_, more := m.around(b)
	for _, n := range more {
		if !slices.Contains(all, n) {
			all = append(all, n)
		}
	}
	elements := m.elements(all)
	if len(elements) > maxPairElements {
		return 0, fmt.Errorf("%d things can fail independently between %s and %s; the exact sum takes at most %d", len(elements), m.Plan.Site(a).Key, m.Plan.Site(b).Key, maxPairElements)
	}
	s := m.newState()
	between := m.between(a, b)
	var w way
	return chance(elements, s.dead, func() bool {
		for _, e := range between {
			s.first[e.Overlay][e.Adjacency] = m.choose(&s, &m.nets[e.Overlay].overlay.Adjacencies[e.Adjacency])
		}
		for k := range lanes {
			l := &lanes[k]
			m.walk(&s, l, a, b, &w)
			if pass := m.pass(l, &w, false); pass != 0 {
				if m.walk(&s, l, b, a, &w); pass&m.pass(l, &w, true) != 0 {
					return true
				}
			}
		}
		return false
	}), nil
}

// between lists the adjacencies by which two sites can reach each other, by
// their first tunnels: those of each with the other and with hubs, and those
// among hubs.
func (m *Model) between(a, b int) (out []tunnel.End) {
	add := func(site int, wanted func(n *net, far int) bool) {
		for _, e := range m.Plan.Ends(site) {
			if _, remote := m.Plan.Sides(e); e.Tunnel == 0 && wanted(&m.nets[e.Overlay], remote.Site) {
				out = append(out, e)
			}
		}
	}
	hub := func(n *net, far int) bool { return n.place[far] >= 0 }
	add(a, func(n *net, far int) bool { return far == b || hub(n, far) })
	add(b, hub)
	for _, site := range m.hubs() {
		add(site, func(n *net, far int) bool { return n.place[site] >= 0 && n.place[far] > n.place[site] })
	}
	return out
}

// hubs lists the hubs of all overlays, each once.
func (m *Model) hubs() (out []int) {
	for i := range m.nets {
		for _, h := range m.nets[i].hubs {
			if !slices.Contains(out, h) {
				out = append(out, h)
			}
		}
	}
	return out
}

// A CommonFate is a group that several links of one site share.
type CommonFate struct {
	Site  int
	Group string
	Links []string
	All   bool     // no link is left without it
	Other []string // further sites with links in the group
}

// CommonFates lists where primary and backup of a site fail together, those
// that leave nothing first.
func (m *Model) CommonFates() []CommonFate {
	members := map[string][]string{}
	for i := range m.Plan.Estate.Sites {
		for _, l := range m.Plan.Site(i).Links {
			for _, g := range l.SharedFate {
				if key := m.Plan.Site(i).Key; !slices.Contains(members[g], key) {
					members[g] = append(members[g], key)
				}
			}
		}
	}
	var out []CommonFate
	for i := range m.Plan.Estate.Sites {
		site := m.Plan.Site(i)
		byGroup := map[string][]string{}
		var groups []string
		carrying := 0
		for _, l := range site.Links {
			if l.NoTunnels {
				continue
			}
			carrying++
			for _, g := range l.SharedFate {
				if byGroup[g] == nil {
					groups = append(groups, g)
				}
				byGroup[g] = append(byGroup[g], l.Key)
			}
		}
		for _, g := range groups {
			if len(byGroup[g]) < 2 {
				continue
			}
			others := slices.DeleteFunc(slices.Clone(members[g]), func(k string) bool { return k == site.Key })
			out = append(out, CommonFate{i, g, byGroup[g], len(byGroup[g]) == carrying, others})
		}
	}
	slices.SortStableFunc(out, func(a, b CommonFate) int {
		if a.All != b.All {
			if a.All {
				return -1
			}
			return 1
		}
		return a.Site - b.Site
	})
	return out
}

// A Suggestion is a change that would make a site better available. Gain is in
// minutes a year.
type Suggestion struct {
	Site  int
	Kind  string // another-path, another-link
	Link  string // that takes another path
	Group string // that it leaves
	Text  string
	Now   float64
	Then  float64
}

// Gain is what the suggestion is worth, in minutes a year.
func (s *Suggestion) Gain() float64 { return s.Now - s.Then }

// NewLink is the availability, in percent, of the link that suggestions add.
const NewLink = 99.0

// Suggest ranks, over all sites, what one more link or another path for a link
// that shares its fate would gain; changes of less than a minute are left out.
func (m *Model) Suggest() []Suggestion {
	var out []Suggestion
	fates := m.CommonFates()
	slices.SortStableFunc(fates, func(a, b CommonFate) int { return a.Site - b.Site })
	for i := range m.Plan.Estate.Sites {
		if len(m.Plan.Ends(i)) == 0 {
			continue
		}
		now := m.Availability(i).Minutes
		if now < 1 {
			continue
		}
		site := m.Plan.Site(i)
		for ; len(fates) > 0 && fates[0].Site <= i; fates = fates[1:] {
			f := fates[0]
			if f.Site < i {
				continue
			}
			last := f.Links[len(f.Links)-1]
			n := m.links[i] + slices.IndexFunc(site.Links, func(l estate.Link) bool { return l.Key == last })
			then := m.availability(i, func(elements []element) []element { return leave(elements, f.Group, n) }).Minutes
			out = append(out, Suggestion{i, "another-path", last, f.Group, fmt.Sprintf("Take %s of %s off %s", last, site.Key, f.Group), now, then})
		}
		var keys []string
		for _, l := range site.Links {
			keys = append(keys, l.Key)
		}
		then := m.availability(i, func(elements []element) []element {
			return append(elements, element{"", 1 - NewLink/100, []int{len(m.sites)}})
		}).Minutes
		out = append(out, Suggestion{i, "another-link", "", "", fmt.Sprintf("Give %s another link, %g %% available, that shares nothing with %s", site.Key, NewLink, strings.Join(keys, ", ")), now, then})
	}
	out = slices.DeleteFunc(out, func(s Suggestion) bool { return s.Gain() < 1 })
	slices.SortStableFunc(out, func(a, b Suggestion) int { return cmp.Compare(b.Gain(), a.Gain()) })
	return out
}

// leave takes one link out of what a group has in common; the link keeps its
// downtime as its own.
func leave(elements []element, group string, link int) (out []element) {
	for _, e := range elements {
		if e.name == group && slices.Contains(e.has, link) {
			e.has = slices.DeleteFunc(slices.Clone(e.has), func(n int) bool { return n == link })
			out = append(out, element{"", e.down, []int{link}})
		}
		out = append(out, e)
	}
	return out
}
