package fleet

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"wideknot/core/estate"
	"wideknot/internal/gateway/memory"
)

// A nat is a router that hides a link behind an address of its own (RFC 4787). Several links
// of one carrier may be behind the same address.
type nat struct {
	outside netip.Addr
	out     map[mapping]*mapped // inside → outside
	in      map[portOf]*mapped
	next    uint16
}

// portOf is a port of the outside address.
type portOf struct {
	protocol byte
	port     uint16
}

// mapping is what has a port of its own: with endpoint-dependent mapping each far end sees
// another.
type mapping struct {
	link     *Link
	protocol byte
	inside   netip.AddrPort
	far      netip.AddrPort // zero where mapping does not depend on it
}

type mapped struct {
	mapping
	port    uint16
	heard   map[netip.AddrPort]time.Time // far ends that were sent to
	seen    time.Time
	forward bool
}

func newNAT(outside netip.Addr) *nat {
	return &nat{outside: outside, out: map[mapping]*mapped{}, in: map[portOf]*mapped{}, next: 1023}
}

// leave gives what leaves a port outside.
func (n *nat) leave(l *Link, protocol byte, from, to netip.AddrPort, now time.Time) netip.AddrPort {
	to = farOf(protocol, to)
	key := mapping{link: l, protocol: protocol, inside: from}
	forwards := l.forwards(from.Port()) && l.shift == 0
	if l.nat.Dependent && !forwards {
		key.far = to
	}
	m := n.out[key]
	if m != nil && !m.forward && now.Sub(m.seen) > l.nat.expires() {
		n.drop(m)
		m = nil
	}
	if m == nil {
		m = &mapped{mapping: key, heard: map[netip.AddrPort]time.Time{}}
		ok := true
		if forwards && n.in[portOf{protocol, from.Port()}] == nil {
			m.port, m.forward = from.Port(), true
		} else if m.port, ok = n.free(protocol, l, from.Port()); !ok {
			return netip.AddrPort{}
		}
		n.out[key], n.in[portOf{protocol, m.port}] = m, m
	}
	m.seen, m.heard[to] = now, now
	if len(m.heard) > 1000 {
		m.heard = map[netip.AddrPort]time.Time{to: now}
	}
	return netip.AddrPortFrom(n.outside, m.port)
}

// farOf is a far end as a NAT tells it apart: echoes have no port there.
func farOf(protocol byte, at netip.AddrPort) netip.AddrPort {
	if protocol != memory.ProtoUDP && protocol != memory.ProtoTCP {
		return netip.AddrPortFrom(at.Addr(), 0)
	}
	return at
}

// free finds a port: with endpoint-independent mapping its own, where it is free. What has none,
// as protocols that routers know nothing of, keeps none.
func (n *nat) free(protocol byte, l *Link, own uint16) (port uint16, ok bool) {
	if (!l.nat.Dependent || own == 0) && n.in[portOf{protocol, own}] == nil {
		return own, true
	}
	if own == 0 {
		return 0, false
	}
	for range 60000 {
		if n.next++; n.next < 1024 {
			n.next = 1024
		}
		if n.in[portOf{protocol, n.next}] == nil {
			return n.next, true
		}
	}
	return 0, false
}

func (n *nat) drop(m *mapped) {
	delete(n.out, m.mapping)
	delete(n.in, portOf{m.protocol, m.port})
}

// enter finds where what comes from outside goes; ok is false for what nobody asked for.
func (n *nat) enter(protocol byte, from netip.AddrPort, port uint16, now time.Time) (l *Link, to netip.AddrPort, ok bool) {
	m := n.in[portOf{protocol, port}]
	if m == nil {
		return nil, netip.AddrPort{}, false
	}
	if m.forward && m.link.forwards(port) {
		return m.link, m.inside, true
	}
	if now.Sub(m.seen) > m.link.nat.expires() {
		n.drop(m)
		return nil, netip.AddrPort{}, false
	}
	from = farOf(protocol, from)
	at, known := m.heard[from]
	if !known && !m.link.nat.Open {
		return nil, netip.AddrPort{}, false
	}
	if known && now.Sub(at) > m.link.nat.expires() {
		delete(m.heard, from)
		return nil, netip.AddrPort{}, false
	}
	return m.link, m.inside, true
}

