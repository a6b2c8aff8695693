package fleet

import (
	"net/netip"
	"slices"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/internal/gateway/memory"
)

// A router is a LAN's own, where the gateway stands beside it: hosts send it what is not for their
// subnet, and it sends the gateway what it was asked to, and the rest its own way, which leads out
// of this world.
type router struct {
	own     []netip.Addr // on the site's subnets
	routes  []gateway.LANRoute
	ownWay  []netip.Prefix
	lacking bool // nobody gave it its routes
	strict  bool // it drops what it did not see begin
}

// routerOf makes the router of a site; nil where its gateway is on the way itself.
func routerOf(spec *estate.Site) *router {
	if spec.Gateway.Placement != estate.OneArmed {
		return nil
	}
	r := &router{}
	for i := range spec.Subnets {
		p := spec.Subnets[i].Prefix
		own := spec.Gateway.UpstreamOf(p.Addr().Is4())
		if !p.Contains(own) {
			own = p.Addr().Next()
		}
		r.own = append(r.own, own)
	}
	return r
}

// sends reports whether a packet is one that the router has a route by the gateway for.
func (r *router) sends(p memory.Packet) bool {
	src, dst, _, _ := p.Parse()
	return !r.lacking && slices.ContainsFunc(r.routes, func(one gateway.LANRoute) bool {
		if one.From.IsValid() && (!one.From.Contains(src.Addr()) || slices.ContainsFunc(r.ownWay, func(p netip.Prefix) bool { return p.Contains(dst.Addr()) })) {
			return false
		}
		return one.Prefix.Contains(dst.Addr())
	})
}

// hop takes a hop off a packet that goes through the router. Where none is left, it returns what the
// router says to its sender.
func (r *router) hop(p memory.Packet) (said memory.Packet, left bool) {
	if p.Hop() {
		return nil, true
	}
	src, _, _, _ := p.Parse()
	for _, a := range r.own {
		if said, ok := p.Expired(a); ok && a.Is4() == src.Addr().Is4() {
			return said, false
		}
	}
	return nil, false
}

// fromRouter is what a LAN's router does with a host's packet.
func (w *World) fromRouter(s *Site, p memory.Packet) {
	w.mu.Lock()
	drops := s.router.strict && !p.Begins() && !s.has(destinationOf(p))
	w.mu.Unlock()
	if drops || !p.Routed() {
		return
	}
	if said, left := s.router.hop(p); left {
		w.byRouter(s, p)
	} else if said != nil {
		w.byRouter(s, said)
	}
}

// byRouter sends a packet on: one for a subnet of the site to its host, one that the router has a
// route for to the gateway, and others out of this world.
func (w *World) byRouter(s *Site, p memory.Packet) {
	w.mu.Lock()
	here, goes := s.has(destinationOf(p)), s.router.sends(p)
	w.mu.Unlock()
	switch {
	case here:
		w.wire.carry(time.Now().Add(onLANAfter), len(p), func() { w.onHosts(s, p) })
	case goes:
		w.wire.carry(time.Now().Add(onLANAfter), len(p), func() { s.Machine.Inject(s.lan, p) })
	}
}

func destinationOf(p memory.Packet) netip.Addr {
	_, dst, _, _ := p.Parse()
	return dst.Addr()
}

// behindRouter reports whether a site's gateway reaches an address by the LAN's router alone.
func (s *Site) behindRouter(a netip.Addr) bool {
	return s.router != nil && !slices.ContainsFunc(s.subnets, func(n netip.Prefix) bool {
		return n.Contains(a) && slices.ContainsFunc(s.beside, n.Contains)
	})
}

// toRouter is what a LAN's router does with what the gateway sends it for its hosts.
func (w *World) toRouter(s *Site, p memory.Packet) {
	if said, left := s.router.hop(p); left {
		w.onHosts(s, p)
	} else if said != nil {
		w.byRouter(s, said)
	}
}

// lanOf is the device of a site's gateway that leads to its LAN. A gateway that is on the way has
// the first address of each subnet; one beside a router has those that it was given, and
// reaches the other subnets by the router.
func lanOf(spec *estate.Site) memory.Nic {
	g := &spec.Gateway
	lan := memory.Nic{Name: g.LANDevice, MTU: 1500}
	if lan.Name == "" {
		lan.Name = "lan0"
	}
	for i := range spec.Subnets {
		p := spec.Subnets[i].Prefix
		own := p.Addr().Next()
		given := slices.IndexFunc(g.LANAddresses(), p.Contains)
		if given >= 0 {
			own = g.LANAddresses()[given]
		}
		up := g.UpstreamOf(p.Addr().Is4())
		switch {
		case given < 0 && g.Placement == estate.OneArmed:
			if up.IsValid() {
				lan.Behind = append(lan.Behind, gateway.Behind{Prefix: p, Via: up, Device: lan.Name})
			}
		case p.Contains(own):
			lan.Addresses = append(lan.Addresses, netip.PrefixFrom(own, p.Bits()))
		}
	}
	return lan
}
