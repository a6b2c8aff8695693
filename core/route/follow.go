package route

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/tunnel"
)

// A Packet is what is followed. Protocol is tcp, udp or icmp (any when empty);
// Port is the destination port, 0 for none.
type Packet struct {
	From     netip.Addr
	To       netip.Addr
	Protocol string
	Port     int
}

// Check says what is wrong with a packet that somebody described.
func (p Packet) Check() error {
	switch {
	case !slices.Contains([]string{"", "tcp", "udp", "icmp"}, p.Protocol):
		return fmt.Errorf("%q is not one of the protocols tcp, udp and icmp", p.Protocol)
	case p.Port < 0 || p.Port > 65535:
		return fmt.Errorf("port %d is outside 0 to 65535", p.Port)
	case p.Port > 0 && p.Protocol != "tcp" && p.Protocol != "udp":
		return fmt.Errorf("port %d needs the protocol tcp or udp", p.Port)
	}
	return errors.Join(addr.CheckAddr(p.From), addr.CheckAddr(p.To))
}

// A Trace is the way of a packet and of its answer.
type Trace struct {
	Packet    Packet
	Forward   Walk
	Return    *Walk // nil when the packet does not arrive
	Symmetric bool  // the answer takes the same tunnels, reversed
	MTU       int   // least on the way, by whichever tunnels that share the load, bytes; 0 without tunnel
}

// Arrives reports whether both the packet and its answer arrive.
func (t *Trace) Arrives() bool { return t.Forward.End == Delivered && t.Return.End == Delivered }

// A Walk is one direction of a trace.
type Walk struct {
	FromSite, ToSite int // -1 when not known
	Steps            []Step
	End              Ending
	Rule             int    // the policy rule that decided, from 1; 0 for the default or none
	Where            int    // the site where it ends
	Why              string // for all but Delivered
	Mend             string
}

// Ending says what becomes of a packet.
type Ending string

// The endings.
const (
	Delivered Ending = "delivered"
	Leaves    Ending = "leaves"     // by a site's internet link: its own, or a hub's
	Dies      Ending = "dies"       // nowhere to go
	Denied    Ending = "denied"     // by policy
	Unknown   Ending = "not placed" // no site, or more than one, has the address
)

// A Step is one tunnel on the way.
type Step struct {
	Site    int   // that sends
	Hop     Hop   // with all that the site's route says of it
	Beside  []Hop // those that share the load with it: a flow takes one of them all
	Tunnel  *tunnel.Tunnel
	Overlay string
	Far     int    // site at the other end
	FarFace string // interface there
}

// place is a host: where it is, and its address as other sites see it.
type place struct {
	site, subnet int
	own, seen    netip.Addr
}

// Follow follows a packet between any two addresses and back. It costs
// microseconds: no table is made.
func (m *Map) Follow(p Packet) Trace {
	t := Trace{Packet: p}
	source, walk := m.locate(p.From)
	if walk != nil {
		t.Forward = *walk
		return t
	}
	var target place
	t.Forward, target = m.walk(source, p.To, p, false)
	for _, s := range t.Forward.Steps {
		for _, h := range append([]Hop{s.Hop}, s.Beside...) {
			if _, _, by := m.Plan.At(h.End); t.MTU == 0 || by.MTU < t.MTU {
				t.MTU = by.MTU
			}
		}
	}
	if t.Forward.End != Delivered {
		return t
	}
	back, _ := m.walk(target, m.seenFrom(source, t.Forward), p, true)
	t.Return = &back
	t.Symmetric = len(back.Steps) == len(t.Forward.Steps)
	for i := range back.Steps {
		t.Symmetric = t.Symmetric && back.Steps[i].Tunnel == t.Forward.Steps[len(back.Steps)-1-i].Tunnel
	}
	return t
}

// locate finds the one site that has an address.
func (m *Map) locate(a netip.Addr) (place, *Walk) {
	found, ok := m.local.around(a)
	switch {
	case !ok:
		return place{}, &Walk{FromSite: -1, ToSite: -1, Where: -1, End: Unknown, Why: fmt.Sprintf("no site has a subnet with %s", a), Mend: "Give an address of a subnet in the survey."}
	case len(found) > 1:
		return place{}, &Walk{FromSite: -1, ToSite: -1, Where: -1, End: Unknown, Why: fmt.Sprintf("%s is at %s", a, m.names(found)), Mend: "Renumber or map one of them, or follow a packet from an address that is at one site only."}
	}
	h := found[0]
	return place{site: h.site, subnet: h.subnet, own: a, seen: translate(a, h.prefix, m.subnet(h).Taking())}, nil
}

