package memory

import (
	"bytes"
	"net/netip"
	"testing"
)

func at(text string) netip.AddrPort { return netip.MustParseAddrPort(text) }

// sound reports whether the checksums of a packet are right: summed with them, all is ones.
func sound(p Packet) bool {
	in, ok := p.read()
	if !ok {
		return false
	}
	if in.src.Is4() && fold(add(0, p[:header4])) != 0xffff {
		return false
	}
	again := bytes.Clone(p)
	Packet(again).sums()
	return bytes.Equal(again, p)
}

func TestPackets(t *testing.T) {
	four, six := netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("fd00::1")
	for name, p := range map[string]Packet{
		"UDP": UDP(at("10.0.0.1:7"), at("10.0.0.2:9"), 64, []byte("abc")), "UDP over IPv6": UDP(at("[fd00::1]:7"), at("[fd00::2]:9"), 64, []byte("abcd")),
		"TCP": TCP(at("10.0.0.1:7"), at("10.0.0.2:9"), 64, SYN), "echo": EchoRequest(four, netip.MustParseAddr("10.0.0.2"), 3, 77, 1, 100),
		"echo over IPv6": EchoRequest(six, netip.MustParseAddr("fd00::2"), 3, 77, 1, 100),
	} {
		if !sound(p) {
			t.Errorf("%s: its checksums are wrong", name)
		}
		src, dst, protocol, ok := p.Parse()
		answer, answers := p.Answer()
		back, to, same, _ := answer.Parse()
		if !ok || !answers || !sound(answer) || back != dst || to != src || same != protocol {
			t.Errorf("%s: from %v to %v, and its answer from %v to %v", name, src, dst, back, to)
		}
		moved := bytes.Clone(p)
		other := netip.AddrPortFrom(dst.Addr(), 4000)
		if q := Packet(moved).From(other); !sound(q) {
			t.Errorf("%s: moved, its checksums are wrong", name)
		} else if is, _, _, _ := q.Parse(); is.Addr() != other.Addr() || is.Port() != other.Port() {
			t.Errorf("%s: it is from %v", name, is)
		}
		error4, made := report(dst.Addr(), p, exceeded4, 0, 0)
		if dst.Addr().Is6() {
			error4, made = report(dst.Addr(), p, exceeded6, 0, 0)
		}
		id, of, about := error4.About()
		if !made || !sound(error4) || !error4.Exceeded() || !about || id != src.Port() || of != protocol {
			t.Errorf("%s: an error about it is about %d of %d", name, id, of)
		}
		if _, made := report(src.Addr(), error4, exceeded4, 0, 0); made {
			t.Errorf("%s: there is an error about an error", name)
		}
		for range 3 {
			ttl := p.TTL()
			if left := p.Hop(); left != (ttl > 1) || left && (p.TTL() != ttl-1 || !sound(p)) {
				t.Errorf("%s: a hop of %d leaves %d", name, ttl, p.TTL())
			}
		}
	}
	if mtu, ok := must(report(four, EchoRequest(netip.MustParseAddr("10.0.0.2"), four, 64, 1, 1, 1500), unreachable4, codeFragment, 1400)).TooBig(); !ok || mtu != 1400 {
		t.Errorf("too big for %d", mtu)
	}
	if mtu, ok := must(report(six, EchoRequest(netip.MustParseAddr("fd00::2"), six, 64, 1, 1, 1500), tooBig6, 0, 1300)).TooBig(); !ok || mtu != 1300 {
		t.Errorf("too big for %d", mtu)
	}
}

func must(p Packet, _ bool) Packet { return p }

// Whatever comes, a machine neither fails nor sends what is no packet.
func FuzzPacket(f *testing.F) {
	f.Add([]byte(EchoRequest(netip.MustParseAddr("10.0.0.9"), netip.MustParseAddr("10.1.0.9"), 64, 1, 1, 80)))
	f.Add([]byte(UDP(at("[fd00::9]:7"), at("[fd00::1]:862"), 1, []byte("abc"))))
	f.Add([]byte(TCP(at("10.0.0.9:7"), at("10.0.0.1:9"), 2, SYN)))
	f.Fuzz(func(t *testing.T, raw []byte) {
		m := New(Nic{Name: "lan0", MTU: 1500, Addresses: []netip.Prefix{netip.MustParsePrefix("10.0.0.1/24"), netip.MustParsePrefix("fd00::1/64")}},
			Nic{Name: "wan0", MTU: 1000, Addresses: []netip.Prefix{netip.MustParsePrefix("192.0.2.7/24")}, NextHops: []netip.Addr{netip.MustParseAddr("192.0.2.1")}})
		m.Send = func(_ string, p Packet) {
			if _, ok := p.read(); !ok {
				t.Errorf("of %x it sends %x", raw, p)
			}
		}
		m.Inject("lan0", bytes.Clone(raw))
		p := Packet(bytes.Clone(raw))
		_ = p.Payload()
		_, _, _ = p.About()
		_, _ = p.TooBig()
		if src, dst, _, ok := p.Flow(); ok && p.Routed() {
			if said, ok := p.Expired(dst.Addr()); ok && !sound(said) {
				t.Errorf("of %x it is said %x", raw, said)
			}
			if moved := p.From(dst).To(src); !sound(moved) {
				t.Errorf("%x moved is %x", raw, moved)
			}
		}
	})
}
