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
		if o.IsHub(remote.Site) && len(o.Members) > 2 {
			if at != e.Overlay {
				at, carried = e.Overlay, addr.Subtract(o.Shared, own)
			}
			prefixes = carried
		} else {
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
	if !link.Reach.Callable() {
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
