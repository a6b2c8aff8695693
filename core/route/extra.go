package route

import (
	"net/netip"
	"slices"

	"wideknot/core/estate"
)

// An Extra table is for packets that must not use all routes of a site: those
// that come in by certain tunnels, or start in certain subnets.
type Extra struct {
	Arriving []string       // interfaces by which they come; or
	From     []netip.Prefix // the subnets in which they start
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
func (m *Map) Extras(site int) []Extra {
	p := m.Plan
	overlays := m.overlaysOf(site)
	var out []Extra
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
			if name := local.Interface; g.joined && g.overlay.IsHub(remote.Site) {
				fromHubs = append(fromHubs, name)
			} else {
				fromOthers = append(fromOthers, name)
			}
		}
		if len(fromHubs) > 0 {
			out = append(out, Extra{Arriving: fromHubs, Why: "from other hubs of " + g.overlay.Spec.Key, Routes: m.onwardTable(i, site)})
		}
		if len(overlays) > 1 && len(fromOthers) > 0 {
			out = append(out, Extra{Arriving: fromOthers, Why: "stays in " + g.overlay.Spec.Key, Routes: m.routes(site, []int{i}, without(overlays, []int{i}))})
		}
	}
	if len(overlays) < 2 {
		return out
	}
	groups := map[string]int{} // overlays of a subnet → place in out
	own := p.Site(site)
	for j := range own.Subnets {
		n := &own.Subnets[j]
		var open []int
		id := ""
		for _, i := range overlays {
			if key := m.graphs[i].overlay.Spec.Key; n.SharedInto(key) {
				open = append(open, i)
				id += key + " "
			}
		}
		if len(open) == 0 || len(open) == len(overlays) {
			continue
		}
		at, ok := groups[id]
		if !ok {
			at = len(out)
			groups[id] = at
			out = append(out, Extra{Why: "shared into " + id + "only", Routes: m.routes(site, open, without(overlays, open))})
		}
		out[at].From = append(out[at].From, n.Prefix)
	}
	return out
}

func without(all, some []int) []int {
	return slices.DeleteFunc(slices.Clone(all), func(i int) bool { return slices.Contains(some, i) })
}

// onwardTable is what a hub does with what another hub handed it.
func (m *Map) onwardTable(overlay, site int) []Route {
	g := m.graphs[overlay]
	c := m.chainer(overlay, site)
	own := m.Plan.Site(site).Shared(g.overlay.Spec.Key)
	var out []Route
	for _, h := range m.shared[overlay].list {
		if h.site == site || covered(own, h.prefix) {
			continue
		}
		r := Route{Prefix: h.prefix, Kind: Overlay, To: h.site, Overlay: g.overlay.Spec.Key, Hops: c.hops(g.onward(site, h.site), -1)}
		if len(r.Hops) == 0 {
			r.Kind = Cut
		}
		out = append(out, r)
	}
	return m.merge(out)
}

func (m *Map) subnet(h holding) *estate.Subnet { return &m.Plan.Site(h.site).Subnets[h.subnet] }
