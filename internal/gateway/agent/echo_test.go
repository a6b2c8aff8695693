package agent

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/line"
)

// Echoes are asked for whole and then small, and say who passes them on; one call at a time.
func TestEchoes(t *testing.T) {
	plane := newTray(newTestNet())
	plane.takes = 1300
	a := run(t, plane, t.TempDir(), t.TempDir())
	at := netip.MustParseAddr
	ask := func(to string, size int) gateway.Echo {
		return gateway.Echo{From: at("10.9.0.1"), To: at(to), Size: size, Hops: true}
	}
	type ended struct {
		answers []gateway.Echoed
		err     error
	}
	done := make(chan ended)
	go func() {
		answers, err := a.Echo(context.Background(), []gateway.Echo{ask("10.1.0.9", 1300), ask("10.2.0.9", 1400), ask("10.3.0.8", 0), {From: at("10.9.0.1"), To: at("10.4.0.9")}})
		done <- ended{answers, err}
	}()
	eventually(t, "it has begun", func() bool { return plane.asked.Load() > 0 })
	if _, err := a.Echo(context.Background(), []gateway.Echo{ask("10.1.0.9", 0)}); !errors.Is(err, line.ErrAsking) {
		t.Errorf("a second call beside the first: %v", err)
	}
	got := <-done
	if got.err != nil {
		t.Fatal(got.err)
	}
	through := []netip.Addr{at("10.0.0.1"), at("0.0.0.0")}
	for i, want := range []gateway.Echoed{{Answered: 1300, Hops: through}, {Answered: gateway.SmallEcho, Hops: through}, {Hops: through[:1], Words: "unreachable, by 10.0.0.1"}, {Answered: gateway.SmallEcho}} {
		if is := got.answers[i]; is.Answered != want.Answered || !slices.Equal(is.Hops, want.Hops) || is.Words != want.Words {
			t.Errorf("echo %d: %+v, not %+v", i, is, want)
		}
	}
	for name, list := range map[string][]gateway.Echo{
		"two families": {{From: at("10.9.0.1"), To: at("2001:db8::1")}},
		"no address":   {{From: at("10.9.0.1")}},
		"too large":    {{From: at("10.9.0.1"), To: at("10.1.0.9"), Size: 1 << 20}},
		"too many":     make([]gateway.Echo, gateway.MaxEchoes+1),
	} {
		if _, err := a.Echo(context.Background(), list); err == nil {
			t.Errorf("%s is asked for", name)
		}
	}
}

// Before a gateway asks, tunnels without a session get one, by the one of two ends: where both
// begin by asking, their calls cross and are lost.
func TestTunnelsAreWokenBeforeEchoes(t *testing.T) { synctest.Test(t, tunnelsAreWokenBeforeEchoes) }

func tunnelsAreWokenBeforeEchoes(t *testing.T) {
	_, a, b, planeA, planeB := pair(t, 20)
	first, second := a, planeB // by the names of their sites
	firstPlane := planeA
	if planeB.applied.Site < planeA.applied.Site {
		first, second, firstPlane = b, planeA, planeB
	}
	tunnels := len(planeA.applied.Tunnels)
	asks := func(r *running, p *tray, came time.Time) (knocks int, took time.Duration) {
		t.Helper()
		p.mu.Lock()
		p.knocked, p.came = nil, came
		p.mu.Unlock()
		began := time.Now()
		if _, err := r.Echo(t.Context(), []gateway.Echo{{From: netip.MustParseAddr("10.9.0.1"), To: netip.MustParseAddr("10.1.0.9")}}); err != nil {
			t.Fatal(err)
		}
		took = time.Since(began)
		p.mu.Lock()
		defer p.mu.Unlock()
		return len(p.knocked), took
	}
	other := b
	if first == b {
		other = a
	}
	if n, took := asks(first, firstPlane, time.Time{}); n != tunnels || took < wakeWithin {
		t.Errorf("the first knocks %d times and asks after %v, although none of %d tunnels has a session", n, took, tunnels)
	}
	if n, took := asks(first, firstPlane, time.Now().Add(-time.Minute)); n != 0 || took > time.Second {
		t.Errorf("with sessions it knocks %d times and asks after %v", n, took)
	}
	if n, _ := asks(first, firstPlane, time.Now().Add(-sessionLasts)); n != tunnels {
		t.Errorf("with sessions that have ended it knocks %d times", n)
	}
	go func() {
		time.Sleep(knockLate / 2)
		second.mu.Lock()
		second.came = time.Now()
		second.mu.Unlock()
	}()
	if n, took := asks(other, second, time.Time{}); n != 0 || took > knockLate {
		t.Errorf("the second, to whom the first has come, knocks %d times and asks after %v", n, took)
	}
}
