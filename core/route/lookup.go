package route

import (
	"net/netip"
	"slices"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/tunnel"
)

// decide finds the route that a gateway has for a packet, in the tables that
// Extras and Table list, without making them: known is false where only the
// gateway's own default route is left.
func (m *Map) decide(site int, in arrival, source place, to netip.Addr) (r Route, known bool) {
	overlays := m.overlaysOf(site)
	switch in.by {
	case byTunnel:
		to = m.inside(site, to)
		overlay := in.end.Overlay
		g := m.graphs[overlay]
		_, remote := m.Plan.Sides(in.end)
		switch {
		case !g.overlay.IsHub(site):
		case g.straight && g.overlay.IsHub(remote.Site):
			r, known = m.lookup(site, []int{overlay}, nil, to, func(overlay, to int) []trail { return g.onward(nil, site, to) })
		case len(overlays) > 1:
			r, known = m.lookup(site, []int{overlay}, without(overlays, []int{overlay}), to, nil)
		}
	case byInternet:
		for _, x := range m.returns(site) {
			if x.Place == 0 {
				r, known = narrowest(x.Routes, to)
			}
		}
	case lan:
		open := m.openTo(site, &m.Plan.Site(site).Subnets[source.subnet])
		if len(open) > 0 && len(open) < len(overlays) {
			r, known = m.lookup(site, open, without(overlays, open), to, nil)
		}
	}
	if known {
		return r, true
	}
	r, known = m.lookup(site, overlays, nil, to, nil)
	for _, more := range m.around(site) {
		if more.Prefix.Contains(to) && (!known || more.Prefix.Bits() > r.Prefix.Bits()) {
			r, known = more, true
		}
	}
	if i := m.holdsOwn(site, to); i >= 0 {
		if own := m.Plan.Site(site).Subnets[i].Prefix; !known || own.Bits() >= r.Prefix.Bits() {
			return Route{Prefix: own, Kind: Connected, To: site}, true
		}
	}
	if known || in.by != lan {
		return r, known
	}
	for _, x := range m.breakouts(site) {
		if slices.Contains(x.From, m.Plan.Site(site).Subnets[source.subnet].Prefix) {
			return narrowest(x.Routes, to)
		}
	}
	return Route{}, false
}

// narrowest finds the route for an address among a few.
func narrowest(routes []Route, to netip.Addr) (best Route, known bool) {
	for _, r := range routes {
		if r.Prefix.Contains(to) && (!known || r.Prefix.Bits() > best.Prefix.Bits()) {
			best, known = r, true
		}
	}
	return best, known
}

// lookup finds the one route of routes(site, open, closed) for an address. ways
// is asked for the first steps instead of the site's own where it is not nil.
func (m *Map) lookup(site int, open, closed []int, to netip.Addr, ways func(overlay, to int) []trail) (Route, bool) {
	var list []Route
	bits := -1
	for n, overlay := range slices.Concat(open, closed) {
		g := m.graphs[overlay]
		own := m.Plan.Site(site).Shared(g.overlay.Spec.Key)
		found := m.shared[overlay].narrowest(to, func(h *holding) bool { return h.site != site && !covered(own, h.prefix) })
		if len(found) == 0 || found[0].prefix.Bits() < bits {
			continue
		}
		if found[0].prefix.Bits() > bits {
			list, bits = nil, found[0].prefix.Bits()
		}
		c := m.chainer(overlay, site)
		for _, h := range found {
			r := Route{Prefix: h.prefix, Kind: Cut, To: h.site, Overlay: g.overlay.Spec.Key}
			switch {
			case n >= len(open):
			case ways != nil:
				r.Hops = c.hops(ways(overlay, h.site), -1)
			default:
				r.Hops = c.chain(h.site, m.pinned(overlay, site, h.prefix))
			}
			if len(r.Hops) > 0 {
				r.Kind = Overlay
			}
			list = append(list, r)
		}
	}
	if len(list) == 0 {
		return Route{}, false
	}
	if ways == nil {
		ways = func(overlay, to int) []trail { return m.waysFrom(overlay, site, to) }
	}
	return m.merge(list, ways)[0], true
}

