package route

import (
	"net/netip"

	"wideknot/core/tunnel"
)

// SiteTunnel is a tunnel as one of its sites sees it.
type SiteTunnel struct {
	Overlay   string         `json:"overlay"`
	Tunnel    string         `json:"tunnel" doc:"its name in the overlay, the same at both ends"`
	Interface string         `json:"interface"`
	Link      string         `json:"link"`
	Port      int            `json:"port"`
	Addresses []netip.Prefix `json:"addresses"`
	Peer      string         `json:"peer"`
	PeerLink  string         `json:"peer_link"`
	PeerFace  string         `json:"peer_interface"`
	PeerPort  int            `json:"peer_port"`
	PeerAddrs []netip.Prefix `json:"peer_addresses"`
	Rank      int            `json:"rank" doc:"in the adjacency, 1 first"`
	Of        int            `json:"of"`
	Share     *tunnel.Share  `json:"share,omitempty" doc:"its part of the flows, where tunnels share the load"`
	Kind      tunnel.Kind    `json:"kind"`
	Position  int            `json:"position" doc:"of the hub in the spoke's list, 0 for none"`
	Cost      int            `json:"cost"`
	MTU       int            `json:"mtu"`
	Family    string         `json:"family"`
	Opens     string         `json:"opens" enum:"this,peer,both,nobody"`
	Endpoint  string         `json:"endpoint" doc:"where the peer is called; empty when it cannot be"`
	Keepalive int            `json:"keepalive" doc:"seconds, 0 for none"`
	PeerKey   string         `json:"peer_key"`
	Allowed   []netip.Prefix `json:"allowed"`
}

// SiteRoute is a route of a site.
type SiteRoute struct {
	Prefix  netip.Prefix `json:"prefix"`
	Kind    Kind         `json:"kind"`
	To      string       `json:"to"`
	Overlay string       `json:"overlay"`
	Chain   int          `json:"chain" doc:"which of the site's chains carries it; -1 for none"`
	Link    string       `json:"link" doc:"WAN link by which a pinned or local route leaves"`
	NextHop string       `json:"next_hop"`
	Discard bool         `json:"discard" doc:"whether a discard route stands behind it"`
	// From is set for a breakout, which is for packets that start there.
	From []netip.Prefix `json:"from,omitempty" doc:"subnets of the site in which a packet must start"`
}

// RouteHop is one way of a route; the first is in use, the others stand by.
type RouteHop struct {
	Interface string `json:"interface"`
	Via       string `json:"via"`
	Metric    int    `json:"metric"`
	Weight    int    `json:"weight" doc:"its part among hops of the same metric, which share the load; 0 where there is but one"`
	Cost      int    `json:"cost"`
	Steps     int    `json:"steps"`
	Why       Rule   `json:"why"`
}

// SiteSheet is everything that follows for one site but its configuration.
type SiteSheet struct {
	Site      string       `json:"site"`
	Name      string       `json:"name"`
	PublicKey string       `json:"public_key"`
	Switches  bool         `json:"switches" doc:"whether a dead tunnel goes out of use without anybody acting"`
	Tunnels   []SiteTunnel `json:"tunnels"`
	Routes    []SiteRoute  `json:"routes"`
	Chains    [][]RouteHop `json:"chains" doc:"ways that many routes share, each in order: the first carries the traffic"`
	Apart     []Apart      `json:"apart" doc:"adjacencies that no tunnel serves"`
}

// Apart is a pair of sites that cannot be joined.
type Apart struct {
	Overlay string   `json:"overlay"`
	Peer    string   `json:"peer"`
	Reasons []string `json:"reasons"`
	Via     []string `json:"via" doc:"the hubs that carry the traffic instead; empty when none does"`
}

func (m *Map) chain(hops []Hop) []RouteHop {
	out := make([]RouteHop, len(hops))
	for i, h := range hops {
		out[i] = RouteHop{Interface: h.Interface, Via: m.Plan.Site(h.Via).Key, Metric: h.Metric, Weight: h.Weight, Cost: h.Cost, Steps: h.Steps, Why: h.Why}
	}
	return out
}

func valid(prefixes ...netip.Prefix) []netip.Prefix {
	out := []netip.Prefix{}
	for _, p := range prefixes {
		if p.IsValid() {
			out = append(out, p)
		}
	}
	return out
}

// SiteSheet returns what follows for a site.
func (m *Map) SiteSheet(site int) SiteSheet {
	p := m.Plan
	key := func(i int) string { return p.Site(i).Key }
	out := SiteSheet{
		Site: key(site), Name: p.Site(site).Name, PublicKey: p.PublicKey(site), Switches: p.Site(site).Gateway.SwitchesItself(),
		Tunnels: []SiteTunnel{}, Routes: []SiteRoute{}, Chains: [][]RouteHop{}, Apart: []Apart{},
	}
	for _, peer := range p.Peers(site) {
		out.Tunnels = append(out.Tunnels, SiteTunnel{
			Overlay: peer.Overlay.Spec.Key, Tunnel: p.Ident(peer.Tunnel), Interface: peer.Interface, Link: p.Link(peer.Local).Key, Port: peer.Local.UDP,
			Addresses: valid(peer.Local.Address4, peer.Local.Address6),
			Peer:      key(peer.Remote.Site), PeerLink: p.Link(peer.Remote).Key, PeerFace: peer.Remote.Interface, PeerPort: peer.Remote.UDP,
			PeerAddrs: valid(peer.Remote.Address4, peer.Remote.Address6),
			Rank:      peer.Rank, Of: len(peer.Adjacency.Tunnels), Share: peer.Adjacency.Share(peer.Rank - 1), Kind: peer.Adjacency.Kind, Position: peer.Adjacency.Position, Cost: peer.Adjacency.Cost,
			MTU: peer.Tunnel.MTU, Family: string(peer.Tunnel.Family), Opens: peer.Tunnel.Opens(peer.Local, "this", "peer"),
			Endpoint: peer.Endpoint, Keepalive: peer.Keepalive, PeerKey: peer.PublicKey, Allowed: peer.Allowed(),
		})
	}
	chains := map[*Hop]int{} // routes share their hops
	for _, r := range m.Table(site) {
		one := SiteRoute{Prefix: r.Prefix, Kind: r.Kind, To: key(r.To), Overlay: r.Overlay, Chain: -1, Discard: r.Discards(), From: r.From}
		if r.Link != nil {
			one.Link, one.NextHop = r.Link.Key, r.NextHop.String()
		}
		if len(r.Hops) > 0 {
			at, known := chains[&r.Hops[0]]
			if !known {
				at = len(out.Chains)
				chains[&r.Hops[0]] = at
				out.Chains = append(out.Chains, m.chain(r.Hops))
			}
			one.Chain = at
		}
		out.Routes = append(out.Routes, one)
	}
	for i := range p.Overlays {
		o := &p.Overlays[i]
		for j := range o.Adjacencies {
			a := &o.Adjacencies[j]
			if len(a.Tunnels) > 0 || a.A != site && a.B != site {
				continue
			}
			apart := Apart{Overlay: o.Spec.Key, Peer: key(a.A + a.B - site), Reasons: p.WhyApart(o, a), Via: append([]string{}, m.Via(i, a.A, a.B)...)}
			out.Apart = append(out.Apart, apart)
		}
	}
	return out
}
