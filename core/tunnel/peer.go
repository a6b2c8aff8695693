package tunnel

import (
	"cmp"
	"net/netip"
	"slices"
	"strconv"

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
	Rank      int            // of the tunnel in its adjacency, from 1
	Interface string         // at the local end
	Endpoint  string         // ADDRESS:PORT or NAME:PORT; empty when the far end cannot be called
	Keepalive int            // seconds; 0 for none
	PublicKey string         // of the far end; empty when it is not known yet
	FarEnd    []netip.Prefix // the far end's addresses in the tunnel
	Behind    []netip.Prefix // what lies behind the far end; peers share the list, which must not be changed
}

// Allowed lists what the peer may send from, and what is sent to it (section 6 of
// the domain).
func (p *Peer) Allowed() []netip.Prefix { return slices.Concat(p.FarEnd, p.Behind) }

// Peers lists the peers of a site, one for each of its tunnels.
func (p *Plan) Peers(site int) []Peer {
	out := make([]Peer, 0, len(p.ends[site]))
	var hubs throughHubs
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
		peer.FarEnd = farEnd(remote)
		peer.Behind = p.behind(e.Overlay, site, remote, &hubs)
		out = append(out, peer)
	}
	return out
}

var (
	all4 = netip.MustParsePrefix("0.0.0.0/0")
	all6 = netip.MustParsePrefix("::/0")
)

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

// Opens says which end opens the tunnel, by the words for the given end and the
// other one: one of them, "both" or "nobody".
func (t *Tunnel) Opens(end *Port, this, other string) string {
	far := &t.B
	if end == far {
		far = &t.A
	}
	switch {
	case t.Mute:
		return "nobody"
	case end.Calls && far.Calls:
		return "both"
	case far.Calls:
		return other
	}
	return this
}