func (m *Map) names(holdings []holding) string {
	var keys []string
	for _, h := range holdings {
		keys = append(keys, m.Plan.Site(h.site).Key)
	}
	return strings.Join(keys, " and ")
}

// seenFrom is the source's address as it arrives.
func (m *Map) seenFrom(source place, w Walk) netip.Addr {
	if len(w.Steps) == 0 {
		return source.own
	}
	return source.seen
}

// translate moves an address from one prefix to another of equal length.
func translate(a netip.Addr, from, to netip.Prefix) netip.Addr {
	if from == to || !to.IsValid() {
		return a
	}
	host, network := a.AsSlice(), to.Addr().AsSlice()
	for i := range host {
		mask := byte(0xff)
		if bits := to.Bits() - i*8; bits < 8 {
			mask = ^(byte(0xff) >> max(bits, 0))
		}
		host[i] = network[i]&mask | host[i]&^mask
	}
	out, _ := netip.AddrFromSlice(host)
	return out
}

// walk follows one direction and returns where the packet arrived.
func (m *Map) walk(from place, to netip.Addr, p Packet, reply bool) (Walk, place) {
	plan := m.Plan
	site := plan.Site(from.site)
	w := Walk{FromSite: from.site, ToSite: -1, Where: from.site}
	subnet := &site.Subnets[from.subnet]
	for i := range site.Subnets {
		if site.Subnets[i].Prefix.Contains(to) {
			w.End, w.ToSite = Delivered, from.site
			return w, place{from.site, i, to, to}
		}
	}
	targets, open := m.targets(from.site, subnet, to)
	if len(targets) == 0 {
		m.nowhere(&w, from, subnet, to, open)
		return w, place{}
	}
	var hops []Hop
	for _, t := range targets {
		c := m.chainer(t.overlay, from.site)
		for _, h := range c.chain(t.site, m.pinned(t.overlay, from.site, t.prefix)) {
			h.To = t.site
			hops = append(hops, h)
		}
	}
	if len(targets) > 1 {
		m.order(hops)
	}
	if len(hops) == 0 {
		w.End, w.ToSite = Dies, targets[0].site
		w.Why = fmt.Sprintf("there is no path to %s; the discard route of %s takes the packet", plan.Site(targets[0].site).Key, targets[0].prefix)
		w.Mend = "See the findings on pairs that cannot be joined, in Shape."
		return w, place{}
	}
	overlay := hops[0].End.Overlay
	i := slices.IndexFunc(targets, func(t target) bool { return t.site == hops[0].To && t.overlay == overlay })
	goal := targets[i]
	w.ToSite = goal.site
	n := m.subnet(goal.holding)
	arrived := place{goal.site, goal.subnet, translate(to, goal.prefix, n.Prefix), to}
	if policy := m.Policy(overlay); policy != nil {
		var action estate.Action
		if action, w.Rule = policy.verdict(from, arrived, p.Protocol, p.Port, reply); action == estate.Deny {
			m.denied(&w, overlay, reply)
			return w, place{}
		}
	}
	m.carry(&w, overlay, goal, hops)
	return w, arrived
}

// carry follows the tunnels of an overlay from the first of the hops to the
// goal.
func (m *Map) carry(w *Walk, overlay int, goal target, hops []Hop) {
	g := m.graphs[overlay]
	r := g.newReach()
	r.measure(g, goal.site)
	at := w.FromSite
	for {
		hop := hops[0]
		_, _, t := m.Plan.At(hop.End)
		_, remote := m.Plan.Sides(hop.End)
		w.Steps = append(w.Steps, Step{Site: at, Hop: hop, Beside: hops[1:Sharing(hops)], Tunnel: t, Overlay: g.overlay.Spec.Key, Far: hop.Via, FarFace: remote.Interface})
		before := at
		at = hop.Via
		w.Where = at
		if at == goal.site {
			w.End = Delivered
			return
		}
		if len(w.Steps) > len(g.hubs)+1 {
			w.End, w.Why, w.Mend = Dies, "the packet circles until it is too old", "Remove the pins that send it back."
			return
		}
		var ways []way
		if g.joined && g.overlay.IsHub(before) && g.overlay.IsHub(at) {
			ways = g.onward(at, goal.site)
		} else {
			ways = g.ways(nil, at, goal.site, r)
			if via := m.pinned(overlay, at, goal.prefix); via >= 0 {
				slices.SortStableFunc(ways, func(a, b way) int { return cmp.Compare(boolInt(a.step.to != via), boolInt(b.step.to != via)) })
			}
		}
		if len(ways) == 0 || !g.overlay.IsHub(at) {
			key := m.Plan.Site(at).Key
			w.End, w.Why = Dies, fmt.Sprintf("%s does not carry traffic for others", key)
			w.Mend = "Remove the pin that sends it there, or make " + key + " a hub."
			return
		}
		hops = m.tunnelsOf(overlay, at, ways[:1])
	}
}

