package route

import (
	"fmt"
	"net/netip"
	"slices"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/tunnel"
)

// A follower walks a packet through the tables, filters and peers that gateways
// have, one gateway after the other.
type follower struct {
	m       *Map
	packet  Packet
	dead    Dead
	failing Failing
}

// An arrival is where a packet comes in at a gateway: from the LAN, by a
// tunnel, or from the internet.
type arrival struct {
	by  from
	end tunnel.End // of a tunnel, seen from where it arrives
}

type from int

const (
	lan from = iota
	byTunnel
	byInternet
)

// nowhere is the place of an address in the internet.
func nowhere(a netip.Addr) place { return place{site: -1, subnet: -1, own: a, seen: a} }

// A flight is one direction on its way.
type flight struct {
	*follower
	walk   Walk
	source place // the host that sends
	to     netip.Addr
	reply  bool
	at     int
	in     arrival
	bare   bool // nothing translates its source: it has not been in a tunnel yet
}

// ask follows the packet there.
func (f *follower) ask(source place) (Walk, place) {
	w := &flight{follower: f, walk: Walk{FromSite: source.site, ToSite: -1, Where: source.site}, source: source, to: f.packet.To, at: source.site, bare: true}
	target := w.run()
	return w.walk, target
}

// answer follows the answer back from where the packet arrived.
func (f *follower) answer(there *Walk, source, target place) Walk {
	to := source.own
	if len(there.Steps) > 0 {
		to = source.seen
	}
	w := &flight{follower: f, walk: Walk{FromSite: there.ToSite, ToSite: -1, Where: there.Where}, source: target, to: to, reply: true, at: there.Where, bare: true}
	if there.End == Leaves {
		w.walk.FromSite = there.Where
		w.source, w.in = nowhere(f.packet.To), arrival{by: byInternet}
	}
	end := w.run()
	if w.walk.End == Delivered && (end.site != source.site || end.own != source.own) {
		key := f.m.Plan.Site(end.site).Key
		w.walk.End, w.walk.Why = Dies, fmt.Sprintf("a subnet of %s holds the address that asked, so the answer stays there", key)
		w.walk.Fix = "Renumber or map one of the two; see the finding on their collision."
	}
	return w.walk
}

// run goes on until the packet arrives or ends.
func (f *flight) run() place {
	m := f.m
	for {
		f.walk.Where = f.at
		r, known := m.decide(f.at, f.in, f.source, f.to)
		if f.in.by == lan && known && r.Kind == Connected {
			f.walk.End, f.walk.ToSite = Delivered, f.at
			i := m.holdsOwn(f.at, f.to)
			return place{f.at, i, f.to, addr.Moved(f.to, m.Plan.Site(f.at).Subnets[i].Prefix, m.Plan.Site(f.at).Subnets[i].Taking())}
		}
		if g := &m.Plan.Site(f.at).Gateway; f.in.by == lan && g.Placement == estate.OneArmed && !g.LANAddressOf(f.to.Is4()).IsValid() {
			if known && (r.Kind == Overlay || r.Kind == Cut) {
				f.deaf()
				return place{}
			}
			known = false // the router sends it its own way
		}
		switch {
		case !known || r.Kind == Local || r.Kind == Pin:
			f.leave()
			return nowhere(f.to)
		case r.Kind == Connected:
			return f.arrive()
		case len(r.Hops) == 0 && f.in.by == lan && f.knows(r.To):
			f.unshared()
			return place{}
		}
		hops := f.within(f.steer(&r, f.inUse(r.Hops)))
		if len(hops) == 0 {
			f.walk.ToSite = r.To
			what := "there is no path to " + m.Plan.Site(r.To).Key
			if len(r.Hops) > 0 {
				what = "all tunnels of " + m.Plan.Site(f.at).Key + " towards " + m.Plan.Site(r.To).Key + " are dead"
			}
			f.die(fmt.Sprintf("%s; the discard route of %s takes the packet", what, r.Prefix), "See the findings on pairs that cannot be joined, in Shape.")
			return place{}
		}
		if len(f.walk.Steps) == 0 {
			f.walk.ToSite = r.To
			if hops[0].To >= 0 {
				f.walk.ToSite = hops[0].To
			}
		}
		if !f.send(hops) {
			return place{}
		}
	}
}

func (f *flight) die(why, fix string) {
	f.walk.End, f.walk.Why, f.walk.Fix = Dies, why, fix
}

// dying reports whether a hop's tunnel is dead.
func (f *flight) dying(h Hop) bool {
	_, _, t := f.m.Plan.At(h.End)
	return t.Mute || f.dead != nil && f.dead(t)
}

