package memory

import (
	"net/netip"
	"sync"
	"testing"
	"time"

	"wideknot/core/gateway"
)

// What is over goes to probes first, then to others, then to the zone that gives way last.
func TestShaperServesInOrder(t *testing.T) {
	s := newShaper(400, 2, time.Now())
	var mu sync.Mutex
	sent := make([]int, len(s.classes))
	push := func(class int) {
		s.push(class, 1000, func() {
			mu.Lock()
			defer mu.Unlock()
			sent[class]++
		})
	}
	for range s.most + 20 { // more than may wait in a class, in each of them
		for class := range s.classes {
			push(class)
		}
	}
	s.mu.Lock()
	for i := range s.classes {
		if n := len(s.classes[i].queue); n != s.most {
			t.Errorf("%d packets of class %d wait, not %d", n, i, s.most)
		}
	}
	s.mu.Unlock()
	for until := time.Now().Add(20 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		mu.Lock()
		probes, others, last, first := sent[0], sent[1], sent[2], sent[3]
		mu.Unlock()
		if probes >= s.most && others >= s.most {
			if last < first {
				t.Errorf("the zone that gives way first has sent %d, the other %d", first, last)
			}
			break
		}
		if time.Now().After(until) {
			t.Fatalf("in 20 s there left %v", sent)
		}
	}
	began, bytes := time.Now(), 0
	for until := began.Add(20 * time.Second); time.Now().Before(until); time.Sleep(time.Millisecond) {
		s.mu.Lock()
		waiting := s.waiting
		s.mu.Unlock()
		if waiting == 0 {
			break
		}
	}
	mu.Lock()
	for _, n := range sent {
		bytes += n * 1000
	}
	mu.Unlock()
	if s.waiting != 0 || bytes > 4*(s.most+20)*1000 {
		t.Errorf("%d wait for ever, %d bytes left", s.waiting, bytes)
	}
}

func TestClassesOfPackets(t *testing.T) {
	prefix := netip.MustParsePrefix
	m := New()
	m.config = &gateway.Config{Shaping: []gateway.Class{
		{Zone: "backup", Here: []netip.Prefix{prefix("10.1.0.0/24")}, Beyond: []netip.Prefix{prefix("10.2.0.0/24")}},
		{Zone: "guests", Here: []netip.Prefix{prefix("10.1.1.0/24")}},
	}}
	for _, c := range []struct {
		src, dst string
		port     uint16
		want     int
	}{
		{"10.1.0.5:700", "10.9.0.1:80", 80, 3},
		{"10.9.0.1:700", "10.2.0.1:80", 80, 3},
		{"10.1.1.5:700", "10.9.0.1:80", 80, 2},
		{"10.1.1.5:700", "10.2.0.1:80", 80, 3}, // the first of either
		{"10.9.0.1:700", "10.9.1.1:80", 80, otherClass},
		{"10.1.0.5:700", "10.9.0.1:862", 862, probeClass},
		{"10.1.0.5:862", "10.9.0.1:700", 700, probeClass},
	} {
		in, _ := UDP(netip.MustParseAddrPort(c.src), netip.MustParseAddrPort(c.dst), 64, nil).read()
		if class := m.classOf(&in); class != c.want {
			t.Errorf("%s to %s is of class %d, not %d", c.src, c.dst, class, c.want)
		}
	}
	fibre := []gateway.Link{{Key: "fibre", Device: "wan0", Up: 6000}}
	c := &gateway.Config{Links: fibre, Tunnels: []gateway.Tunnel{{Link: "fibre"}}, Shaping: m.config.Shaping}
	m.shape(c)
	one := m.shapers["fibre"]
	if one == nil || one.whole.rate != 5700*1000/8 || len(one.classes) != 4 {
		t.Fatalf("it has %+v", one)
	}
	if m.shape(c); m.shapers["fibre"] != one {
		t.Error("the same configuration makes another")
	}
	c.Shaping = c.Shaping[:1]
	if m.shape(c); m.shapers["fibre"] == one || len(m.shapers["fibre"].classes) != 3 {
		t.Error("one zone less makes no other")
	}
	c.Shaping = nil
	if m.shape(c); len(m.shapers) > 0 {
		t.Error("where none gives way something is shaped")
	}
}
