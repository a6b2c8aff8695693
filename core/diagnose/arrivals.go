package diagnose

import (
	"fmt"
	"net/netip"
	"slices"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/words"
)

// heard says what arrived at an end from the other while both looked.
type heard struct {
	initiations, responses, data int
	elsewhere                    map[int]int          // messages at ports of no tunnel
	ports                        map[netip.Addr][]int // from which ports of an address datagrams came
}

// heardFrom sorts what arrived at one end: at its tunnel's port whoever sent it, and at ports of
// no tunnel where it came from the far end.
func (d *diagnoser) heardFrom(s, far *side) heard {
	out := heard{elsewhere: map[int]int{}, ports: map[netip.Addr][]int{}}
	from := far.outside()
	for _, a := range s.g.Looked.Arrivals {
		if a.Port != s.is.WireGuard.Port {
			ours := s.g.Wants != nil && slices.ContainsFunc(s.g.Wants.Tunnels, func(t gateway.Tunnel) bool { return t.WireGuard != nil && t.WireGuard.Port == a.Port })
			if a.Message != gateway.Else && !ours && (slices.Contains(from, a.From.Addr()) || len(from) == 0 && a.Message == gateway.Initiation) {
				out.elsewhere[a.Port] += a.Count
			}
			continue
		}
		switch a.Message {
		case gateway.Initiation:
			out.initiations += a.Count
		case gateway.Response:
			out.responses += a.Count
		case gateway.Data:
			out.data += a.Count
		}
		if a.Message != gateway.Else && !slices.Contains(out.ports[a.From.Addr()], int(a.From.Port())) {
			out.ports[a.From.Addr()] = append(out.ports[a.From.Addr()], int(a.From.Port()))
		}
	}
	return out
}

// arrivals tells from what gets through between the two ends of a dead tunnel why it is.
func (d *diagnoser) arrivals(a, b *side) bool {
	if a.is == nil || b.is == nil || a.is.WireGuard == nil || b.is.WireGuard == nil || a.g.Looked == nil || b.g.Looked == nil {
		return false
	}
	caller, called := a, b
	if !a.calls() || a.is.WireGuard.Endpoint == "" {
		caller, called = b, a
	}
	there, back := d.heardFrom(called, caller), d.heardFrom(caller, called)
	if d.mapping(caller, called, there) {
		return true
	}
	if there.initiations > 0 {
		d.begun(caller, called, there, back)
		return true
	}
	return d.silent(caller, called, there)
}

// begun tells why a handshake whose beginning arrives does not end.
func (d *diagnoser) begun(caller, called *side, there, back heard) {
	base := Cause{Sure: Likely, Site: called.key, Link: called.link.Key, Tunnel: called.port.Interface}
	arrived := fmt.Sprintf("%s begun by %s arrived at %s", words.Many(there.initiations, "handshake", "handshakes"), caller.name(), called.name())
	switch {
	case back.responses > 0:
		base.Code = WrongSecret
		base.Words = fmt.Sprintf("the two ends have different pre-shared keys, as far as can be told: %s does not take what %s answers", caller.key, called.key)
		base.Evidence = []string{arrived, words.Many(back.responses, "answer", "answers") + " arrived back, and none was taken"}
		base.Repair = Cure{Words: "Have both gateways told their pre-shared key again: release anew.", Where: "release"}
	case called.look.BytesOut > 0:
		base.Code, base.Site, base.Link, base.Tunnel = LostBetween, caller.key, caller.link.Key, caller.port.Interface
		base.Words = fmt.Sprintf("what %s sends does not get back to %s", called.name(), caller.name())
		base.Evidence = []string{arrived, fmt.Sprintf("%s answered, and none of it arrived", called.key)}
		base.Repair = Cure{Words: fmt.Sprintf("Ask %s what is dropped between the two.", carriers(caller, called))}
	default:
		base.Code = WrongKey
		base.Words = fmt.Sprintf("%s does not take the handshakes of %s", called.key, caller.key)
		base.Evidence = []string{arrived, called.key + " answered none of them"}
		base.Repair = Cure{Words: "Compare the public keys at both ends.", Where: "watch", Site: called.key}
	}
	d.cause(base)
}

