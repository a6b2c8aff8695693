package route

import (
	"net/netip"
	"slices"

	"wideknot/core/estate"
)

// An Extra table is for packets that must not use all routes of a site: those
// that come in by certain devices, or start in certain subnets, or are answers.
type Extra struct {
	Arriving []string       // devices by which they come; or
	From     []netip.Prefix // the subnets in which they start; or, with neither, any of that Place
	Place    int            // of answers alone to flows that are marked with this place, see Marked; else 0
	Straight bool           // of what comes from other hubs: goes straight to its site, or by this order whatever is told
	Last     bool           // asked after the main table, but before its default route
	Why      string
	Routes   []Route // none is Connected; what no route matches goes by the main table
}

// Extras returns the tables a site needs besides its main one.
//
// What comes from another hub goes straight to the site it is for or, while
// the hub's own tunnels there are down, to a hub that is farther from the site
// than itself: so hubs stand by for each other, and no packet ever circles.
//
// Where a site is in several overlays, what came by one stays in it, and a
// subnet that is not shared into all of them uses only those it is in: each
// peer takes nothing else, and the way back is the same.
//
// Where tunnels share the load, each table is preceded by those for answers.
//
// Internet traffic of subnets that break out has tables of its own, at the site
// and for the answers at the hub.
func (m *Map) Extras(site int) []Extra { return m.tables(site).extras() }

func (m *tables) extras() []Extra {
	p, site := m.Plan, m.site
	overlays := m.overlaysOf(site)
	out := m.returns(site)
	for _, i := range overlays {
		g := m.graphs[i]
		if !g.overlay.IsHub(site) {
			continue
		}
		var fromHubs, fromOthers []string
		for _, e := range p.Ends(site) {
			local, remote := p.Sides(e)
			if e.Overlay != i {
				continue
			}
			if name := local.Interface; g.straight && g.overlay.IsHub(remote.Site) {
				fromHubs = append(fromHubs, name)
			} else {
				fromOthers = append(fromOthers, name)
			}
		}
		if len(fromHubs) > 0 {
			out = append(out, placed(Extra{Arriving: fromHubs, Straight: true, Why: "from other hubs of " + g.overlay.Spec.Key, Routes: m.onwardTable(i)})...)
		}
		if len(overlays) > 1 && len(fromOthers) > 0 {
			out = append(out, placed(Extra{Arriving: fromOthers, Why: "stays in " + g.overlay.Spec.Key, Routes: m.routes([]int{i}, without(overlays, []int{i}))})...)
		}
	}
	out = append(out, m.bySubnet(overlays)...)
	if len(m.Marked(site)) > 0 {
		main := placed(Extra{Why: "everything else", Routes: m.routes(overlays, nil)})
		out = append(out, main[:len(main)-1]...)
	}
	return append(out, m.breakouts(site)...)
}

// bySubnet lists the tables of subnets that are not shared into all overlays of
// their site.
func (m *tables) bySubnet(overlays []int) (out []Extra) {
	if len(overlays) < 2 {
		return nil
	}
	var groups []Extra
	places := map[string]int{} // overlays of a subnet → place in groups
	own := m.Plan.Site(m.site)
	for j := range own.Subnets {
		n := &own.Subnets[j]
		open := m.openTo(m.site, n)
		if len(open) == 0 || len(open) == len(overlays) {
			continue
		}
		id := ""
		for _, i := range open {
			id += m.graphs[i].overlay.Spec.Key + " "
		}
		at, ok := places[id]
		if !ok {
			at = len(groups)
			places[id] = at
			groups = append(groups, Extra{Why: "shared into " + id + "only", Routes: m.routes(open, without(overlays, open))})
		}
		groups[at].From = append(groups[at].From, n.Prefix)
	}
	for _, x := range groups {
		out = append(out, placed(x)...)
	}
	return out
}

func without(all, some []int) []int {
	return slices.DeleteFunc(slices.Clone(all), func(i int) bool { return slices.Contains(some, i) })
}

// onwardTable is what a hub does with what another hub handed it.
func (m *tables) onwardTable(overlay int) []Route {
	g, site := m.graphs[overlay], m.site
	c := m.chainer(overlay)
	own := m.Plan.Site(site).Shared(g.overlay.Spec.Key)
	out := m.room.take(len(m.shared[overlay].list))
	for _, h := range m.shared[overlay].list {
		if h.site == site || h.within(own) {
			continue
		}
		c.ways = g.onward(c.ways[:0], site, h.site)
		r := Route{Prefix: h.prefix, Kind: Overlay, To: h.site, Overlay: g.overlay.Spec.Key, Hops: c.hops(c.ways, -1)}
		if len(r.Hops) == 0 {
			r.Kind = Cut
		}
		out = append(out, r)
	}
	return m.merge(out, func(overlay, to int) []trail { return m.graphs[overlay].onward(nil, site, to) })
}

func (m *Map) subnet(h holding) *estate.Subnet { return &m.Plan.Site(h.site).Subnets[h.subnet] }
