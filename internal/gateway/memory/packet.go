package memory

import (
	"encoding/binary"
	"net/netip"
)

// Protocols by their numbers.
const (
	ProtoICMP   = 1
	ProtoTCP    = 6
	ProtoUDP    = 17
	ProtoICMPv6 = 58
)

// Types of ICMP messages, of IPv4 and of IPv6.
const (
	echoReply4, unreachable4, echo4, exceeded4  = 0, 3, 8, 11
	unreachable6, tooBig6, exceeded6, problem6  = 1, 2, 3, 4
	echo6, echoReply6                           = 128, 129
	codeNet, codeFragment, codePort, codeFilter = 0, 4, 3, 13 // of unreachable4
	codeProtocol, codeHeader                    = 2, 1        // of unreachable4 and problem6
)

// offsetNext is where a header of IPv6 says what follows it.
const offsetNext = 6

const (
	header4    = 20
	header6    = 40
	headerUDP  = 8
	headerTCP  = 20
	headerICMP = 8
)

// A Packet is one of IP, whole: header and payload. It is not shared: who has it may change
// it.
type Packet []byte

// An info is what a packet says of itself.
type info struct {
	src, dst     netip.Addr
	protocol     byte
	ttl          byte
	header       int    // bytes of IP's header
	sport, dport uint16 // of TCP and UDP; the identifier of an echo in both
	kind, code   byte   // of ICMP
}

// read reads a packet; ok is false for one that is none, a fragment, or has options.
func (p Packet) read() (in info, ok bool) {
	if len(p) < header4 {
		return in, false
	}
	switch p[0] >> 4 {
	case 4:
		if p[0]&15 != 5 || int(binary.BigEndian.Uint16(p[2:])) != len(p) || binary.BigEndian.Uint16(p[6:])&0x3fff != 0 {
			return in, false
		}
		in = info{src: netip.AddrFrom4([4]byte(p[12:16])), dst: netip.AddrFrom4([4]byte(p[16:20])), protocol: p[9], ttl: p[8], header: header4}
	case 6:
		if len(p) < header6 || int(binary.BigEndian.Uint16(p[4:]))+header6 != len(p) {
			return in, false
		}
		in = info{src: netip.AddrFrom16([16]byte(p[8:24])), dst: netip.AddrFrom16([16]byte(p[24:40])), protocol: p[6], ttl: p[7], header: header6}
	default:
		return in, false
	}
	body := p[in.header:]
	switch in.protocol {
	case ProtoUDP, ProtoTCP:
		if len(body) < headerUDP || in.protocol == ProtoTCP && len(body) < headerTCP {
			return in, false
		}
		in.sport, in.dport = binary.BigEndian.Uint16(body), binary.BigEndian.Uint16(body[2:])
	case ProtoICMP, ProtoICMPv6:
		if len(body) < headerICMP {
			return in, false
		}
		in.kind, in.code = body[0], body[1]
		if in.echo() {
			in.sport = binary.BigEndian.Uint16(body[4:])
			in.dport = in.sport
		}
	}
	return in, true
}

// Parse reads where a packet is from and to, and its protocol and ports; for echoes both
// ports are the identifier.
func (p Packet) Parse() (src, dst netip.AddrPort, protocol byte, ok bool) {
	in, ok := p.read()
	return netip.AddrPortFrom(in.src, in.sport), netip.AddrPortFrom(in.dst, in.dport), in.protocol, ok
}

// Flow reads of which flow a packet is, as Parse does; an ICMP error is of the flow that it is
// about, the other way.
func (p Packet) Flow() (src, dst netip.AddrPort, protocol byte, ok bool) {
	in, ok := p.read()
	if !ok || !in.isError() {
		return p.Parse()
	}
	about, ok := p.quoted(&in)
	return netip.AddrPortFrom(about.dst, about.dport), netip.AddrPortFrom(about.src, about.sport), about.protocol, ok
}

// Echo reports whether it asks for an echo, or is one.
func (p Packet) Echo() (asks, answers bool) {
	in, ok := p.read()
	if !ok {
		return false, false
	}
	four := in.protocol == ProtoICMP
	return ok && (four && in.kind == echo4 || !four && in.protocol == ProtoICMPv6 && in.kind == echo6),
		ok && (four && in.kind == echoReply4 || !four && in.protocol == ProtoICMPv6 && in.kind == echoReply6)
}

// Payload is what UDP, TCP or an echo carries.
func (p Packet) Payload() []byte {
	in, ok := p.read()
	if !ok {
		return nil
	}
	switch in.protocol {
	case ProtoTCP:
		return p[in.header+headerTCP:]
	default:
		return p[min(len(p), in.header+headerUDP):]
	}
}

func (in *info) echo() bool {
	return in.protocol == ProtoICMP && (in.kind == echo4 || in.kind == echoReply4) || in.protocol == ProtoICMPv6 && (in.kind == echo6 || in.kind == echoReply6)
}

