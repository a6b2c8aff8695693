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
		taken, err := hears.Accept() // its last packet is through: a later one would be tracked anew
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = taken.Close() })
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
	listed := func() string {
		t.Helper()
		file, err := os.Open("/proc/thread-self/net/nf_conntrack") // another test may have left the first thread elsewhere
		if err != nil {
			t.Fatal(err)
		}
		defer file.Close()
		// At one go: between two reads the kernel counts its way back, and misses one where another went.
		room := make([]byte, 1<<16)
		n, err := file.Read(room)
		if err != nil {
			t.Fatal(err)
		}
		return string(room[:n])
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
	list := listed()
	for _, port := range []string{"4801", "4802", "4803"} {
		if strings.Contains(list, "dport="+port+" ") != (port == "4803") {
			t.Errorf("the kernel lists\n%s", list)
		}
	}
	if find("127.0.0.1:4801") != nil || find("127.0.0.1:4803") == nil {
		t.Error("others went, or these did not")
	}
	if n, err := p.Forget(gone); err != nil || n != 0 {
		t.Errorf("forgotten twice: %d, %v", n, err)
	}
}
