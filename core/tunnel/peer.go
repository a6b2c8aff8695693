package tunnel

import (
	"cmp"
	"net/netip"
	"slices"
	"strconv"

	"wideknot/core/addr"
	"wideknot/core/estate"
)

// Keepalive is how often, in seconds, an end behind NAT that calls sends
// something so that the NAT keeps its mapping, unless the overlay says
// otherwise.
const Keepalive = 25

// A Peer is one end's view of a tunnel: what a site's gateway must know of the
// far end.
type Peer struct {
	Tunnel    *Tunnel
	Adjacency *Adjacency
	Overlay   *Overlay
	Local     *Port
	Remote    *Port
	Rank      int    // of the tunnel in its adjacency, from 1
	Interface string // at the local end
	Endpoint  string // ADDRESS:PORT or NAME:PORT; empty when the far end cannot be called
	Keepalive int    // seconds; 0 for none
	PublicKey string // of the far end; empty when it is not known yet
	Allowed   []netip.Prefix
}

// Peers lists the peers of a site, one for each of its tunnels.
func (p *Plan) Peers(site int) []Peer {
	out := make([]Peer, 0, len(p.ends[site]))
	var carried []netip.Prefix
	at := -1
	for _, e := range p.ends[site] {
		o, a, t := p.At(e)
		local, remote := p.Sides(e)
		peer := Peer{
			Tunnel: t, Adjacency: a, Overlay: o, Local: local, Remote: remote, Rank: e.Tunnel + 1,
			Interface: local.Interface,
			Endpoint:  p.Endpoint(t, remote),
			PublicKey: p.PublicKey(remote.Site),
		}
		if reach := p.Link(local).Reach; local.Calls && !(reach == estate.Static || reach == estate.Dynamic) {
			peer.Keepalive = cmp.Or(o.Spec.KeepaliveS, Keepalive)
		}
		own := p.Site(site).Shared(o.Spec.Key)
		prefixes := p.Site(remote.Site).Shared(o.Spec.Key)
		switch {
		case o.returns(site, remote.Site):
			prefixes = addr.Aggregate(slices.Concat(o.Shared, o.hubPools(p)))
		case o.IsHub(remote.Site) && len(o.Members) > 2:
			if at != e.Overlay {
				at, carried = e.Overlay, addr.Aggregate(slices.Concat(addr.Subtract(o.Shared, own), o.hubPools(p)))
			}
			prefixes = carried
		default:
			prefixes = addr.Subtract(addr.Aggregate(prefixes), own)
		}
		for _, block := range []netip.Prefix{remote.Address4, remote.Address6} {
			if block.IsValid() {
				peer.Allowed = append(peer.Allowed, netip.PrefixFrom(block.Addr(), block.Addr().BitLen()))
			}
		}
		peer.Allowed = append(peer.Allowed, o.withBreakout(prefixes, p.Site(site).Key, p.Site(remote.Site).Key)...)
		out = append(out, peer)
	}
	return out
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
		return shared(a) || in(o.hubPools(p))
	case o.IsHub(remote) && len(o.Members) > 2:
		return shared(a) && !in(p.Site(site).Shared(o.Spec.Key)) || in(o.hubPools(p))
	}
	return in(p.Site(remote).Shared(o.Spec.Key)) && !in(p.Site(site).Shared(o.Spec.Key))
}

var (
	all4 = netip.MustParsePrefix("0.0.0.0/0")
	all6 = netip.MustParsePrefix("::/0")
)

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

// Endpoint is where the far end of a tunnel is called, as ADDRESS:PORT or
// NAME:PORT; empty when it cannot be called.
func (p *Plan) Endpoint(t *Tunnel, remote *Port) string {
	link := p.Link(remote)
	if !p.callable(remote) {
		return ""
	}
	port := strconv.Itoa(remote.UDP)
	if link.Reach == estate.Dynamic {
		return link.Hostname + ":" + port
	}
	address := link.AddressOf(t.Family)
	return netip.AddrPortFrom(address, uint16(remote.UDP)).String()
}

// PublicKey returns the X25519 public key of a site's gateway: the one its
// engineer gave, else the one the tool made.
func (p *Plan) PublicKey(site int) string {
	s := p.Site(site)
	if s.Gateway.PublicKey != "" {
		return s.Gateway.PublicKey
	}
	return p.Estate.Allocations.Keys[s.Key]
}
