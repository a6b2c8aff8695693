package route

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wideknot/core/addr"
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
	Return    *Walk // nil when the packet does not arrive, or leaves by the site's own link
	Symmetric bool  // the answer takes the same tunnels, reversed
	MTU       int   // least on the way, by whichever tunnels that share the load, bytes; 0 without tunnel
}

// Arrives reports whether both the packet and its answer arrive. What leaves by
// a hub arrives in the internet; of what leaves by the site's own link nothing is
// known here.
func (t *Trace) Arrives() bool { return t.Return != nil && t.Return.End == Delivered }

// A Walk is one direction of a trace.
type Walk struct {
	FromSite, ToSite int // -1 when not known
	Steps            []Step
	End              Ending
	Partly           bool   // it ends so for some flows only, by the tunnel each takes
	Rule             int    // the policy rule that decided, from 1; 0 for the default or none
	Where            int    // the site where it ends
	Why              string // for all but Delivered
	Fix              string
}

// Ending says what becomes of a packet.
type Ending string

// The endings.
const (
	Delivered Ending = "delivered"
	Leaves    Ending = "leaves"     // by a site's internet link: its own, or a hub's
	Dies      Ending = "dies"       // nowhere to go, or not taken
	Denied    Ending = "denied"     // by policy
	Unknown   Ending = "not placed" // no site, or more than one, has the address
)

// A Step is one tunnel on the way.
type Step struct {
	Site    int   // that sends
	Hop     Hop   // with all that the site's route says of it
	Beside  []Hop // those that share the load with it: a flow takes one of them all
	Held    bool  // to the limits of the overlay
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

// Dead says which tunnels are dead; nil says none is.
type Dead func(*tunnel.Tunnel) bool

// Failing says which tunnels are dead, and which are beyond any limit of latency and
// jitter, or of loss. A nil function says none is.
type Failing struct{ Dead, Slow, Lossy Dead }

// Follow follows a packet between any two addresses and back. It costs
// microseconds: no table is made.
func (m *Map) Follow(p Packet) Trace { return m.FollowIn(Failing{}, p) }

// FollowIn follows a packet while some tunnels fail, which gateways know of their own.
func (m *Map) FollowIn(failing Failing, p Packet) Trace {
	t := Trace{Packet: p}
	source, walk := m.locate(p.From)
	if walk != nil {
		t.Forward = *walk
		return t
	}
	f := &follower{m: m, packet: p, dead: failing.Dead, failing: failing}
	var target place
	t.Forward, target = f.ask(source)
	for _, s := range t.Forward.Steps {
		for _, h := range append([]Hop{s.Hop}, s.Beside...) {
			if _, _, by := m.Plan.At(h.End); t.MTU == 0 || by.MTU < t.MTU {
				t.MTU = by.MTU
			}
		}
	}
	if t.Forward.End != Delivered && (t.Forward.End != Leaves || len(t.Forward.Steps) == 0) {
		return t // it arrives nowhere, or somewhere of which nothing is known here
	}
	back := f.answer(&t.Forward, source, target)
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
		return place{}, &Walk{FromSite: -1, ToSite: -1, Where: -1, End: Unknown, Why: fmt.Sprintf("no site has a subnet with %s", a), Fix: "Give an address of a subnet in the survey."}
	case len(found) > 1:
		return place{}, &Walk{FromSite: -1, ToSite: -1, Where: -1, End: Unknown, Why: fmt.Sprintf("%s is at %s", a, m.names(found)), Fix: "Renumber or map one of them, or follow a packet from an address that is at one site only."}
	}
	h := found[0]
	return place{site: h.site, subnet: h.subnet, own: a, seen: addr.Moved(a, h.prefix, m.subnet(h).Taking())}, nil
}

func (m *Map) names(holdings []holding) string {
	var keys []string
	for _, h := range holdings {
		keys = append(keys, m.Plan.Site(h.site).Key)
	}
	return strings.Join(keys, " and ")
}

func (m *Map) denied(w *Walk, overlay int, reply bool) {
	key := m.graphs[overlay].overlay.Spec.Key
	what := "the packet"
	if reply {
		what = "the reply"
	}
	w.End = Denied
	w.Why = fmt.Sprintf("rule %d of %s denies %s", w.Rule, key, what)
	w.Fix = "Put a permit before that rule, or narrow the rule."
	if w.Rule == 0 {
		w.Why = fmt.Sprintf("%s denies what no rule permits", key)
		w.Fix = "Add a permit for it to the policy of " + key + "."
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