// silent tells why nothing that one end sends arrives at the port of the other.
func (d *diagnoser) silent(caller, called *side, there heard) bool {
	base := Cause{Sure: Sure, Site: called.key, Link: called.link.Key, Tunnel: called.port.Interface}
	port := called.is.WireGuard.Port
	quiet := fmt.Sprintf("nothing from %s arrived at port %d of %s in %d s, while it called", caller.name(), port, called.name(), called.g.Looked.For/1000)
	switch {
	case len(there.elsewhere) > 0 && called.link.Reach == estate.Forwarded:
		other := 0
		for p := range there.elsewhere {
			other = p
		}
		base.Code = WrongPort
		base.Words = fmt.Sprintf("the router before %s forwards port %d to another one", called.name(), port)
		base.Evidence = []string{quiet, fmt.Sprintf("%d of its calls arrived at port %d, where nothing listens", there.elsewhere[other], other)}
		base.Repair = Cure{Words: fmt.Sprintf("Have that router forward UDP port %d to port %d of the gateway.", port, port)}
	case there.data+there.responses > 0:
		return false // it was on its way up
	case called.link.Reach == estate.Forwarded:
		base.Code, base.Sure = NotForwarded, Likely
		base.Words = fmt.Sprintf("the router before %s does not forward UDP port %d", called.name(), port)
		base.Evidence = []string{quiet}
		if called.wan != nil && called.wan.NamesUp {
			base.Evidence = append(base.Evidence, "UDP gets through on that link: a name service answers by it")
		}
		if alive, _ := d.onLink(caller); alive == 0 && (caller.wan == nil || !caller.wan.NamesUp) {
			base.Sure = Possible
		}
		base.Repair = Cure{Words: fmt.Sprintf("Have that router forward UDP port %d to %s.", port, insideOf(called))}
	default:
		base.Code, base.Sure = LostBetween, Likely
		base.Words = fmt.Sprintf("what %s sends does not arrive at %s", caller.name(), called.name())
		base.Evidence = []string{quiet}
		base.Repair = Cure{Words: fmt.Sprintf("Ask %s whether UDP port %d is dropped between the two.", carriers(caller, called), port)}
	}
	d.cause(base)
	return true
}

func insideOf(s *side) string {
	if s.wan != nil && len(s.wan.Addresses) > 0 {
		return s.wan.Addresses[0].String()
	}
	return "the gateway"
}

// forgotten looks, where some packets get through and some do not, whether NAT before an end
// forgets its tunnel now and then. It reports whether it does, or whether that is being looked
// at.
func (d *diagnoser) forgotten(e gateway.Echoed) bool {
	if e.Missed == 0 {
		return false
	}
	looking := false
	for i := range d.now.Forward.Steps {
		ends := sidesOf(d.plan, d.now.Forward.Steps[i].Hop.End)
		for j := range ends {
			caller, called := d.side(ends[j]), d.side(ends[1-j])
			if caller.link.Reach != estate.NAT || called.is == nil || called.is.WireGuard == nil || !called.g.Up {
				continue
			}
			if called.look == nil || called.g.Looked.For < lookFor {
				d.lookAt(called, true)
				d.lookAt(caller, true)
				looking = true
				continue
			}
			if d.mapping(caller, called, d.heardFrom(called, caller)) {
				for k := range d.out.Steps {
					if s := &d.out.Steps[k]; s.Kind == "tunnel" && (s.Site == caller.key || s.Far == caller.key) {
						s.Verdict, s.Said = Poor, "NAT forgets it now and then"
					}
				}
				return true
			}
		}
	}
	return looking
}

// mapping looks whether the NAT before the calling end forgets the tunnel between what is said:
// it comes from one port after the other, or what the far end sends is not let in.
func (d *diagnoser) mapping(caller, called *side, there heard) bool {
	if caller.link.Reach != estate.NAT {
		return false
	}
	for at, ports := range there.ports {
		if len(ports) < 2 {
			continue
		}
		d.cause(Cause{
			Code: MappingExpires, Sure: Sure, Site: caller.key, Link: caller.link.Key, Tunnel: caller.port.Interface,
			Words:    fmt.Sprintf("the NAT before %s forgets the tunnel sooner than it speaks", caller.name()),
			Evidence: []string{fmt.Sprintf("in %d s it came to %s from %d ports of %s", called.g.Looked.For/1000, called.key, len(ports), at)},
			Repair:   Cure{Words: "Shorten the keepalive, or the interval of the probes, below what that NAT remembers; or have it remember longer.", Where: "shape", Site: caller.key},
		})
		return true
	}
	return false
}
