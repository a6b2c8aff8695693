package kernel

import (
	"net"
	"net/netip"
	"os"
	"strings"
	"testing"
	"time"

	"wideknot/internal/gateway/agent"
)

// The connections that the kernel tracks are those that it lists itself, and what is forgotten is
// gone from there, and nothing else.
func TestConnectionsAreReadAndForgotten(t *testing.T) {
	needsRoot(t)
	run(t, "nft", "add", "table", "inet", "tracking")
	defer run(t, "nft", "delete", "table", "inet", "tracking")
	run(t, "nft", "add", "chain", "inet", "tracking", "in", "{ type filter hook input priority 0; }")
	run(t, "nft", "add", "rule", "inet", "tracking", "in", "ct", "state", "established", "accept")
	p := open(t)
	dial := func(to string) netip.AddrPort {
		t.Helper()
		hears, err := net.Listen("tcp", to)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = hears.Close() })
		c, err := net.Dial("tcp", to)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = c.Close() })
		return c.LocalAddr().(*net.TCPAddr).AddrPort() // it is one of TCP
	}
	from := map[string]netip.AddrPort{}
	for _, to := range []string{"127.0.0.1:4801", "[::1]:4802", "127.0.0.1:4803"} {
		from[to] = dial(to)
	}
	find := func(to string) *agent.Flow {
		t.Helper()
		list, err := p.Flows()
		if err != nil {
			t.Fatal(err)
		}
		for i := range list {
			if f := &list[i]; f.To == netip.MustParseAddrPort(to) && f.From == from[to] {
				return f
			}
		}
		return nil
	}
	listed := func(port string) bool {
		t.Helper()
		text, err := os.ReadFile("/proc/net/nf_conntrack")
		if err != nil {
			t.Fatal(err)
		}
		return strings.Contains(string(text), "dport="+port+" ")
	}
	for to := range from {
		f := find(to)
		if f == nil || f.Protocol != 6 || f.Unanswered || f.Left < int(time.Minute.Seconds()) || f.Beyond != [2]netip.Addr{f.To.Addr(), f.From.Addr()} {
			t.Errorf("%s: %+v", to, f)
		}
	}
	gone := []agent.Flow{*find("127.0.0.1:4801"), *find("[::1]:4802")}
	if n, err := p.Forget(gone); err != nil || n != 2 {
		t.Errorf("%d are forgotten, %v", n, err)
	}
	if listed("4801") || listed("4802") || !listed("4803") || find("127.0.0.1:4801") != nil || find("127.0.0.1:4803") == nil {
		t.Error("others went, or these did not")
	}
	if n, err := p.Forget(gone); err != nil || n != 0 {
		t.Errorf("forgotten twice: %d, %v", n, err)
	}
}
