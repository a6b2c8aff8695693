package agent

import (
	"net/netip"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/stamp"
)

// A tunnel goes beyond its limits as soon as a window is, and comes back only after it
// kept to the margin for a whole one: it does not swing about a limit.
func TestGauge(t *testing.T) {
	limits := &gateway.Limits{Latency: 100_000, Jitter: 30_000, Loss: 20_000, Window: 10_000}
	ms := time.Millisecond
	for name, test := range map[string]struct {
		rtt    func(second int) time.Duration
		lost   func(probe int) (out, back int)
		beyond [4]bool // after 5, 15, 45 and 75 s
	}{
		"within":               {rtt: func(int) time.Duration { return 60 * ms }},
		"slow":                 {rtt: func(int) time.Duration { return 140 * ms }, beyond: [4]bool{false, true, true, true}},
		"slow for a while":     {rtt: func(s int) time.Duration { return ternary(s < 20, 140*ms, 60*ms) }, beyond: [4]bool{false, true, false, false}},
		"at the limit":         {rtt: func(s int) time.Duration { return ternary(s < 20, 101*ms, 99*ms) }, beyond: [4]bool{false, true, true, true}},
		"below the margin":     {rtt: func(s int) time.Duration { return ternary(s < 20, 101*ms, 79*ms) }, beyond: [4]bool{false, true, false, false}},
		"one slow moment":      {rtt: func(s int) time.Duration { return ternary(s == 12, 900*ms/10, 60*ms) }},
		"lost on the way":      {rtt: func(int) time.Duration { return 60 * ms }, lost: func(n int) (int, int) { return ternary(n%20 == 0, 1, 0), 0 }, beyond: [4]bool{false, true, true, true}},
		"lost on the way back": {rtt: func(int) time.Duration { return 60 * ms }, lost: func(n int) (int, int) { return 0, ternary(n%20 == 0, 1, 0) }, beyond: [4]bool{false, true, true, true}},
		"lost less":            {rtt: func(int) time.Duration { return 60 * ms }, lost: func(n int) (int, int) { return ternary(n%100 == 0, 1, 0), 0 }},
	} {
		var g gauge
		at, n := time.Unix(1000, 0), 0
		var got [4]bool
		for second := range 75 {
			for range 10 { // probes a second
				n++
				r := stamp.Result{RTT: test.rtt(second), Sent: 1}
				if test.lost != nil {
					r.LostOut, r.LostBack = test.lost(n)
				}
				g.answered(&r)
				g.look(limits, at)
				at = at.Add(100 * ms)
			}
			switch second {
			case 4, 14, 44, 74:
				got[slices.Index([]int{4, 14, 44, 74}, second)] = g.beyond
			}
		}
		if got != test.beyond {
			t.Errorf("%s: beyond %v, not %v", name, got, test.beyond)
		}
	}
	g := gauge{beyond: true}
	if changed, _ := g.look(&gateway.Limits{}, time.Unix(0, 0)); !changed || g.beyond {
		t.Error("without limits a tunnel stays beyond them")
	}
	jittery := gauge{}
	at := time.Unix(1000, 0)
	for n := range 300 {
		jittery.answered(&stamp.Result{RTT: ternary(n%2 == 0, 40*ms, 80*ms), Sent: 1})
		if changed, words := jittery.look(limits, at); changed && !strings.HasPrefix(words, "jitter 40 ms of at most 30") {
			t.Errorf("it is said: %s", words)
		}
		at = at.Add(100 * ms)
	}
	if !jittery.beyond {
		t.Error("40 ms between one trip and the next are within a limit of 30")
	}
}

func ternary[T any](is bool, yes, no T) T {
	if is {
		return yes
	}
	return no
}

