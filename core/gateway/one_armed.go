package gateway

import (
	"net/netip"
	"slices"

	"wideknot/core/route"
)

// beside is the work for the LAN's router when the gateway stands beside it: a
// route for everything that lies beyond the tunnels and, where subnets break out at
// a hub, one for what starts there. The gateway's own packets, which carry the
// tunnels, must not come back to it.
func (k *making) beside(table []route.Route, extras []route.Extra) {
	g, out := &k.site.Gateway, &k.out.Neighbours
	var remote []netip.Prefix
	for i := range table {
		if r := &table[i]; r.Kind == route.Overlay || r.Kind == route.Cut {
			remote = append(remote, r.Prefix)
		}
	}
	for _, family := range []Family{IPv4, IPv6} {
		if up := g.UpstreamOf(family == IPv4); up.IsValid() {
			out.Upstream = append(out.Upstream, up)
		}
		prefixes, own := ofFamily(remote, family), g.LANAddressOf(family == IPv4)
		if len(prefixes) > 0 && !own.IsValid() {
			out.Without = append(out.Without, Unreached{Family: family, Count: len(prefixes)})
			continue
		}
		for _, prefix := range prefixes {
			out.Routes = append(out.Routes, LANRoute{Index: len(out.Routes) + 1, Prefix: prefix, Via: own})
		}
	}
	k.ownWay(table, extras)
	for i := range extras {
		for _, r := range extras[i].Routes {
			family := FamilyOf(r.Prefix.Addr())
			if own := g.LANAddressOf(family == IPv4); extras[i].Last && own.IsValid() {
				for _, from := range ofFamily(extras[i].From, family) {
					out.Routes = append(out.Routes, LANRoute{Index: len(out.Routes) + 1, From: from, Prefix: r.Prefix, Via: own})
				}
			}
		}
	}
}

// ownWay lists what the LAN's router must not send to this gateway though it has nothing but its
// default route for it: what is excepted from breakout, which is the LAN's own internet traffic, and
// far ends of tunnels that this gateway reaches by that router itself. It would get them back, and
// send them here again.
func (k *making) ownWay(table []route.Route, extras []route.Extra) {
	if !slices.ContainsFunc(extras, func(x route.Extra) bool { return x.Last && len(x.From) > 0 }) {
		return
	}
	for i := range table {
		r := &table[i]
		if !k.site.Gateway.LANAddressOf(r.Prefix.Addr().Is4()).IsValid() {
			continue // it is asked for nothing of that family
		}
		if r.Kind == route.Local || r.Kind == route.Pin && r.Link.Device == k.site.Gateway.LANDevice {
			k.out.Neighbours.OwnWay = append(k.out.Neighbours.OwnWay, r.Prefix)
		}
	}
}