// holdsOwn returns the narrowest of the site's own subnets around an address, as
// its hosts have it, or -1.
func (m *Map) holdsOwn(site int, a netip.Addr) int {
	at := -1
	subnets := m.Plan.Site(site).Subnets
	for i := range subnets {
		if subnets[i].Prefix.Contains(a) && (at < 0 || subnets[i].Prefix.Bits() > subnets[at].Prefix.Bits()) {
			at = i
		}
	}
	return at
}

// inside translates an address that came by a tunnel into the one that a host of
// the site has.
func (m *Map) inside(site int, a netip.Addr) netip.Addr {
	subnets := m.Plan.Site(site).Subnets
	for i := range subnets {
		if n := &subnets[i]; n.Map.IsValid() && len(n.Share) > 0 && n.Map.Contains(a) {
			return addr.Moved(a, n.Map, n.Prefix)
		}
	}
	return a
}

// openTo lists the overlays of a site into which a subnet is shared.
func (m *Map) openTo(site int, n *estate.Subnet) (open []int) {
	for i, g := range m.graphs {
		if g.overlay.Has(site) && n.SharedInto(g.overlay.Spec.Key) {
			open = append(open, i)
		}
	}
	return open
}

// joinedIn reports whether another site is a member of an overlay into which a
// subnet is shared.
func (m *Map) joinedIn(site, other, subnet int) bool {
	return slices.ContainsFunc(m.openTo(site, &m.Plan.Site(site).Subnets[subnet]), func(i int) bool { return m.graphs[i].overlay.Has(other) })
}

// carries reports whether tunnels that share the load are for a subnet at one of their
// ends: the links of both ends let its zone through. Those that are dead do not count but
// for the first; partly says that some are and others not.
func (m *Map) carries(sharing []Hop, n *estate.Subnet, dead Dead) (all, partly bool) {
	some := false
	all = true
	for k := range sharing {
		_, _, t := m.Plan.At(sharing[k].End)
		if k > 0 && (t.Mute || dead != nil && dead(t)) {
			continue
		}
		is := m.Plan.Link(&t.A).Carries(n.Zone) && m.Plan.Link(&t.B).Carries(n.Zone)
		all, some = all && is, some || is
	}
	return all, some && !all
}

// takes reports whether the far end of a tunnel, as one end has it for a peer,
// may be asked for an address or send from it: Peer.Allowed(), without listing it.
func (m *Map) takes(end tunnel.End, a netip.Addr) bool {
	o, _, _ := m.Plan.At(end)
	near, far := m.Plan.Sides(end)
	return o.Takes(m.Plan, near.Site, far.Site, a, func(a netip.Addr) bool {
		_, ok := m.shared[end.Overlay].around(a)
		return ok
	})
}

// exitsAt reports whether a hub lets a packet of a site out to the internet, and
// why not.
func (m *Map) exitsAt(o *tunnel.Overlay, hub int, source place, to netip.Addr) (ok bool, why string) {
	b, key := o.Spec.Breakout, m.Plan.Site(hub).Key
	if b == nil || source.site < 0 || !slices.Contains(b.Hubs, key) || !slices.Contains(b.Sites, m.Plan.Site(source.site).Key) ||
		!m.Plan.Site(source.site).Subnets[source.subnet].SharedInto(o.Spec.Key) {
		return false, key + " has no route for it, and lets nobody else's traffic out"
	}
	family := estate.V4
	if to.Is6() {
		family = estate.V6
	}
	if !slices.ContainsFunc(m.Plan.Site(hub).Links, func(l estate.Link) bool {
		return l.Device != "" && l.UnderlayOf() == estate.Internet && (l.Has(family) || NextHop(&l, to.Is4()).IsValid())
	}) {
		return false, key + " has no way to the internet for " + familyOf(to)
	}
	return true, ""
}