// Limits put tunnels of one overlay to one site in another order, and nothing else.
func TestChoiceByLimits(t *testing.T) {
	one := func(names ...string) (out []gateway.Member) {
		for _, n := range names {
			out = append(out, gateway.Member{Interface: n, Weight: 1})
		}
		return out
	}
	tunnel := func(name, overlay, peer string) gateway.Tunnel {
		return gateway.Tunnel{Interface: name, Overlay: overlay, Peer: peer}
	}
	c := &gateway.Config{
		Tunnels: []gateway.Tunnel{tunnel("a1", "ops", "a"), tunnel("a2", "ops", "a"), tunnel("a3", "ops", "a"), tunnel("b1", "ops", "b"), tunnel("s1", "side", "a"), tunnel("s2", "side", "a")},
		Ways: []gateway.Way{
			{ID: 1, Groups: []gateway.Group{{Place: 1, Members: one("a1", "a2")}, {Place: 2, Members: one("a3")}, {Place: 3, Members: one("b1")}}},
			{ID: 2, Groups: []gateway.Group{{Place: 1, Members: one("s1")}, {Place: 2, Members: one("s2")}}},
		},
		Held: gateway.Held{Overlays: []gateway.HeldIn{{Overlay: "ops", Mark: gateway.LimitUnit}, {Overlay: "side", Mark: 2 * gateway.LimitUnit}}},
	}
	for _, test := range []struct{ dead, beyond, first, other string }{
		{"", "", "a1 a2", "s1"},
		{"", "a1", "a2", "s1"},
		{"", "a1 a2", "a3", "s1"},
		{"", "a1 a2 a3", "a1 a2", "s1"}, // none is within: as it was
		{"a1 a2", "a3", "a3", "s1"},     // and never by another site
		{"a1 a2 a3", "b1", "b1", "s1"},
		{"", "s1", "a1 a2", "s1"}, // the mark is not of that overlay
	} {
		alive := func(name string) bool { return !strings.Contains(test.dead, name) }
		within := func(name string) bool { return alive(name) && !strings.Contains(test.beyond, name) }
		choice := newChooser(c, map[int]int{1: gateway.LimitUnit, 2: gateway.LimitUnit}, alive, within).decide(nil)
		for i, want := range []string{test.first, test.other} {
			var got []string
			for _, m := range choice.Uses[i].Members {
				got = append(got, m.Interface)
			}
			if strings.Join(got, " ") != want {
				t.Errorf("dead %q, beyond %q: by %v, not %s", test.dead, test.beyond, got, want)
			}
		}
	}
}

// limitedPair brings two agents up that are joined by two tunnels with limits. by tells whether both
// send what is held to them by a tunnel, and all else by x.
func limitedPair(t *testing.T) (n *testNet, agents []*running, by func(want string) func() bool) {
	t.Helper()
	n = newTestNet()
	configA, configB := twoEnds(100)
	planeA, planeB := newTray(n), newTray(n)
	ends := []struct {
		c     *gateway.Config
		plane *tray
	}{{configA, planeA}, {configB, planeB}}
	for _, e := range ends {
		e.c.Held = gateway.Held{Overlays: []gateway.HeldIn{{Overlay: "ops", Mark: gateway.LimitUnit, Zones: []string{"voice"}, Prefixes: []netip.Prefix{netip.MustParsePrefix("10.9.0.0/24")}}}}
		for i := range e.c.Tunnels {
			e.c.Tunnels[i].Probe.Limits = gateway.Limits{Latency: 50_000, Loss: 20_000, Window: 2000}
		}
		n.own(e.plane, e.c)
		r := run(t, e.plane, t.TempDir(), keysIn(t))
		if err := r.Try(t.Context(), e.c, 17, "", 0); err != nil {
			t.Fatal(err)
		}
		agents = append(agents, r)
	}
	return n, agents, func(want string) func() bool {
		return func() bool {
			for _, e := range ends {
				spread, keeping := e.c.Spread()
				if len(spread.Ways) != 2 || keeping[spread.Ways[1].ID] == 0 {
					t.Fatalf("ways %+v", spread.Ways)
				}
				if e.plane.by(gateway.FirstWay) != "x" || e.plane.by(spread.Ways[1].ID) != want {
					return false
				}
			}
			return true
		}
	}
}

// A tunnel that is taken for slow or lossy is left by what is held to limits, at both ends and
// whichever of them was asked, as late as one that is; what is reported of it stays what it is.
func TestTakenForSlow(t *testing.T) { synctest.Test(t, takenForSlow) }

