package agent

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"runtime"
	"syscall"
	"testing"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/stamp"
)

// A loop is a plane whose tunnels are pairs of addresses of the loopback device.
type loop struct{ *tray }

func (loop) Listen(ctx context.Context, four bool, port, _ int) (stamp.Conn, error) {
	if port != 0 {
		return stamp.Listen(ctx, four, loopPort, 0)
	}
	conn, err := stamp.Listen(ctx, four, 0, 0)
	return onward{conn}, err
}

// loopPort stands for the reflector's, which needs a privilege.
const loopPort = 20862

// onward sends what is for the reflector's port to the one it has here.
type onward struct{ stamp.Conn }

func (o onward) Write(b []byte, m stamp.Meta) error {
	if m.Far.Port() == stamp.Port {
		m.Far = netip.AddrPortFrom(m.Far.Addr(), loopPort)
	}
	return o.Conn.Write(b, m)
}

func (o onward) Read(b []byte) (int, stamp.Meta, bool) {
	n, m, ok := o.Conn.Read(b)
	if m.Far.Port() == loopPort {
		m.Far = netip.AddrPortFrom(m.Far.Addr(), stamp.Port)
	}
	return n, m, ok
}

// A thousand tunnels, probed each second for some seconds: what of one core that takes,
// both ends of each in this process, and how much memory.
func BenchmarkProbing(b *testing.B) {
	c := &gateway.Config{Site: "here"}
	up := map[string]int{}
	for i := range 1000 {
		name := fmt.Sprintf("t%d", i)
		c.Tunnels = append(c.Tunnels, gateway.Tunnel{
			Interface: name, Overlay: "ops", Peer: name, NextHop: gateway.Blackhole + 1 + i, WireGuard: &gateway.WireGuard{},
			Addresses: []netip.Prefix{netip.PrefixFrom(netip.AddrFrom4([4]byte{127, 1, byte(i >> 8), byte(i)}), 31)},
			Probe:     &gateway.Probe{Address: netip.AddrFrom4([4]byte{127, 2, byte(i >> 8), byte(i)}), Interval: 1000, Timeout: 800, Misses: 3, Successes: 3},
		})
		up[name] = 1 // lo
	}
	p := newProber(slog.New(slog.DiscardHandler), func(string, string, string, ...any) {})
	ctx, stop := context.WithCancel(b.Context())
	defer stop()
	if err := p.start(ctx, loop{newTray(newTestNet())}, false); err != nil {
		b.Fatal(err)
	}
	p.watch(c)
	p.links(up, nil)
	time.Sleep(2 * time.Second)
	var before, after syscall.Rusage
	seconds := 0.0
	for b.Loop() {
		began := time.Now()
		_ = syscall.Getrusage(syscall.RUSAGE_SELF, &before)
		time.Sleep(5 * time.Second)
		_ = syscall.Getrusage(syscall.RUSAGE_SELF, &after)
		seconds = time.Since(began).Seconds()
	}
	spent := time.Duration(after.Utime.Nano() + after.Stime.Nano() - before.Utime.Nano() - before.Stime.Nano())
	b.ReportMetric(spent.Seconds()/seconds, "cores")
	var memory runtime.MemStats
	runtime.ReadMemStats(&memory)
	b.ReportMetric(float64(memory.Sys)/1e6, "MB")
	answered, sent := uint64(0), uint64(0)
	p.each(func(w *watched) { answered, sent = answered+w.quality.Answered, sent+w.quality.Sent })
	b.ReportMetric(float64(answered), "answered")
	if answered < sent*9/10 || answered < 3000 {
		b.Errorf("%d of %d probes were answered", answered, sent)
	}
}