// A target is a prefix around the address looked for, in one overlay.
type target struct {
	holding
	overlay int
}

// targets finds the narrowest prefixes that the subnet's overlays have around
// an address.
func (m *Map) targets(site int, subnet *estate.Subnet, to netip.Addr) (out []target, open []int) {
	bits := -1
	for i, g := range m.graphs {
		if !g.overlay.Has(site) || !subnet.SharedInto(g.overlay.Spec.Key) {
			continue
		}
		open = append(open, i)
		found, ok := m.shared[i].around(to)
		if !ok || found[0].prefix.Bits() < bits {
			continue
		}
		if found[0].prefix.Bits() > bits {
			out, bits = nil, found[0].prefix.Bits()
		}
		for _, h := range found {
			if h.site != site {
				out = append(out, target{h, i})
			}
		}
	}
	return out, open
}

// nowhere explains a packet for which no overlay of its subnet has a route.
func (m *Map) nowhere(w *Walk, from place, subnet *estate.Subnet, to netip.Addr, open []int) {
	site := m.Plan.Site(from.site)
	held, known := m.local.around(to)
	mapped := known && m.subnet(held[0]).Map.IsValid()
	switch {
	case known && len(open) == 0:
		w.End, w.Why = Dies, fmt.Sprintf("%s at %s is shared into no overlay of the site", subnet.Prefix, site.Key)
		w.Mend = "Share it, in Shape or at its site in Survey."
	case mapped:
		w.End, w.Why = Dies, fmt.Sprintf("%s at %s is reached as %s only", held[0].prefix, m.names(held), m.subnet(held[0]).Map)
		w.Mend = "Follow the packet to the mapped address."
	case known:
		w.End, w.Why = Dies, fmt.Sprintf("%s at %s is shared into no overlay that %s at %s is in", held[0].prefix, m.names(held), subnet.Prefix, site.Key)
		w.Mend = "Share it, in Shape or at its site in Survey."
	default:
		w.End = Leaves
		if hops, overlay, out := m.breaksOut(from.site, to); out {
			hub := hops[0].Via
			m.carry(w, overlay, target{holding{site: hub}, overlay}, hops)
			w.End, w.Why = Leaves, fmt.Sprintf("by the internet link of %s, which translates its source address", m.Plan.Site(hub).Key)
			return
		}
		w.Why = "by the site's own internet link: no overlay has a route for it"
	}
}

// breaksOut finds the default route that an address would take.
func (m *Map) breaksOut(site int, to netip.Addr) (hops []Hop, overlay int, ok bool) {
	if !m.BreaksOut(site) {
		return nil, 0, false
	}
	best := Route{Prefix: netip.Prefix{}}
	for _, r := range m.breakout(site) {
		if r.Prefix.Contains(to) && (!best.Prefix.IsValid() || r.Prefix.Bits() > best.Prefix.Bits()) {
			best = r
		}
	}
	if best.Kind != Breakout {
		return nil, 0, false
	}
	return best.Hops, best.Hops[0].End.Overlay, true
}

func (m *Map) denied(w *Walk, overlay int, reply bool) {
	key := m.graphs[overlay].overlay.Spec.Key
	what := "the packet"
	if reply {
		what = "the answer"
	}
	w.End = Denied
	w.Why = fmt.Sprintf("rule %d of %s denies %s", w.Rule, key, what)
	w.Mend = "Put a permit before that rule, or narrow the rule."
	if w.Rule == 0 {
		w.Why = fmt.Sprintf("%s denies what no rule permits", key)
		w.Mend = "Add a permit for it to the policy of " + key + "."
	}
}

// SharedAround returns the narrowest prefix shared in an overlay around an
// address, and the sites that share it.
func (m *Map) SharedAround(overlay int, a netip.Addr) (prefix netip.Prefix, sites []int, ok bool) {
	found, ok := m.shared[overlay].around(a)
	if !ok {
		return netip.Prefix{}, nil, false
	}
	for _, h := range found {
		sites = append(sites, h.site)
	}
	return found[0].prefix, sites, true
}

// PrefixOf returns the narrowest prefix of any site around an address, for
// saying which subnet holds it; ok is false when none does.
func (m *Map) PrefixOf(a netip.Addr) (prefix netip.Prefix, sites []int, ok bool) {
	found, ok := m.local.around(a)
	if !ok {
		return netip.Prefix{}, nil, false
	}
	for _, h := range found {
		sites = append(sites, h.site)
	}
	return found[0].prefix, sites, true
}
