package outage

import (
	"encoding/binary"
	"math/bits"
	"net/netip"
	"slices"
	"strings"
	"sync/atomic"

	"wideknot/core/estate"
	"wideknot/core/route"
)

// Two sites do not exchange traffic as wholes: a subnet reaches another by the
// overlays into which both are shared, as far as their policies permit, in its
// own IP version, over tunnels that carry its zone. Subnets alike in all that
// are of one kind, and sites with the same kinds have one profile; so what two
// sites have in common is worked out once for each two profiles, however many
// subnets there are.

// A siteKind is what subnets of one kind have in common.
type siteKind struct {
	zone     int      // number of the zone, see Model.zones
	v4       bool     // its IP version
	overlays []int    // into which it is shared, as a member of each
	sides    []string // by overlay: which parties of the policy hold it
	asks     uint64   // overlays that hold its zone to their limits, one bit each
}

// A lane is what two sites have in common in the same overlays, held to the limits of the
// same ones. Cells are their kinds of subnets, two by two; a way carries some of them.
type lane struct {
	overlays []int
	held     uint64 // those to whose limits it is held, one bit each
	cells    []cell
	weight   float64 // its part of the pair's traffic: all cells count alike
	all      passage // all its cells
	open     bool    // all its cells pass wherever there is a way: no policy and no link keeps anything off
}

// A cell is a kind of subnet at each of two sites.
type cell struct {
	near, far int    // zones
	open      uint64 // overlays, by their places in the lane, whose policy lets something through
	count     int    // pairs of kinds that are the same in all this
}

// passage says which cells of a lane a way carries, one bit each. Cells beyond
// the 63rd count as one.
type passage uint64

// profiles numbers the sites by the kinds of their subnets.
type profiles struct {
	of    []int32 // site → profile, -1 for a site that shares nothing
	kinds [][]siteKind
	ids   []map[string]int         // profile → name of a kind → its place in kinds
	known [][]lane                 // profile and profile, where there are few
	lanes []atomic.Pointer[[]lane] // or once it was asked for
}

// The table of lanes is made whole for few profiles, filled as it is needed for
// some, and none for more.
const (
	fewProfiles  = 32
	mostProfiles = 1024
	mostKinds    = 4000 // of all profiles
)

// sortSubnets finds the kinds of subnets of each site.
func (m *Model) sortSubnets() {
	p := m.Plan
	m.policies, m.sides = make([]*route.Policy, len(p.Overlays)), make([]map[route.Member]string, len(p.Overlays))
	for i := range p.Overlays {
		if m.policies[i] = m.Map.Policy(i); m.policies[i] == nil {
			continue
		}
		apart := false
		if m.sides[i], apart = m.policies[i].Sides(m.Map, i); !apart {
			m.policies[i], m.sides[i] = nil, nil
		}
	}
	if m.sortKinds() > mostKinds {
		// Too many to look at each two of them: policies, link zones and limits are left out.
		clear(m.policies)
		clear(m.sides)
		m.narrowed, m.limited, m.profiles = false, false, profiles{}
		m.sortKinds()
	}
	m.sortLanes()
}

// sortKinds numbers the profiles of sites by the kinds of their subnets, and
// counts those of all profiles.
func (m *Model) sortKinds() (total int) {
	p := m.Plan
	numbers := map[string]int32{}
	for site := range p.Estate.Sites {
		var kinds []siteKind
		var ids []string
		places := map[string]int{}
		for j := range p.Site(site).Subnets {
			if k, id := m.kindOfSubnet(site, j); len(k.overlays) > 0 {
				if _, known := places[id]; !known {
					places[id] = len(kinds)
					ids = append(ids, id)
					kinds = append(kinds, k)
				}
			}
		}
		if len(kinds) == 0 {
			m.profiles.of = append(m.profiles.of, -1)
			continue
		}
		slices.Sort(ids)
		whole := strings.Join(ids, "\n")
		number, known := numbers[whole]
		if !known {
			number = int32(len(numbers))
			numbers[whole] = number
			total += len(kinds)
			m.profiles.kinds, m.profiles.ids = append(m.profiles.kinds, kinds), append(m.profiles.ids, places)
		}
		m.profiles.of = append(m.profiles.of, number)
	}
	return total
}