// forward lets ports through to an inside address, whoever asks.
func (n *nat) forward(l *Link, protocol byte, port uint16, inside netip.AddrPort) {
	key := mapping{link: l, protocol: protocol, inside: inside}
	m := &mapped{mapping: key, port: port, heard: map[netip.AddrPort]time.Time{}, forward: true}
	n.out[key], n.in[portOf{protocol, port}] = m, m
}

// forget drops what a link has: its router began anew.
func (n *nat) forget(l *Link) {
	for _, m := range n.out {
		if m.link == l {
			n.drop(m)
		}
	}
}

// hides reports whether the routers before a link know an address behind them.
func (l *Link) hides(a netip.Addr) bool {
	return l.behind != nil && slices.Contains(l.inside, a)
}

// hops takes those of the routers before a link off a packet; it is false when none is left.
func (l *Link) hops(p memory.Packet) bool {
	return (l.behind == nil || p.Hop()) && (l.before == nil || p.Hop())
}

// hide gives what leaves a link the address and port that it has outside.
func (l *Link) hide(protocol byte, from, to netip.AddrPort, now time.Time) netip.AddrPort {
	if l.before != nil {
		if from = l.before.leave(l, protocol, from, to, now); !from.IsValid() {
			return from
		}
	}
	return l.behind.leave(l, protocol, from, to, now)
}

// admit finds where what comes from outside goes in the end.
func (n *nat) admit(protocol byte, from netip.AddrPort, port uint16, now time.Time) (l *Link, to netip.AddrPort, ok bool) {
	if l, to, ok = n.enter(protocol, from, port, now); ok && l.before != nil {
		return l.before.enter(protocol, from, to.Port(), now)
	}
	return l, to, ok
}

// forget lets the routers before a link begin anew.
func (l *Link) forget() {
	l.behind.forget(l)
	if l.before != nil {
		l.before.forget(l)
	}
}

// Behaviour is how a NAT behaves.
type Behaviour struct {
	// Dependent: another port outside for each far end (endpoint-dependent mapping).
	Dependent bool `json:"dependent" yaml:"dependent"`
	// Open: whoever knows the port outside gets through (endpoint-independent filtering).
	Open bool `json:"open" yaml:"open"`
	// Expires is how many seconds a port lives without a packet from inside.
	Expires int `json:"expires" yaml:"expires"`
	// Double: the site's own router translates too, and its provider's behind it forwards nothing.
	Double bool `json:"double" yaml:"double"`
}

func (b *Behaviour) expires() time.Duration {
	if b.Expires <= 0 {
		return 2 * time.Minute
	}
	return time.Duration(b.Expires) * time.Second
}

// router finds the NAT that a link is behind: the one of its outside address, or its
// carrier's.
func (w *World) router(l *estate.Link, carriers map[string]*nat) *nat {
	if l.Outside.IsValid() {
		at := place{l.UnderlayOf(), l.Outside}
		if w.nats[at] == nil {
			w.nats[at] = newNAT(l.Outside)
		}
		return w.nats[at]
	}
	carrier := l.UnderlayOf() + "/" + l.Provider
	if carriers[carrier] == nil {
		carriers[carrier] = newNAT(w.give())
		w.nats[place{l.UnderlayOf(), carriers[carrier].outside}] = carriers[carrier]
	}
	return carriers[carrier]
}

// shared hands out an address between a site's router and its provider's (RFC 6598).
func (w *World) shared() netip.Addr {
	w.dynamic++
	return netip.AddrFrom4([4]byte{100, 64, byte(w.dynamic >> 8), byte(w.dynamic)})
}

// forwards reports whether the router before a link lets a port in.
func (l *Link) forwards(port uint16) bool {
	if l.spec.Reach != estate.Forwarded || l.unforward || l.nat.Double {
		return false
	}
	return len(l.spec.Forwards) == 0 || slices.ContainsFunc(l.spec.Forwards, func(text string) bool {
		low, high, ok := strings.Cut(text, "-")
		if !ok {
			high = low
		}
		var a, b int
		_, errA := fmt.Sscan(low, &a)
		_, errB := fmt.Sscan(high, &b)
		return errA == nil && errB == nil && a <= int(port) && int(port) <= b
	})
}
