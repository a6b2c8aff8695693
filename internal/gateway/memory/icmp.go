package memory

import (
	"encoding/binary"
	"net/netip"
	"slices"
)

// errors4 are the types of ICMP messages of IPv4 about other packets, among them source quench,
// redirect, and a parameter problem.
var errors4 = []byte{unreachable4, 4, 5, exceeded4, 12}

// isError reports whether it is an ICMP message about another packet.
func (in *info) isError() bool {
	return in.protocol == ProtoICMP && slices.Contains(errors4, in.kind) || in.protocol == ProtoICMPv6 && in.kind < 128
}

// report makes an ICMP error about a packet: unreachable, too big, or out of hops. There is
// none about errors.
func report(from netip.Addr, about Packet, kind, code byte, mtu int) (Packet, bool) {
	in, ok := about.read()
	if !ok || in.isError() || from.Is4() != in.src.Is4() {
		return nil, false
	}
	quoted := about[:min(len(about), 548)]
	body := make([]byte, headerICMP, headerICMP+len(quoted))
	body[0], body[1] = kind, code
	protocol := byte(ProtoICMP)
	if from.Is6() {
		protocol = ProtoICMPv6
		binary.BigEndian.PutUint32(body[4:], uint32(mtu))
	} else {
		binary.BigEndian.PutUint16(body[6:], uint16(mtu))
	}
	return ip(from, in.src, protocol, 64, append(body, quoted...)), true
}

// TooBig reports whether a packet says that another was too big for some link, and its MTU.
func (p Packet) TooBig() (mtu int, ok bool) {
	in, ok := p.read()
	if !ok {
		return 0, false
	}
	body := p[in.header:]
	switch {
	case in.protocol == ProtoICMP && in.kind == unreachable4 && in.code == codeFragment:
		return int(binary.BigEndian.Uint16(body[6:])), true
	case in.protocol == ProtoICMPv6 && in.kind == tooBig6:
		return int(binary.BigEndian.Uint32(body[4:])), true
	}
	return 0, false
}

// Exceeded reports whether a packet says that another ran out of hops.
func (p Packet) Exceeded() bool {
	in, ok := p.read()
	return ok && (in.protocol == ProtoICMP && in.kind == exceeded4 || in.protocol == ProtoICMPv6 && in.kind == exceeded6)
}

// quoted returns the packet that an ICMP error is about, as far as it is there.
func (p Packet) quoted(in *info) (about info, ok bool) {
	if !in.isError() || len(p) < in.header+headerICMP+header4+headerUDP {
		return about, false
	}
	inner := p.inner(in)
	if inner[0]>>4 == 6 && len(inner) < header6+headerUDP {
		return about, false
	}
	if about, ok = inner.read(); ok && about.src.Is4() != in.src.Is4() {
		return info{}, false
	}
	return about, ok
}

// Quoted returns the packet that an ICMP error is about, as far as it is there.
func (p Packet) Quoted() (about Packet, ok bool) {
	in, ok := p.read()
	if !ok || !in.isError() || len(p) < in.header+headerICMP+header4 {
		return nil, false
	}
	return p.inner(&in), true
}

// inner is what an ICMP error quotes, with the length that is there: its own is of the whole.
func (p Packet) inner(in *info) Packet {
	inner := append(Packet(nil), p[in.header+headerICMP:]...)
	switch {
	case inner[0]>>4 == 4:
		binary.BigEndian.PutUint16(inner[2:], uint16(len(inner)))
	case inner[0]>>4 == 6 && len(inner) >= header6:
		binary.BigEndian.PutUint16(inner[4:], uint16(len(inner)-header6))
	}
	return inner
}

// readdress sets one end of a packet of which only the beginning is here, as an error quotes it:
// its address, and its port or identifier.
func (p Packet) readdress(to netip.Addr, port uint16, source bool) {
	header, protocol, at := header4, p[9], 16
	if p[0]>>4 == 6 {
		header, protocol, at = header6, p[6], 24
	}
	if source {
		at -= to.BitLen() / 8
	}
	copy(p[at:], to.AsSlice())
	body := p[header:]
	switch {
	case protocol == ProtoUDP || protocol == ProtoTCP:
		if !source {
			body = body[2:]
		}
		binary.BigEndian.PutUint16(body, port)
	case protocol == ProtoICMP && (body[0] == echo4 || body[0] == echoReply4), protocol == ProtoICMPv6 && (body[0] == echo6 || body[0] == echoReply6):
		binary.BigEndian.PutUint16(body[4:], port)
	}
	if header == header4 {
		p.sum4()
	}
}

// requote changes one end of what an ICMP error quotes; other packets quote nothing.
func (p Packet) requote(in *info, at netip.AddrPort, source bool) {
	if _, ok := p.quoted(in); ok {
		p[in.header+headerICMP:].readdress(at.Addr(), at.Port(), source)
	}
}

// Expired is what a router says, from an address of its own, of a packet that is out of hops.
func (p Packet) Expired(from netip.Addr) (Packet, bool) {
	in, ok := p.read()
	if !ok {
		return nil, false
	}
	c := exceeded(&in)
	return report(from, p, c.kind, c.code, 0)
}

// About tells which packet an ICMP error is about, by the port or identifier and the protocol
// of who sent it.
func (p Packet) About() (id uint16, protocol byte, ok bool) {
	in, ok := p.read()
	if !ok {
		return 0, 0, false
	}
	about, ok := p.quoted(&in)
	return about.sport, about.protocol, ok
}
