package main

import (
	"net"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/internal/gateway/memory"
)

// Two sites, of which one has a narrow circuit: backups give way to control.
const narrow = `
wideknot: 1
estate:
  name: Narrow
  shed: [backup]
  regions: [{key: vale, blocks: [10.40.0.0/16]}]
sites:
  - key: mill
    name: Mill
    region: vale
    gateway: {lan_device: lan0, switches: true}
    links: [{key: fibre, provider: Lumenway, reach: static, addresses: [203.0.113.10], down_mbps: 500, up_mbps: 500, device: wan0, next_hop: [203.0.113.9]}]
    subnets: [{prefix: 10.40.1.0/24, zone: office, share: [ops]}]
  - key: weir
    name: Weir
    region: vale
    gateway: {lan_device: lan0, switches: true}
    links: [{key: cell, provider: Skylark Mobile, reach: static, addresses: [198.51.100.20], down_mbps: 40, up_mbps: 6, device: wan0, next_hop: [198.51.100.17]}]
    subnets: [{prefix: 10.40.2.0/24, zone: control, share: [ops]}, {prefix: 10.40.3.0/24, zone: backup, share: [ops]}]
overlays:
  - {key: ops, shape: hub-and-spoke, transit: [100.96.0.0/24], hubs: [mill], spokes: [{site: weir}]}
`

// narrowEstate is kept by agents.
func narrowEstate(t *testing.T) *estate.Estate {
	t.Helper()
	needsNamespaces(t)
	e, _, err := estate.Read(strings.NewReader(narrow))
	if err != nil {
		t.Fatal(err)
	}
	probed(e, false)
	return e
}

// narrowWorld brings it up on this kernel.
func narrowWorld(t *testing.T) *world {
	t.Helper()
	e := narrowEstate(t)
	keys := keysFor(e) // before anything is derived: they are in it
	w, err := newWorld(route.Build(tunnel.Derive(e)), keys, true)
	t.Cleanup(w.close)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// Where a circuit is too narrow for both, the zone that gives way gets what the other
// leaves; alone it has all of it.
func TestZonesGiveWay(t *testing.T) {
	w := narrowWorld(t)
	giveWay(t, func(from string, port int, mbps float64) *stream { return flow(t, w, from, port, mbps) })
}

// The same on stand-ins.
func TestZonesOfStandInsGiveWay(t *testing.T) {
	s, err := newStandIns(narrowEstate(t))
	t.Cleanup(s.close)
	if err != nil {
		t.Fatal(err)
	}
	var streams sync.Map // by port
	err = s.take(func(a arrival) {
		if _, to, _, ok := a.Parse(); ok {
			if one, known := streams.Load(int(to.Port())); known {
				one.(*stream).got.Add(int64(len(a.Packet)))
			}
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	giveWay(t, func(from string, port int, mbps float64) *stream {
		one := &stream{}
		streams.Store(port, one)
		near, far := netip.AddrPortFrom(netip.MustParseAddr(from), 5000), netip.AddrPortFrom(netip.MustParseAddr("10.40.1.10"), uint16(port))
		one.stop = paced(mbps, func() { _ = s.say(1, memory.UDP(near, far, 64, make([]byte, sizeOfStream))) })
		return one
	})
}

// giveWay measures what arrives of streams from the narrow site.
func giveWay(t *testing.T, flow func(from string, port int, mbps float64) *stream) {
	const seconds, link = 3, 6.0
	measure := func(control, backup float64) (gotControl, gotBackup float64) {
		t.Helper()
		a := flow("10.40.2.10", 9001, control)
		b := flow("10.40.3.10", 9002, backup)
		time.Sleep(time.Second) // queues fill
		gotA, gotB := a.got.Load(), b.got.Load()
		time.Sleep(seconds * time.Second)
		gotA, gotB = a.got.Load()-gotA, b.got.Load()-gotB
		a.stop()
		b.stop()
		return float64(gotA) * 8 / seconds / 1e6, float64(gotB) * 8 / seconds / 1e6
	}
	for _, test := range []struct {
		control, backup            float64 // Mbit/s that are sent
		least, most, bleast, bmost float64 // that arrive
	}{
		{0, 10, 0, 0, 0.4 * link, link},
		{10, 0, 0.4 * link, link, 0, 0.02 * link}, // what waits from before
		{10, 10, 0.4 * link, link, 0, 0.15 * link},
		{2, 10, 1.5, 2.1, 0.15 * link, 0.72 * link},
	} {
		// A busy machine loses packets elsewhere too: what is too little is measured again.
		var control, backup float64
		for try := range 4 {
			control, backup = measure(test.control, test.backup)
			t.Logf("sent %4.1f of control and %4.1f Mbit/s of backup: %.2f and %.2f arrive", test.control, test.backup, control, backup)
			if control >= test.least && backup >= test.bleast || try == 3 {
				break
			}
		}
		if control < test.least || control > test.most || backup < test.bleast || backup > test.bmost {
			t.Errorf("of %v and %v Mbit/s %.2f and %.2f arrive", test.control, test.backup, control, backup)
		}
	}
}

// A stream of packets from a host at the narrow site, and what of it arrives.
type stream struct {
	got  atomic.Int64
	stop func()
}

func flow(t *testing.T, w *world, from string, port int, mbps float64) *stream {
	t.Helper()
	s := &stream{}
	to := netip.AddrPortFrom(netip.MustParseAddr("10.40.1.10"), uint16(port))
	var in, out *net.UDPConn
	if err := w.hosts[0].do(func() (err error) {
		in, err = net.ListenUDP("udp4", net.UDPAddrFromAddrPort(to))
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if err := w.hosts[1].do(func() (err error) {
		out, err = net.DialUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(netip.MustParseAddr(from), 0)), net.UDPAddrFromAddrPort(to))
		return err
	}); err != nil {
		t.Fatal(err)
	}
	go func() {
		room := make([]byte, 2000)
		for {
			n, err := in.Read(room)
			if err != nil {
				return
			}
			s.got.Add(int64(n + headersOfStream))
		}
	}()
	packet := make([]byte, sizeOfStream)
	end := paced(mbps, func() { _, _ = out.Write(packet) }) // what the queue does not take is lost
	s.stop = func() {
		end()
		_ = in.Close()
		_ = out.Close()
	}
	return s
}

// Bytes of a stream's packets: what they carry, and before that.
const sizeOfStream, headersOfStream = 1200, 28

// paced sends packets of a stream at a rate until it is stopped.
func paced(mbps float64, send func()) (stop func()) {
	done := make(chan struct{})
	go func() {
		began, sent := time.Now(), 0.0
		for tick := time.NewTicker(2 * time.Millisecond); ; <-tick.C {
			select {
			case <-done:
				tick.Stop()
				return
			default:
			}
			for ; sent < mbps*1e6/8*time.Since(began).Seconds(); sent += sizeOfStream + headersOfStream {
				send()
			}
		}
	}()
	return func() { close(done) }
}