// ip makes a packet of a payload that has its own header; the checksum inside is set.
func ip(src, dst netip.Addr, protocol, ttl byte, body []byte) Packet {
	var p Packet
	if src.Is4() {
		p = make(Packet, header4, header4+len(body))
		p[0], p[8], p[9] = 0x45, ttl, protocol
		binary.BigEndian.PutUint16(p[2:], uint16(header4+len(body)))
		binary.BigEndian.PutUint16(p[6:], 0x4000) // nobody may cut it up
	} else {
		p = make(Packet, header6, header6+len(body))
		p[0], p[6], p[7] = 0x60, protocol, ttl
		binary.BigEndian.PutUint16(p[4:], uint16(len(body)))
	}
	p = append(p, body...)
	p.address(src, dst)
	return p
}

// UDP makes a datagram.
func UDP(src, dst netip.AddrPort, ttl byte, payload []byte) Packet {
	body := make([]byte, headerUDP, headerUDP+len(payload))
	binary.BigEndian.PutUint16(body, src.Port())
	binary.BigEndian.PutUint16(body[2:], dst.Port())
	binary.BigEndian.PutUint16(body[4:], uint16(headerUDP+len(payload)))
	return ip(src.Addr(), dst.Addr(), ProtoUDP, ttl, append(body, payload...))
}

// TCP makes a segment with flags alone, such as SYN.
func TCP(src, dst netip.AddrPort, ttl, flags byte) Packet {
	body := make([]byte, headerTCP)
	binary.BigEndian.PutUint16(body, src.Port())
	binary.BigEndian.PutUint16(body[2:], dst.Port())
	body[12], body[13] = headerTCP/4<<4, flags
	return ip(src.Addr(), dst.Addr(), ProtoTCP, ttl, body)
}

// EchoRequest makes a question for an echo.
func EchoRequest(src, dst netip.Addr, ttl byte, id, sequence uint16, size int) Packet {
	kind, protocol, header := byte(echo4), byte(ProtoICMP), header4
	if src.Is6() {
		kind, protocol, header = echo6, ProtoICMPv6, header6
	}
	body := make([]byte, max(headerICMP, size-header))
	body[0] = kind
	binary.BigEndian.PutUint16(body[4:], id)
	binary.BigEndian.PutUint16(body[6:], sequence)
	return ip(src, dst, protocol, ttl, body)
}

// Answer makes the answer of a host that is asked: an echo, or a datagram with the payload
// it got. ok is false for what no host answers.
func (p Packet) Answer() (out Packet, ok bool) {
	in, ok := p.read()
	if !ok {
		return nil, false
	}
	asks, _ := p.Echo()
	switch {
	case asks:
		body := append([]byte(nil), p[in.header:]...)
		body[0] = echoReply4
		if in.protocol == ProtoICMPv6 {
			body[0] = echoReply6
		}
		return ip(in.dst, in.src, in.protocol, 64, body), true
	case in.protocol == ProtoUDP:
		return UDP(netip.AddrPortFrom(in.dst, in.dport), netip.AddrPortFrom(in.src, in.sport), 64, p.Payload()), true
	case in.protocol == ProtoTCP && p[in.header+13]&tcpSyn != 0 && p[in.header+13]&tcpAck == 0:
		return TCP(netip.AddrPortFrom(in.dst, in.dport), netip.AddrPortFrom(in.src, in.sport), 64, tcpSyn|tcpAck), true
	}
	return nil, false
}

// begins reports whether flows may begin with it, as kernels follow flows: an answer to an echo
// and a segment that ends or confirms what nobody saw begin do not, but one that goes on does.
func (in *info) begins(p Packet) bool {
	switch {
	case in.protocol == ProtoTCP:
		flags := p[in.header+13]
		return flags&tcpRst == 0 && (flags&(tcpSyn|tcpAck) == tcpSyn || flags&(tcpSyn|tcpFin|tcpAck) == tcpAck)
	case in.protocol == ProtoICMP:
		return in.kind == echo4
	case in.protocol == ProtoICMPv6:
		return in.kind == echo6
	}
	return true
}

// reset makes the answer of a host that knows nothing of a session (RFC 9293, 3.10.7.1); nil to
// what is such an answer itself.
func (p Packet) reset(in *info) Packet {
	body := p[in.header:]
	flags := body[13]
	if flags&tcpRst != 0 {
		return nil
	}
	out := TCP(netip.AddrPortFrom(in.dst, in.dport), netip.AddrPortFrom(in.src, in.sport), 64, tcpRst)
	if flags&tcpAck != 0 {
		copy(out[in.header+4:in.header+8], body[8:12])
	} else {
		next := binary.BigEndian.Uint32(body[4:]) + uint32(max(0, len(body)-int(body[12]>>4)*4))
		for _, one := range []byte{tcpSyn, tcpFin} {
			if flags&one != 0 {
				next++
			}
		}
		out[in.header+13] |= tcpAck
		binary.BigEndian.PutUint32(out[in.header+8:], next)
	}
	out.sums()
	return out
}