func takenForSlow(t *testing.T) {
	_, agents, by := limitedPair(t)
	eventually(t, "both send by x at first", by("x"))
	for _, as := range []gateway.HoldAs{gateway.HoldSlow, gateway.HoldLossy} {
		for asked, r := range agents {
			began := time.Now()
			if err := r.Hold(t.Context(), &gateway.Hold{Interfaces: []string{"x"}, As: as, Seconds: 600}); err != nil {
				t.Fatal(err)
			}
			eventually(t, "what is held to limits goes by y", by("y"))
			if took := time.Since(began); took > 2500*time.Millisecond {
				t.Errorf("%s, asked %d: it took %v", as, asked, took)
			}
			for i, end := range agents {
				s, err := end.State(t.Context())
				if err != nil {
					t.Fatal(err)
				}
				if x := s.Tunnels[0]; !x.Up || !x.Beyond || x.Held != (i == asked) || x.LatencyUs > 50_000 || x.LossOutPPM > 0 {
					t.Errorf("%s, asked %d: end %d says %+v", as, asked, i, x)
				}
				if len(s.Ways) != 1 || s.Ways[0].Group != 1 || len(s.HeldWays) != 1 || s.HeldWays[0].Group != 2 {
					t.Errorf("%s, asked %d: end %d goes by %+v, what is held by %+v", as, asked, i, s.Ways, s.HeldWays)
				}
			}
			began = time.Now()
			if err := r.Hold(t.Context(), &gateway.Hold{Interfaces: []string{"x"}, As: as}); err != nil {
				t.Fatal(err)
			}
			eventually(t, "what is held is back at x", by("x"))
			if took := time.Since(began); took < 2*time.Second || took > 5*time.Second {
				t.Errorf("%s, asked %d: it took %v to come back", as, asked, took)
			}
			if s, err := r.State(t.Context()); err != nil || s.Tunnels[0].Held || s.Tunnels[0].Beyond {
				t.Errorf("%s, asked %d: let go, it says %+v, %v", as, asked, s.Tunnels[0], err)
			}
		}
	}
	for _, bad := range []gateway.Hold{{Interfaces: []string{"x"}, As: "late", Seconds: 5}, {Interfaces: []string{"z"}, As: gateway.HoldSlow, Seconds: 5}} {
		if err := agents[0].Hold(t.Context(), &bad); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}

// What is held to limits leaves a slow tunnel at both ends, and nothing else does; it
// comes back after the tunnel kept to them for a while.
func TestSlowTunnelIsLeftByWhatIsHeld(t *testing.T) { synctest.Test(t, slowTunnel) }

func slowTunnel(t *testing.T) {
	n, agents, by := limitedPair(t)
	eventually(t, "both send by x at first", by("x"))
	n.mu.Lock()
	n.slow = func(from netip.Addr) time.Duration {
		return ternary(from == xOfA, 60*time.Millisecond, time.Millisecond)
	}
	n.mu.Unlock()
	began := time.Now()
	eventually(t, "what is held goes by y", by("y"))
	if took := time.Since(began); took > 2500*time.Millisecond {
		t.Errorf("it took %v", took)
	}
	for i, r := range agents {
		s, err := r.State(t.Context())
		if err != nil || !s.Tunnels[0].Beyond || s.Tunnels[1].Beyond || !s.Tunnels[0].Up {
			t.Errorf("end %d: %+v, %v", i, s, err)
		}
		if kinds := r.kinds(t); !slices.Contains(kinds, BeyondLimits) {
			t.Errorf("end %d: the journal has %v", i, kinds)
		}
		lines, err := r.Why(t.Context(), netip.MustParsePrefix(ternary(i == 0, "10.9.0.7/32", "10.8.0.7/32")))
		if text := strings.Join(lines, "\n"); err != nil || !strings.Contains(text, "asked by all that is held to the limits of ops, goes by y") || !strings.Contains(text, "1. x: alive") || !strings.Contains(text, "beyond its limits") {
			t.Errorf("end %d: why: %s, %v", i, text, err)
		}
	}
	n.mu.Lock()
	n.slow = nil
	n.mu.Unlock()
	began = time.Now()
	eventually(t, "what is held is back at x", by("x"))
	if took := time.Since(began); took < 2*time.Second || took > 5*time.Second {
		t.Errorf("it took %v to come back", took)
	}
}
