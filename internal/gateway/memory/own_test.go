package memory

import (
	"net/netip"
	"testing"
	"time"

	"wideknot/core/gateway"
)

// What a gateway answers to what is said to itself is what a kernel answers; that kernels do so is
// seen in the lab.
func TestWhatAGatewayAnswers(t *testing.T) {
	at := netip.MustParseAddrPort
	host, own, host6, own6 := at("10.0.0.9:4000"), at("10.0.0.1:443"), at("[fd00::9]:4000"), at("[fd00::1]:443")
	other := func(p Packet) Packet {
		if p[0]>>4 == 4 {
			p[9] = 253
		} else {
			p[6] = 253
		}
		p.Sums()
		return p
	}
	for name, c := range map[string]struct {
		says Packet
		kind string // of the answer
		code [2]byte
	}{
		"an echo":                        {EchoRequest(host.Addr(), own.Addr(), 64, 7, 1, 100), "icmp", [2]byte{0, 0}},
		"an answer that nobody asked":    {func() Packet { p := EchoRequest(host.Addr(), own.Addr(), 64, 7, 1, 100); p[20] = 0; p.Sums(); return p }(), "", [2]byte{}},
		"a datagram":                     {UDP(host, own, 64, nil), "icmp", [2]byte{3, 3}},
		"a datagram of IPv6":             {UDP(host6, own6, 64, nil), "icmp", [2]byte{1, 4}},
		"a protocol that is not spoken":  {other(UDP(host, own, 64, nil)), "icmp", [2]byte{3, 2}},
		"such a protocol of IPv6":        {other(UDP(host6, own6, 64, nil)), "icmp", [2]byte{4, 1}},
		"a SYN":                          {TCP(host, own, 64, SYN), "tcp", [2]byte{tcpRst | tcpAck}},
		"a segment of no session":        {TCP(host, own, 64, tcpAck), "tcp", [2]byte{tcpRst}},
		"a reset":                        {TCP(host, own, 64, tcpRst), "", [2]byte{}},
		"something from its own loop":    {UDP(at("127.0.0.1:4000"), own, 64, nil), "", [2]byte{}},
		"something to a loop":            {EchoRequest(host.Addr(), netip.MustParseAddr("127.0.0.1"), 1, 7, 1, 0), "", [2]byte{}},
		"something from everybody":       {UDP(at("224.0.0.9:4000"), own, 64, nil), "", [2]byte{}},
		"something that has run its way": {UDP(host, at("10.9.0.1:7"), 1, nil), "icmp", [2]byte{11, 0}},
	} {
		m := New(Nic{Name: "lan0", MTU: 1500, Addresses: []netip.Prefix{netip.MustParsePrefix("10.0.0.1/24"), netip.MustParsePrefix("fd00::1/64")}, NextHops: []netip.Addr{netip.MustParseAddr("10.0.0.254")}})
		m.config = &gateway.Config{}
		var said []Packet
		m.Send = func(_ string, p Packet) { said = append(said, p) }
		m.Inject("lan0", append(Packet(nil), c.says...))
		if c.kind == "" {
			if len(said) > 0 {
				t.Errorf("%s: it answers %x", name, said)
			}
			continue
		}
		if len(said) != 1 {
			t.Errorf("%s: %d answers", name, len(said))
			continue
		}
		in, ok := said[0].read()
		body := said[0][in.header:]
		switch {
		case !ok || in.dst != host.Addr() && in.dst != host6.Addr():
			t.Errorf("%s: %x", name, said[0])
		case c.kind == "tcp" && (in.protocol != ProtoTCP || body[13] != c.code[0]):
			t.Errorf("%s: protocol %d, flags %x", name, in.protocol, body[13])
		case c.kind == "icmp" && (in.protocol != ProtoICMP && in.protocol != ProtoICMPv6 || [2]byte(body) != c.code):
			t.Errorf("%s: protocol %d, %d/%d", name, in.protocol, body[0], body[1])
		}
	}
}

var moment = time.Now()

// Errors about a flow that is translated are translated with what they quote, to both sides.
func TestErrorsAreTranslated(t *testing.T) {
	at := netip.MustParseAddrPort
	far, outside, inside := at("10.1.0.9:4000"), at("10.17.0.5:7"), at("192.168.40.5:7")
	var flows flowTable
	first := UDP(far, outside, 64, make([]byte, 40)) // from a tunnel, for a mapped host
	in, _ := first.read()
	s := flows.of(first, &in, moment)
	s.flow.answers.src = inside.Addr()
	s.translate(first, &in, destination)
	flows.keep(s.flow, moment)
	if in.dst != inside.Addr() {
		t.Fatalf("it goes to %v", in.dst)
	}
	refusal, _ := report(inside.Addr(), first, unreachable4, codePort, 0)
	in, _ = refusal.read()
	s = flows.of(refusal, &in, moment)
	if !s.related || !s.reply {
		t.Fatalf("it is %+v", s)
	}
	s.translate(refusal, &in, destination)
	s.translate(refusal, &in, source)
	about, _ := refusal.quoted(&in)
	if in.src != outside.Addr() || in.dst != far.Addr() || about.src != far.Addr() || about.dst != outside.Addr() || about.dport != 7 {
		t.Errorf("from %v to %v, about %v to %v port %d", in.src, in.dst, about.src, about.dst, about.dport)
	}
	answer := UDP(inside, far, 64, make([]byte, 40))
	in, _ = answer.read()
	s = flows.of(answer, &in, moment)
	s.translate(answer, &in, source)
	refusal, _ = report(far.Addr(), answer, unreachable4, codePort, 0)
	in, _ = refusal.read()
	s = flows.of(refusal, &in, moment)
	s.translate(refusal, &in, destination)
	s.translate(refusal, &in, source)
	about, _ = refusal.quoted(&in)
	if !s.related || s.reply || in.dst != inside.Addr() || about.src != inside.Addr() || about.dst != far.Addr() {
		t.Errorf("back: %+v to %v, about %v to %v", s, in.dst, about.src, about.dst)
	}
}

// An error of one family that quotes a packet of the other one is about no flow.
func TestErrorsQuoteTheirFamily(t *testing.T) {
	at := netip.MustParseAddrPort
	var flows flowTable
	first := UDP(at("[fd00::9]:4000"), at("[fd01::5]:7"), 64, make([]byte, 40))
	in, _ := first.read()
	s := flows.of(first, &in, moment)
	s.flow.answers.src = netip.MustParseAddr("fd02::5")
	s.translate(first, &in, destination)
	flows.keep(s.flow, moment)
	body := append([]byte{unreachable4, codePort, 0, 0, 0, 0, 0, 0}, first...)
	odd := ip(netip.MustParseAddr("10.0.0.9"), netip.MustParseAddr("10.0.0.1"), ProtoICMP, 64, body)
	in, _ = odd.read()
	s = flows.of(odd, &in, moment)
	if s.related {
		t.Error("it is taken for one about a flow of IPv6")
	}
	s.translate(odd, &in, destination)
	s.translate(odd, &in, source)
}