// Begins reports whether it may be the first of its flow: a question for an echo, a segment that
// opens a session, or any datagram.
func (p Packet) Begins() bool {
	in, ok := p.read()
	if !ok {
		return false
	}
	asks, _ := p.Echo()
	return asks || in.protocol == ProtoUDP || in.protocol == ProtoTCP && p[in.header+13]&(tcpSyn|tcpAck) == tcpSyn
}

// Flags of TCP.
const (
	tcpFin = 1
	tcpSyn = 2
	tcpRst = 4
	tcpAck = 16
	// SYN opens a session.
	SYN = tcpSyn
)

// Hop takes one hop off; it is false when none is left.
func (p Packet) Hop() bool {
	at := 8
	if p[0]>>4 == 6 {
		at = 7
	}
	if p[at] <= 1 {
		return false
	}
	p[at]--
	if at == 8 {
		p.sum4()
	}
	return true
}

// address sets where a packet is from and to, and all checksums.
func (p Packet) address(src, dst netip.Addr) {
	if src.Is4() {
		a, b := src.As4(), dst.As4()
		copy(p[12:], a[:])
		copy(p[16:], b[:])
		p.sum4()
	} else {
		a, b := src.As16(), dst.As16()
		copy(p[8:], a[:])
		copy(p[24:], b[:])
	}
	p.sums()
}

// ports sets those of TCP and UDP, or the identifier of an echo, and all checksums.
func (p Packet) ports(in *info, sport, dport uint16) {
	body := p[in.header:]
	switch {
	case in.protocol == ProtoUDP || in.protocol == ProtoTCP:
		binary.BigEndian.PutUint16(body, sport)
		binary.BigEndian.PutUint16(body[2:], dport)
	case in.echo() && in.kind != echoReply4 && in.kind != echoReply6:
		binary.BigEndian.PutUint16(body[4:], sport)
	case in.echo():
		binary.BigEndian.PutUint16(body[4:], dport)
	}
	p.sums()
}

// Sums sets all checksums, of the packet's header and of what it carries.
func (p Packet) Sums() {
	if p[0]>>4 == 4 {
		p.sum4()
	}
	p.sums()
}

// sum4 sets the checksum of IPv4's header.
func (p Packet) sum4() {
	p[10], p[11] = 0, 0
	binary.BigEndian.PutUint16(p[10:], ^fold(add(0, p[:header4])))
}

// sums sets the checksum of what IP carries.
func (p Packet) sums() {
	header, protocol := header4, p[9]
	var sum uint32
	if p[0]>>4 == 6 {
		header, protocol = header6, p[6]
		sum = add(0, p[8:40])
	} else {
		sum = add(0, p[12:20])
	}
	body := p[header:]
	sum += uint32(protocol) + uint32(len(body))
	at := 0
	switch protocol {
	case ProtoUDP:
		at = 6
	case ProtoTCP:
		at = 16
	case ProtoICMP:
		at, sum = 2, 0
	case ProtoICMPv6:
		at = 2
	default:
		return
	}
	if len(body) < at+2 {
		return
	}
	body[at], body[at+1] = 0, 0
	value := ^fold(add(sum, body))
	if value == 0 && protocol == ProtoUDP {
		value = 0xffff
	}
	binary.BigEndian.PutUint16(body[at:], value)
}

func add(sum uint32, b []byte) uint32 {
	for ; len(b) >= 2; b = b[2:] {
		sum += uint32(b[0])<<8 | uint32(b[1])
	}
	if len(b) == 1 {
		sum += uint32(b[0]) << 8
	}
	return sum
}

func fold(sum uint32) uint16 {
	for sum > 0xffff {
		sum = sum>>16 + sum&0xffff
	}
	return uint16(sum)
}

// TTL is how many hops are left.
func (p Packet) TTL() int {
	in, ok := p.read()
	if !ok {
		return 0
	}
	return int(in.ttl)
}

// From is the packet as it comes from another address and port, and so what it quotes, if it is an
// ICMP error, as it went there; the one it was is changed.
func (p Packet) From(at netip.AddrPort) Packet {
	in, ok := p.read()
	if ok {
		p.requote(&in, at, false)
		p.address(at.Addr(), in.dst)
		p.ports(&in, at.Port(), in.dport)
	}
	return p
}

// To is the packet as it goes to another address and port, and so what it quotes, if it is an ICMP
// error, as it came from there; the one it was is changed.
func (p Packet) To(at netip.AddrPort) Packet {
	in, ok := p.read()
	if ok {
		p.requote(&in, at, true)
		p.address(in.src, at.Addr())
		p.ports(&in, in.sport, at.Port())
	}
	return p
}
