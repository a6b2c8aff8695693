package memory

import (
	"net/netip"
	"time"
)

// A tuple names one direction of a flow.
type tuple struct {
	src, dst     netip.Addr
	protocol     byte
	sport, dport uint16
	kind         byte // of an echo: whether it asks or answers
}

func (in *info) tuple() tuple {
	t := tuple{src: in.src, dst: in.dst, protocol: in.protocol, sport: in.sport, dport: in.dport}
	if in.echo() {
		t.kind = in.kind
	}
	return t
}

// back is the direction of its answers.
func (t tuple) back() tuple {
	out := tuple{t.dst, t.src, t.protocol, t.dport, t.sport, t.kind}
	switch {
	case t.protocol == ProtoICMP:
		out.kind = t.kind ^ echo4 ^ echoReply4
	case t.protocol == ProtoICMPv6 && t.kind != 0:
		out.kind = t.kind ^ echo6 ^ echoReply6
	}
	return out
}

// A flow is packets of two hosts there and back. Original is as its first packet came,
// answers are as they come: they differ by what was translated.
type flow struct {
	original, answers tuple
	place             int // mark of the place by which it came, under gateway.PlaceMask
	answered          bool
	seen              time.Time
}

// A flowTable knows the flows of a machine.
type flowTable struct {
	known map[tuple]*flow
	swept time.Time
}

const (
	flowFor   = 3 * time.Minute
	sweepEach = 30 * time.Second
	mostFlows = 20000 // of one machine
)

// standing is what a packet is to a flow.
type standing struct {
	flow    *flow
	reply   bool // of the direction of answers
	related bool // an ICMP error about a packet of it
	fresh   bool // the first packet: the flow is not known yet
}

// of finds the flow of a packet, or makes one that is not known yet. What belongs to none and
// begins none has none: it is not translated.
func (t *flowTable) of(p Packet, in *info, now time.Time) standing {
	if in.isError() {
		about, ok := p.quoted(in)
		if !ok {
			return standing{}
		}
		back := about.tuple().back() // the error is of the other direction than what it is about
		if f := t.known[back]; f != nil {
			return standing{flow: f, related: true, reply: back != f.original}
		}
		return standing{}
	}
	if f := t.known[in.tuple()]; f != nil {
		f.seen = now
		reply := in.tuple() != f.original
		f.answered = f.answered || reply
		return standing{flow: f, reply: reply}
	}
	if !in.begins(p) {
		return standing{}
	}
	one := in.tuple()
	return standing{flow: &flow{original: one, answers: one.back(), seen: now}, fresh: true}
}

// keep makes a flow known: its first packet passed.
func (t *flowTable) keep(f *flow, now time.Time) {
	if t.known == nil {
		t.known = map[tuple]*flow{}
	}
	if now.Sub(t.swept) > sweepEach || len(t.known) > 2*mostFlows {
		t.swept = now
		for key, one := range t.known {
			if now.Sub(one.seen) > flowFor || len(t.known) > 2*mostFlows {
				delete(t.known, key)
			}
		}
	}
	t.known[f.original], t.known[f.answers] = f, f
}

// A side is which end of a packet is translated: where it goes to before it is routed, where
// it is from behind that.
type side bool

const (
	destination side = true
	source      side = false
)

// translate changes one side of a packet of a flow as its translation says.
func (s *standing) translate(p Packet, in *info, of side) {
	f := s.flow
	if f == nil || f.answers.back() == f.original {
		return
	}
	to := f.answers.back()
	if s.reply {
		to = f.original.back()
	}
	switch {
	case s.related:
		s.relate(p, in, of)
	case of == destination:
		p.address(in.src, to.dst)
		if to.dport != in.dport {
			p.ports(in, in.sport, to.dport)
		}
	default:
		p.address(to.src, in.dst)
		if to.sport != in.sport {
			p.ports(in, to.sport, in.dport)
		}
	}
	*in, _ = p.read()
}

// relate changes an error about a packet of a flow that is translated: who reads it finds in it
// what it sent itself, and it comes from where that was sent.
func (s *standing) relate(p Packet, in *info, of side) {
	f := s.flow
	sent := f.original // by who reads the error
	changed := map[side]bool{
		destination: f.answers.dst != f.original.src || f.answers.dport != f.original.sport,
		source:      f.answers.src != f.original.dst || f.answers.sport != f.original.dport,
	}
	if !s.reply {
		sent = f.answers
		changed[destination], changed[source] = changed[source], changed[destination]
	}
	if !changed[of] {
		return
	}
	inner := p[in.header+headerICMP:]
	if of == destination {
		inner.readdress(sent.src, sent.sport, true)
		p.address(in.src, sent.src)
	} else {
		inner.readdress(sent.dst, sent.dport, false)
		p.address(sent.dst, in.dst)
	}
}
