package fleet

import (
	"context"
	"log/slog"
	"net/netip"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/internal/gateway/memory"
)

// A router beside a gateway sends it what it was given routes for, of the hosts that they are for.
func TestRoutersSendWhatTheyWereAskedTo(t *testing.T) {
	r := &router{routes: []gateway.LANRoute{
		{Prefix: netip.MustParsePrefix("10.7.0.0/16")},
		{Prefix: netip.MustParsePrefix("0.0.0.0/0"), From: netip.MustParsePrefix("10.20.0.0/25")},
	}}
	for _, test := range []struct {
		from, to string
		lacking  bool
		want     bool
	}{
		{"10.20.0.9:1", "10.7.0.9:7", false, true},
		{"10.20.0.200:1", "10.7.255.9:7", false, true},
		{"10.20.0.127:1", "192.0.2.9:7", false, true},
		{"10.20.0.128:1", "192.0.2.9:7", false, false},
		{"10.20.0.200:1", "10.8.0.9:7", false, false},
		{"10.20.0.9:1", "10.7.0.9:7", true, false},
	} {
		r.lacking = test.lacking
		p := memory.UDP(netip.MustParseAddrPort(test.from), netip.MustParseAddrPort(test.to), 64, nil)
		if got := r.sends(p); got != test.want {
			t.Errorf("from %s to %s: %v", test.from, test.to, got)
		}
	}
}

// besides is a site whose gateway stands beside a router, with a subnet behind that.
func besides(t *testing.T) (w *World, s *Site, heard chan memory.Packet) {
	t.Helper()
	site := estate.Site{Key: "quay", Subnets: []estate.Subnet{{Prefix: netip.MustParsePrefix("10.60.5.0/24")}, {Prefix: netip.MustParsePrefix("10.60.6.0/24")}}}
	site.Gateway = estate.Gateway{Placement: estate.OneArmed, LANAddress: netip.MustParseAddr("10.60.5.2"), Upstream: netip.MustParseAddr("10.60.5.1"), LANDevice: "lan0"}
	w = New(&estate.Estate{Sites: []estate.Site{site}}, 1, slog.New(slog.DiscardHandler))
	heard = make(chan memory.Packet, 10)
	w.Tap(func(_ string, p memory.Packet) { heard <- p })
	ctx, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	go w.Run(ctx)
	return w, w.Site("quay"), heard
}

// The router is a hop, there and back, and says whose hops end at it.
func TestRoutersAreHops(t *testing.T) {
	w, s, heard := besides(t)
	near, far, behind := netip.MustParseAddrPort("10.60.5.9:5000"), netip.MustParseAddrPort("10.7.0.9:7"), netip.MustParseAddrPort("10.60.6.9:7")
	next := func() memory.Packet {
		t.Helper()
		select {
		case p := <-heard:
			return p
		case <-time.After(5 * time.Second):
			t.Fatal("nothing arrives")
			return nil
		}
	}
	w.FromHost("quay", memory.UDP(near, far, 1, nil)) // which it has no route for, but its own
	said := next()
	if from, to, _, ok := said.Parse(); !ok || !said.Exceeded() || from.Addr() != netip.MustParseAddr("10.60.5.1") || to.Addr() != near.Addr() {
		t.Errorf("of what is out of hops %v says to %v: %x", from, to, []byte(said))
	}
	w.FromHost("quay", memory.UDP(near, behind, 9, nil))
	if p := next(); p.TTL() != 8 {
		t.Errorf("to the other subnet: %d hops are left", p.TTL())
	}
	w.onLAN(s, memory.UDP(far, behind, 9, nil))
	if p := next(); p.TTL() != 8 {
		t.Errorf("from the gateway to behind the router: %d hops are left", p.TTL())
	}
	w.onLAN(s, memory.UDP(far, near, 9, nil))
	if p := next(); p.TTL() != 9 {
		t.Errorf("from the gateway to its own subnet: %d hops are left", p.TTL())
	}
	for _, to := range []string{"224.0.0.9:7", "127.0.0.1:7"} {
		w.FromHost("quay", memory.UDP(near, netip.MustParseAddrPort(to), 1, nil))
	}
	w.FromHost("quay", memory.EchoRequest(near.Addr(), netip.MustParseAddr("10.60.5.2"), 1, 7, 1, 84)) // the gateway itself
	if p := next(); p.Exceeded() {
		t.Error("a packet that no router carries is said to be out of hops, or the gateway is behind the router")
	}
}

// An ICMP error gets through a NAT by what it is about, and quotes what its reader sent.
func TestErrorsGetThroughNAT(t *testing.T) {
	w := New(causesEstate(t), 1, slog.New(slog.DiscardHandler))
	l := w.Site("ford").Links[0]
	near, far := netip.AddrPortFrom(l.inside[0], 5000), netip.MustParseAddrPort("203.0.113.1:7")
	out := l.hide(memory.ProtoUDP, near, far, time.Now())
	said, _ := memory.UDP(out, far, 1, make([]byte, 40)).Expired(netip.MustParseAddr("203.0.113.99"))
	from, to, of, ok := said.Flow()
	if !ok || from != far || to != out || of != memory.ProtoUDP {
		t.Fatalf("it is of a flow from %v to %v, %v", from, to, ok)
	}
	if by, at := w.through(l.behind, of, from, to.Port()); by != l || at != near {
		t.Fatalf("it gets to %v", at)
	}
	inner, _ := said.To(near).Quoted()
	if src, dst, _, ok := inner.Parse(); !ok || src != near || dst != far {
		t.Errorf("it quotes a packet from %v to %v", src, dst)
	}
	// And what the gateway says of what came in looks to the outside as that did.
	said, _ = memory.UDP(far, near, 1, make([]byte, 40)).Expired(near.Addr())
	inner, _ = said.From(out).Quoted()
	if src, dst, _, ok := inner.Parse(); !ok || src != far || dst != out {
		t.Errorf("to the outside it quotes a packet from %v to %v", src, dst)
	}
	if free, ok := l.behind.free(253, l, 0); !ok || free != 0 {
		t.Errorf("a protocol without ports gets port %d, %v", free, ok)
	}
}
