package tunnel

import (
	"net/netip"
	"slices"

	"wideknot/core/addr"
)

// throughHubs keeps what any hub of an overlay carries to a site, which is the same
// for each, and what lies behind the site asked for last, which each of its tunnels
// asks for: one after another does.
type throughHubs struct {
	overlay int // and 1
	carried []netip.Prefix

	lastOverlay, last int // and 1
	behind            []netip.Prefix
}

// farEnd lists the addresses of an end in its tunnel.
func farEnd(end *Port) (out []netip.Prefix) {
	for _, block := range [...]netip.Prefix{end.Address4, end.Address6} {
		if block.IsValid() {
			out = append(out, netip.PrefixFrom(block.Addr(), block.Addr().BitLen()))
		}
	}
	return out
}

// behind is what lies behind a peer (section 6 of the domain).
func (p *Plan) behind(overlay, site int, remote *Port, hubs *throughHubs) []netip.Prefix {
	if hubs.lastOverlay != overlay+1 || hubs.last != remote.Site+1 {
		hubs.lastOverlay, hubs.last = overlay+1, remote.Site+1
		hubs.behind = p.behindSite(overlay, site, remote, hubs)
	}
	return hubs.behind
}

func (p *Plan) behindSite(overlay, site int, remote *Port, hubs *throughHubs) (prefixes []netip.Prefix) {
	o := &p.Overlays[overlay]
	switch {
	case o.returns(site, remote.Site):
		prefixes = o.taken
	case o.IsHub(remote.Site) && len(o.Members) > 2:
		if hubs.overlay != overlay+1 {
			own := addr.Subtract(addr.Aggregate(p.Site(site).Shared(o.Spec.Key)), o.pools)
			hubs.overlay, hubs.carried = overlay+1, addr.Subtract(o.taken, own)
		}
		prefixes = hubs.carried
	default:
		prefixes = addr.Subtract(addr.Aggregate(p.Site(remote.Site).Shared(o.Spec.Key)), p.Site(site).Shared(o.Spec.Key))
	}
	return o.withBreakout(prefixes, p.Site(site).Key, p.Site(remote.Site).Key)
}

// pools lists what the tunnels of a hub are numbered from, in all its overlays.
// Any hub on the way may say of a packet that it is too big, and says so under
// the address of any of its tunnels.
func (p *Plan) pools(hub int) (out []netip.Prefix) {
	for i := range p.Overlays {
		if p.Overlays[i].Has(hub) {
			for _, pool := range p.Overlays[i].Spec.Transit {
				out = append(out, pool.Masked())
			}
		}
	}
	return out
}

// hubPools lists the pools of the hubs of an overlay.
func (o *Overlay) hubPools(p *Plan) (out []netip.Prefix) {
	for _, hub := range o.Hubs {
		out = append(out, p.pools(hub)...)
	}
	return out
}

// returns reports whether a hub takes its own addresses back from another hub:
// while that hub's tunnels to a site are down it hands on what it was sent for
// the site, and nobody else may be left to hand it to.
func (o *Overlay) returns(site, remote int) bool {
	return len(o.Members) > 2 && o.IsHub(site) && o.IsHub(remote)
}

// Takes reports whether an address is among the allowed prefixes of a peer: of
// the site remote, as a site has it. shared says whether some member shares the
// address into the overlay.
func (o *Overlay) Takes(p *Plan, site, remote int, a netip.Addr, shared func(netip.Addr) bool) bool {
	in := func(prefixes []netip.Prefix) bool {
		return slices.ContainsFunc(prefixes, func(p netip.Prefix) bool { return p.Contains(a) })
	}
	if b := o.Spec.Breakout; b != nil && slices.Contains(b.Sites, p.Site(site).Key) && slices.Contains(b.Hubs, p.Site(remote).Key) {
		if a.Is4() && o.Needs4 || a.Is6() && o.Needs6 {
			return true
		}
	}
	switch {
	case o.returns(site, remote):
		return shared(a) || in(o.pools)
	case o.IsHub(remote) && len(o.Members) > 2:
		return shared(a) && !in(p.Site(site).Shared(o.Spec.Key)) || in(o.pools)
	}
	return in(p.Site(remote).Shared(o.Spec.Key)) && !in(p.Site(site).Shared(o.Spec.Key))
}

// withBreakout lets everything come from a hub by which a site reaches the
// internet. A default replaces the prefixes of its own family only.
func (o *Overlay) withBreakout(prefixes []netip.Prefix, site, hub string) []netip.Prefix {
	b := o.Spec.Breakout
	if b == nil || !slices.Contains(b.Sites, site) || !slices.Contains(b.Hubs, hub) {
		return prefixes
	}
	var out []netip.Prefix
	for _, all := range []netip.Prefix{all4, all6} {
		needed := all == all4 && o.Needs4 || all == all6 && o.Needs6
		if needed {
			out = append(out, all)
			continue
		}
		for _, p := range prefixes {
			if p.Addr().Is4() == all.Addr().Is4() {
				out = append(out, p)
			}
		}
	}
	return out
}