// sortLanes makes room for what each two profiles have in common.
func (m *Model) sortLanes() {
	n := len(m.profiles.kinds)
	switch {
	case n <= fewProfiles:
		for x := range n {
			for y := range n {
				m.profiles.known = append(m.profiles.known, m.lanes(x, y))
			}
		}
	case n <= mostProfiles:
		m.profiles.lanes = make([]atomic.Pointer[[]lane], n*n)
	}
}

// kindOfSubnet returns the kind of a subnet and what names it.
func (m *Model) kindOfSubnet(site, subnet int) (siteKind, string) {
	n := &m.Plan.Site(site).Subnets[subnet]
	k := siteKind{zone: min(slices.Index(m.zones, n.Zone), 63), v4: n.Taking().Addr().Is4()}
	if g := &m.Plan.Site(site).Gateway; g.Placement == estate.OneArmed && !g.LANAddressOf(k.v4).IsValid() {
		return siteKind{}, "" // the LAN's router has no route to the gateway
	}
	id := binary.AppendVarint(nil, int64(k.zone))
	if !m.narrowed {
		k.zone, id = 0, nil
	}
	if m.limited {
		for i := range m.Plan.Overlays {
			if m.Plan.Overlays[i].Spec.Holds(n.Zone, "") {
				k.asks |= 1 << min(i, 63)
			}
		}
		id = binary.AppendUvarint(id, k.asks)
	}
	if k.v4 {
		id = append(id, '4')
	}
	for i := range m.Plan.Overlays {
		o := &m.Plan.Overlays[i]
		if !o.Has(site) || !n.SharedInto(o.Spec.Key) {
			continue
		}
		side := m.sides[i][route.Member{Site: site, Subnet: subnet}]
		k.overlays, k.sides = append(k.overlays, i), append(k.sides, side)
		id = append(binary.AppendVarint(append(id, 'o'), int64(i)), side...)
	}
	return k, string(id)
}

// lanesOf lists what two sites have in common, seen from the first; none when
// they exchange no traffic.
func (m *Model) lanesOf(i, j int) []lane {
	x, y := m.profiles.of[i], m.profiles.of[j]
	if x < 0 || y < 0 {
		return nil
	}
	return m.lanesBetween(int(x), int(y))
}

// lanesBetween lists what sites of two profiles have in common.
func (m *Model) lanesBetween(x, y int) []lane {
	if m.profiles.known != nil {
		return m.profiles.known[x*len(m.profiles.kinds)+y]
	}
	if m.profiles.lanes == nil {
		return m.lanes(x, y)
	}
	at := &m.profiles.lanes[x*len(m.profiles.kinds)+y]
	if known := at.Load(); known != nil {
		return *known
	}
	made := m.lanes(x, y)
	at.Store(&made)
	return made
}

// meet returns the overlays in which a kind of one profile and a kind of another
// meet, those of them to whose limits they are held, and their cell there, which is not
// open where they do not meet.
func (m *Model) meet(x, a, y, b int) (common []int, held uint64, c cell) {
	near, far := &m.profiles.kinds[x][a], &m.profiles.kinds[y][b]
	c = cell{near: near.zone, far: far.zone, count: 1}
	for n, o := range near.overlays {
		at := slices.Index(far.overlays, o)
		if at < 0 || near.v4 != far.v4 {
			continue
		}
		if m.policies[o].Opens(near.sides[n], far.sides[at]) {
			c.open |= 1 << min(len(common), 63)
		}
		common = append(common, o)
	}
	return common, (near.asks | far.asks) & overlaysBits(common), c
}