// inUse returns the hops in the order in which they carry traffic: without those
// that are dead where the gateway takes them out of use.
func (f *flight) inUse(hops []Hop) []Hop {
	if !f.m.Plan.Site(f.at).Gateway.SwitchesItself() || !slices.ContainsFunc(hops, f.dying) {
		return hops
	}
	return slices.DeleteFunc(slices.Clone(hops), f.dying)
}

// send sends the packet through the first of the hops; false when it ends here
// or is not taken there.
func (f *flight) send(hops []Hop) bool {
	m, p := f.m, f.m.Plan
	hop := hops[0]
	o, _, t := p.At(hop.End)
	_, far := p.Sides(hop.End)
	if !f.passes(hops) {
		return false
	}
	if sharing := hops[:Sharing(hops)]; slices.ContainsFunc(sharing, f.dying) {
		f.walk.Partly = !f.dying(hop) || slices.ContainsFunc(sharing, func(h Hop) bool { return !f.dying(h) })
		f.die(fmt.Sprintf("%s keeps sending into the tunnel %s, which is dead, until somebody intervenes: there is no automatic failover", p.Site(f.at).Key, p.Ident(t)),
			"Have the gateway monitor its tunnels, and set that at the site in Survey.")
		return false
	}
	if len(f.walk.Steps) > 2+len(m.graphs[hop.End.Overlay].hubs) {
		f.die("the packet loops until its TTL expires", "Remove the pins that send it back.")
		return false
	}
	src := f.source.seen
	f.walk.Steps = append(f.walk.Steps, Step{Site: f.at, Hop: hop, Beside: hops[1:Sharing(hops)], Tunnel: t, Overlay: o.Spec.Key, Held: f.held(&hop), Far: hop.Via, FarFace: far.Interface})
	before := f.at
	f.bare = false
	f.at, f.in = hop.Via, arrival{byTunnel, tunnel.End{Overlay: hop.End.Overlay, Adjacency: hop.End.Adjacency, Tunnel: hop.End.Tunnel, AtA: !hop.End.AtA}}
	f.walk.Where = f.at
	switch {
	case !m.takes(hop.End, f.to):
		f.walk.Where = before
		f.die(fmt.Sprintf("the tunnel to %s is not for %s", p.Site(hop.Via).Key, f.to), "See the finding on the collision of its prefix.")
		return false
	case !m.takes(f.in.end, src):
		f.die(fmt.Sprintf("%s takes nothing from %s through this tunnel", p.Site(f.at).Key, src), "See the finding on the collision of its prefix.")
		return false
	}
	return true
}

// passes asks the filter of the gateway about a packet that goes into a tunnel.
func (f *flight) passes(hops []Hop) bool {
	m, p := f.m, f.m.Plan
	overlay := hops[0].End.Overlay
	key := p.Site(f.at).Key
	switch f.in.by {
	case lan:
		n := &p.Site(f.at).Subnets[f.source.subnet]
		if len(n.Share) == 0 {
			f.unshared()
			return false
		}
		if !f.carried(hops[:Sharing(hops)], n) {
			return false
		}
		return f.permitted(overlay)
	case byTunnel:
		if f.in.end.Overlay != overlay || !m.graphs[overlay].overlay.IsHub(f.at) {
			f.die(key+" does not carry traffic for others", "Remove the pin that sends it there, or make "+key+" a hub.")
			return false
		}
		if f.source.site == f.at { // its own, back from another hub
			if n := &p.Site(f.at).Subnets[f.source.subnet]; n.Taking() == n.Prefix && !f.carried(hops[:Sharing(hops)], n) {
				return false
			}
		}
	}
	return true
}

// permitted asks the policy of an overlay, at the end of the way.
func (f *flight) permitted(overlay int) bool {
	m := f.m
	policy := m.Policy(overlay)
	if policy == nil {
		return true
	}
	target := nowhere(f.to)
	if found, ok := m.shared[overlay].around(f.to); ok {
		target = place{found[0].site, found[0].subnet, addr.Moved(f.to, found[0].prefix, m.subnet(found[0]).Prefix), f.to}
	}
	var action estate.Action
	if action, f.walk.Rule = policy.verdict(f.source, target, f.packet.Protocol, f.packet.Port, f.reply); action == estate.Deny {
		m.denied(&f.walk, overlay, f.reply)
		return false
	}
	return true
}

// arrive hands the packet from a tunnel, or from the internet, to its host.
func (f *flight) arrive() place {
	m := f.m
	site := m.Plan.Site(f.at)
	own := m.inside(f.at, f.to)
	i := m.holdsOwn(f.at, own)
	n := &site.Subnets[i]
	f.walk.ToSite = f.at
	target := place{f.at, i, own, f.to}
	if f.in.by != byTunnel {
		f.walk.End = Delivered
		return target
	}
	switch {
	case len(n.Share) == 0:
		f.die(fmt.Sprintf("%s at %s is not shared, and its gateway lets nothing in from tunnels", n.Prefix, site.Key), "Share it, in Shape or at its site in Survey.")
		return place{}
	case !f.carried(f.walk.arriving(), n):
		return place{}
	case site.Gateway.Placement == estate.OneArmed && !site.Gateway.LANAddressOf(f.to.Is4()).IsValid():
		f.deaf()
		return place{}
	case f.source.site < 0 && !f.permitted(f.in.end.Overlay):
		return place{}
	}
	f.walk.End = Delivered
	return target
}

