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
}

func (in *info) tuple() tuple { return tuple{in.src, in.dst, in.protocol, in.sport, in.dport} }

// back is the direction of its answers.
func (t tuple) back() tuple { return tuple{t.dst, t.src, t.protocol, t.dport, t.sport} }

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

// of finds the flow of a packet, or makes one that is not known yet.
func (t *flowTable) of(p Packet, in *info, now time.Time) standing {
	if in.isError() {
		about, ok := p.quoted(in)
		if !ok {
			return standing{}
		}
		if f := t.known[about.tuple()]; f != nil {
			return standing{flow: f, related: true, reply: about.tuple() != f.answers}
		}
		if f := t.known[about.tuple().back()]; f != nil { // it was seen as it left, translated
			return standing{flow: f, related: true, reply: about.tuple().back() == f.answers}
		}
		return standing{}
	}
	if f := t.known[in.tuple()]; f != nil {
		f.seen = now
		reply := in.tuple() != f.original
		f.answered = f.answered || reply
		return standing{flow: f, reply: reply}
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
	case s.related: // where an error goes is set right; who reads it knows the packet by its ports
		if of == destination && s.reply {
			p.address(in.src, f.original.src)
		}
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
