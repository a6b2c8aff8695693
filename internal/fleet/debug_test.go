package fleet

import (
	"context"
	"net/netip"
	"os"
	"strconv"
	"testing"
	"time"

	"wideknot/core/check"
	"wideknot/core/gateway"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/internal/gateway/memory"
)

func TestDebug(t *testing.T) {
	n, _ := strconv.Atoi(os.Getenv("SEED"))
	e := sample.Mixed(uint64(n))
	s := stand(t, e)
	s.settle()
	s.compare(uint64(n), 40)
	time.Sleep(3 * time.Second)
	for i := range e.Sites {
		c := gateway.Of(s.routes, i)
		st, _ := s.Site(e.Sites[i].Key).Agent.State(context.Background())
		for j := range st.Tunnels {
			x := st.Tunnels[j]
			if x.HandshakeS == 0 {
				t.Log(e.Sites[i].Key, x.Interface, c.Tunnels[j].Link, c.Tunnels[j].WireGuard.Endpoint, c.Tunnels[j].WireGuard.Port, "up", x.Up, "sent", x.Sent)
			}
		}
		for _, l := range e.Sites[i].Links {
			t.Log(e.Sites[i].Key, l.Key, l.Reach, l.Addresses, l.Outside, l.Hostname, l.Underlay, l.Forwards, l.Device, l.NextHop)
		}
	}
	for _, f := range check.Run(s.plan, s.routes) {
		if f.Severity == check.Error {
			t.Log(f.Code, f.Title)
		}
	}
}

func TestTrace(t *testing.T) {
	n, _ := strconv.Atoi(os.Getenv("SEED"))
	e := sample.Mixed(uint64(n))
	if os.Getenv("DOC") != "" {
		e = read(t, os.Getenv("DOC"))
	}
	s := stand(t, e)
	s.settle()
	from, to := netip.MustParseAddr(os.Getenv("FROM")), netip.MustParseAddr(os.Getenv("TO"))
	trace := s.routes.Follow(route.Packet{From: from, To: to, Protocol: "icmp"})
	for _, st := range trace.Forward.Steps {
		t.Logf("%+v", st)
	}
	site := e.Sites[trace.Forward.FromSite].Key
	for _, x := range s.Sites() {
		m := x.Machine
		old := m.Send
		m.Send = func(nic string, p memory.Packet) {
			a, b, c, ok := p.Parse()
			t.Log(x.Key, nic, a, b, c, ok, len(p))
			old(nic, p)
		}
	}
	for range 2 {
		for ttl := 1; ttl < 6; ttl++ {
			ctx, done := context.WithTimeout(context.Background(), 700*time.Millisecond)
			r, err := s.Ask(ctx, site, from, to, memory.ProtoICMP, 0, 100, ttl)
			done()
			t.Log(ttl, r, err)
		}
	}
	t.Log(s.Site(site).oneArmed, s.Site(site).routes)
}