// leave is what becomes of a packet for which a gateway has nothing but its
// default route.
func (f *flight) leave() {
	m := f.m
	site := m.Plan.Site(f.at)
	if f.in.by == byTunnel {
		ok, why := m.exitsAt(m.graphs[f.in.end.Overlay].overlay, f.at, f.source, f.to)
		if ok {
			f.walk.End, f.walk.Why = Leaves, fmt.Sprintf("by the internet link of %s, which translates its source address", site.Key)
			f.walk.ToSite = -1
			return
		}
		f.die(why, "See the findings on breakout, in Shape.")
		return
	}
	subnet := &site.Subnets[f.source.subnet]
	held, known := m.local.around(f.to)
	switch {
	case known && m.subnet(held[0]).Map.IsValid():
		f.die(fmt.Sprintf("%s at %s is reached as %s only", held[0].prefix, m.names(held), m.subnet(held[0]).Map), "Follow the packet to the mapped address.")
	case known && len(m.openTo(f.at, subnet)) == 0:
		f.die(fmt.Sprintf("%s at %s is shared into no overlay of the site", subnet.Prefix, site.Key), "Share it, in Shape or at its site in Survey.")
	case known:
		f.die(fmt.Sprintf("%s at %s is shared into no overlay that %s at %s is in", held[0].prefix, m.names(held), subnet.Prefix, site.Key), "Share it, in Shape or at its site in Survey.")
	default:
		f.walk.End, f.walk.Why = Leaves, "by the site's own internet link: no overlay has a route for it"
	}
}

// knows reports whether a route of no hops is one that only other subnets of the
// site may use.
func (f *flight) knows(to int) bool {
	return len(f.m.openTo(f.at, &f.m.Plan.Site(f.at).Subnets[f.source.subnet])) == 0 || !f.m.joinedIn(f.at, to, f.source.subnet)
}

// unshared says that the source, or what it asks for, is in no overlay with the
// other.
func (f *flight) unshared() {
	m := f.m
	site := m.Plan.Site(f.at)
	subnet := &site.Subnets[f.source.subnet]
	if len(m.openTo(f.at, subnet)) == 0 {
		f.die(fmt.Sprintf("%s at %s is shared into no overlay of the site", subnet.Prefix, site.Key), "Share it, in Shape or at its site in Survey.")
		return
	}
	f.die(fmt.Sprintf("%s is shared into no overlay that %s at %s is in", f.to, subnet.Prefix, site.Key), "Share it, in Shape or at its site in Survey.")
	if held, known := m.local.around(f.to); known {
		f.walk.Why = fmt.Sprintf("%s at %s is shared into no overlay that %s at %s is in", held[0].prefix, m.names(held), subnet.Prefix, site.Key)
	}
}

// deaf says that a gateway beside its LAN's router has no address there of the
// packet's IP version.
func (f *flight) deaf() {
	f.die(fmt.Sprintf("the gateway of %s has no %s address on its LAN, so its router and it cannot hand each other packets", f.m.Plan.Site(f.at).Key, familyOf(f.to)),
		"Enter the gateway's LAN address of that family, and its router's, at the site in Survey.")
}

// arriving lists the tunnels of which a flow took one as its last.
func (w *Walk) arriving() []Hop {
	last := &w.Steps[len(w.Steps)-1]
	return append([]Hop{last.Hop}, last.Beside...)
}

// carried asks whether the tunnels of which a flow takes one are for the zone of a subnet
// at the gateway.
func (f *flight) carried(sharing []Hop, n *estate.Subnet) bool {
	all, partly := f.m.carries(sharing, n, f.dead)
	if all {
		return true
	}
	p := f.m.Plan
	_, _, t := p.At(sharing[0].End)
	zone := "subnets without a zone"
	if n.Zone != "" {
		zone = "zone " + n.Zone
	}
	what := "the tunnel " + p.Ident(t)
	if f.walk.Partly = partly; partly {
		what = "some of the tunnels that share the load with " + p.Ident(t) + ", so some flows are lost"
	}
	f.die(fmt.Sprintf("%s keeps %s off %s", p.Site(f.at).Key, zone, what), "Let its links carry the zone, in Outages or at the site in Survey, or give the pair another tunnel.")
	return false
}

func familyOf(a netip.Addr) string {
	if a.Is4() {
		return "IPv4"
	}
	return "IPv6"
}
