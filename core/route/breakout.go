package route

import (
	"net/netip"
	"slices"

	"wideknot/core/estate"

	"wideknot/core/tunnel"
)

// Breakout is decided by where a packet starts: only the subnets that a site
// shares into the overlay whose hubs give breakout send their internet traffic
// there. All others keep the site's own way out.

// breakouts lists the tables that send the internet traffic of some subnets of
// a site through hubs. They are asked after all other routes of the site but its
// default.
func (m *Map) breakouts(site int) []Extra {
	var out []Extra
	taken := map[int]bool{} // subnets that an earlier overlay breaks out
	for i, g := range m.graphs {
		hops := m.exits(i, site)
		if len(hops) == 0 {
			continue // a finding says so where there should be some
		}
		x := Extra{Why: "to the internet by " + g.overlay.Spec.Key, Last: true}
		for j := range m.Plan.Site(site).Subnets {
			if n := &m.Plan.Site(site).Subnets[j]; n.SharedInto(g.overlay.Spec.Key) && !taken[j] {
				taken[j] = true
				x.From = append(x.From, n.Prefix)
			}
		}
		for _, all := range defaults(g.overlay) {
			x.Routes = append(x.Routes, Route{Prefix: all, Kind: Breakout, To: hops[0].Via, Overlay: g.overlay.Spec.Key, Hops: hops})
		}
		for k := range x.Routes {
			x.Routes[k].From = x.From
		}
		if len(x.From) > 0 {
			out = append(out, x)
		}
	}
	return out
}

// exits lists the tunnels by which a site reaches the hubs that give it breakout
// in an overlay, in the order of those hubs.
func (m *Map) exits(overlay, site int) []Hop {
	g := m.graphs[overlay]
	b := g.overlay.Spec.Breakout
	if b == nil || !slices.Contains(b.Sites, m.Plan.Site(site).Key) {
		return nil
	}
	var hops []Hop
	for _, key := range b.Hubs {
		if s, adjacent := g.step(site, m.Plan.SiteIndex(key)); adjacent {
			hops = append(hops, m.tunnelsOf(overlay, site, []trail{{s, s.weight}})...)
		}
	}
	metric := 0
	for j := range hops {
		h := &hops[j]
		switch {
		case j > 0 && h.together(&hops[j-1]):
			h.Why = LoadSharing
		case j > 0 && h.Via == hops[j-1].Via:
			metric, h.Why = metric+10, TunnelRank
		default:
			metric, h.Why = (metric/100+1)*100, HubOrder
		}
		h.Metric = metric
	}
	return hops
}

// returns lists the tables for answers from the internet at a hub that gives
// breakout: they go straight to the site that asked, whatever way is shorter,
// as no other takes them.
func (m *Map) returns(site int) []Extra {
	p := m.Plan
	var devices []string
	for i := range p.Site(site).Links {
		if l := &p.Site(site).Links[i]; l.Device != "" && l.UnderlayOf() == estate.Internet {
			devices = append(devices, l.Device)
		}
	}
	if len(devices) == 0 {
		return nil
	}
	all := Extra{Arriving: devices, Why: "answers from the internet"}
	for i, g := range m.graphs {
		b := g.overlay.Spec.Breakout
		if b == nil || !slices.Contains(b.Hubs, p.Site(site).Key) {
			continue
		}
		for _, key := range b.Sites {
			to := p.SiteIndex(key)
			s, adjacent := g.step(site, to)
			if !adjacent {
				continue
			}
			hops := m.tunnelsOf(i, site, []trail{{s, s.weight}})
			number(hops)
			for _, prefix := range p.Site(to).Shared(g.overlay.Spec.Key) {
				all.Routes = append(all.Routes, Route{Prefix: prefix, Kind: Overlay, To: to, Overlay: g.overlay.Spec.Key, Hops: hops})
			}
		}
	}
	if len(all.Routes) == 0 {
		return nil
	}
	all.Routes = firstOfEach(all.Routes)
	return placed(all)
}

// firstOfEach sorts routes and keeps the first of those for one prefix.
func firstOfEach(routes []Route) []Route {
	slices.SortStableFunc(routes, byPrefix)
	return slices.CompactFunc(routes, func(a, b Route) bool { return a.Prefix == b.Prefix })
}

// around lists what a site that breaks out at hubs needs in its main table
// besides: the exceptions, and a pin for every tunnel's endpoint, which must not
// be sought inside a tunnel whatever else the gateway is told.
func (m *Map) around(site int) []Route {
	var out []Route
	for i, g := range m.graphs {
		if len(m.exits(i, site)) > 0 {
			out = append(out, m.outside(site, g.overlay.Spec.Breakout.Except)...)
		}
	}
	return out
}

var (
	all4 = netip.MustParsePrefix("0.0.0.0/0")
	all6 = netip.MustParsePrefix("::/0")
)

// defaults lists the default prefixes of the families that run inside.
func defaults(o *tunnel.Overlay) []netip.Prefix {
	var out []netip.Prefix
	if o.Needs4 {
		out = append(out, all4)
	}
	if o.Needs6 {
		out = append(out, all6)
	}
	return out
}

// outside lists the routes of a site that breaks out at a hub which must stay
// outside the tunnels: the excepted prefixes by its preferred link, and each
// tunnel's endpoint by that tunnel's link. A link whose device or next hop is
// not known gives none; a finding says so.
func (m *Map) outside(site int, except []netip.Prefix) []Route {
	p := m.Plan
	s := p.Site(site)
	var out []Route
	links := make([]*estate.Link, len(s.Links))
	for i := range s.Links {
		links[i] = &s.Links[i]
	}
	slices.SortStableFunc(links, func(a, b *estate.Link) int { return a.RankOf() - b.RankOf() })
	for _, prefix := range except {
		for _, l := range links {
			if hop := NextHop(l, prefix.Addr().Is4()); hop.IsValid() && l.UnderlayOf() == estate.Internet {
				out = append(out, Route{Prefix: prefix, Kind: Local, To: site, Link: l, NextHop: hop})
				break
			}
		}
	}
	seen := map[netip.Addr]bool{}
	for _, e := range p.Ends(site) {
		_, _, t := p.At(e)
		local, remote := p.Sides(e)
		far, link := p.Link(remote), p.Link(local)
		address := far.AddressOf(t.Family)
		if !far.Reach.Callable() || far.Reach == estate.Dynamic || !address.IsValid() || seen[address] {
			continue
		}
		if hop := NextHop(link, address.Is4()); hop.IsValid() {
			seen[address] = true
			out = append(out, Route{Prefix: netip.PrefixFrom(address, address.BitLen()), Kind: Pin, To: remote.Site, Link: link, NextHop: hop})
		}
	}
	return out
}

// NextHop returns the link's next hop of one family, the zero Addr when the
// design does not know how the link is left.
func NextHop(l *estate.Link, v4 bool) netip.Addr {
	if l.Device == "" {
		return netip.Addr{}
	}
	for _, hop := range l.NextHop {
		if hop.Is4() == v4 {
			return hop
		}
	}
	return netip.Addr{}
}