// within names the subnets of two sites, two by two, whose cells are among some
// of each of their lanes, as many as most.
func (m *Model) within(i, j int, some []passage, most int) (out [][2]netip.Prefix) {
	x, y := int(m.profiles.of[i]), int(m.profiles.of[j])
	lanes := m.lanesOf(i, j)
	kindsOf := func(site, profile int) (kinds []int) {
		for k := range m.Plan.Site(site).Subnets {
			at := -1
			if _, id := m.kindOfSubnet(site, k); id != "" {
				at = m.profiles.ids[profile][id]
			}
			kinds = append(kinds, at)
		}
		return kinds
	}
	far := kindsOf(j, y)
	for a, near := range kindsOf(i, x) {
		for b := range far {
			if near < 0 || far[b] < 0 || len(out) == most {
				continue
			}
			common, held, c := m.meet(x, near, y, far[b])
			at := slices.IndexFunc(lanes, func(l lane) bool { return l.held == held && slices.Equal(l.overlays, common) })
			if c.open == 0 || at < 0 {
				continue
			}
			k := slices.IndexFunc(lanes[at].cells, func(d cell) bool { return d.near == c.near && d.far == c.far && d.open == c.open })
			if some[at]&(1<<min(k, 63)) != 0 {
				out = append(out, [2]netip.Prefix{m.Plan.Site(i).Subnets[a].Prefix, m.Plan.Site(j).Subnets[b].Prefix})
			}
		}
	}
	return out
}

// lanes works out what sites of two profiles have in common.
func (m *Model) lanes(x, y int) []lane {
	var out []lane
	total := 0
	for a := range m.profiles.kinds[x] {
		for b := range m.profiles.kinds[y] {
			common, held, c := m.meet(x, a, y, b)
			if c.open == 0 {
				continue
			}
			at := slices.IndexFunc(out, func(l lane) bool { return l.held == held && slices.Equal(l.overlays, common) })
			if at < 0 {
				at = len(out)
				out = append(out, lane{overlays: common, held: held})
			}
			l := &out[at]
			total++
			l.weight++
			if k := slices.IndexFunc(l.cells, func(d cell) bool { return d.near == c.near && d.far == c.far && d.open == c.open }); k >= 0 {
				l.cells[k].count++
			} else {
				l.cells = append(l.cells, c)
			}
		}
	}
	for i := range out {
		l := &out[i]
		l.weight /= float64(total)
		l.open = !m.narrowed
		for k, c := range l.cells {
			l.all |= 1 << min(k, 63)
			l.open = l.open && bits.OnesCount64(c.open) == min(len(l.overlays), 64)
		}
	}
	return out
}

// pass says which cells of a lane a way carries, whichever tunnels they take of
// those that share the load: each site keeps the zones of its own subnets off
// tunnels that are not for them, at the first tunnel and at the last. Back is set
// for the way from the far site.
func (m *Model) pass(l *lane, w *way, back bool) (out passage) {
	switch {
	case !w.ok:
		return 0
	case l.open:
		return l.all
	}
	overlay := min(slices.Index(l.overlays, int(w.legs[0].overlay)), 63)
	near, far := ^uint64(0), ^uint64(0)
	if m.narrowed {
		near, far = m.carries(w.legs[0]), m.carries(w.legs[w.n-1])
		if back {
			near, far = far, near
		}
	}
	for i := range l.cells {
		if c := &l.cells[i]; c.open&(1<<overlay) != 0 && near&(1<<c.near) != 0 && far&(1<<c.far) != 0 {
			out |= 1 << min(i, 63)
		}
	}
	return out
}

// carries returns the zones that all tunnels of a leg carry.
func (m *Model) carries(l leg) uint64 {
	zones := ^uint64(0)
	var room [2]flowPart
	for _, p := range m.parts(l, room[:]) {
		zones &= m.linkZone[p.links[0]] & m.linkZone[p.links[1]]
	}
	return zones
}

// through returns the zones of what passes.
func (l *lane) through(pass passage) (zones uint64) {
	for i := range l.cells {
		if pass&(1<<min(i, 63)) != 0 {
			zones |= 1<<l.cells[i].near | 1<<l.cells[i].far
		}
	}
	return zones
}

// partOf is the part of a lane's cells that pass.
func (l *lane) partOf(pass passage) float64 {
	switch pass {
	case 0:
		return 0
	case l.all:
		return 1
	}
	whole, through := 0, 0
	for i, c := range l.cells {
		whole += c.count
		if pass&(1<<min(i, 63)) != 0 {
			through += c.count
		}
	}
	return float64(through) / float64(whole)
}
