package route

import (
	"net/netip"
	"slices"

	"wideknot/core/estate"
	"wideknot/core/tunnel"
)

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

// BreaksOut reports whether the site sends its internet traffic through hubs.
func (m *Map) BreaksOut(site int) bool {
	for _, g := range m.graphs {
		if b := g.overlay.Spec.Breakout; b != nil && slices.Contains(b.Sites, m.Plan.Site(site).Key) {
			return true
		}
	}
	return false
}
