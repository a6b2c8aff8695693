package fleet

import (
	"fmt"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/examples"
)

// What a bench says a tunnel bears is what its circuits let through, each way by itself; the
// tunnel lives on.
func TestABenchFindsWhatATunnelBears(t *testing.T) {
	if testing.Short() {
		t.Skip("it is about time: it is run by itself, with the whole of the stand-ins")
	}
	e, err := examples.Estate("two-hubs")
	if err != nil {
		t.Fatal(err)
	}
	e.Overlays[0].Probe = &estate.Probe{Target: estate.FarEnd, IntervalMs: 1000, TimeoutMs: 800, Misses: 4, Successes: 2}
	for i := range e.Sites {
		e.Sites[i].Links[0].UpMbps, e.Sites[i].Links[0].DownMbps = 8, 8
	}
	s := stand(t, e)
	alive := func(site, name string) bool {
		state, err := s.Site(site).Agent.State(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for i := range state.Tunnels {
			if tu := &state.Tunnels[i]; tu.Interface == name {
				return tu.Up && tu.Answered > 2
			}
		}
		return false
	}
	for until := time.Now().Add(20 * time.Second); !alive("tarn", "first-1") || !alive("first", "tarn-2"); time.Sleep(100 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatal("the tunnel does not come up")
		}
	}
	for _, c := range []struct {
		site, name string
		up         float64 // of the tarn's circuit, as it is
		limit      bool
		low, high  int // kbit/s inside; outside a packet is 60 bytes longer
	}{
		{"tarn", "first-1", 8, false, 6500, 7680},
		{"tarn", "first-1", 2.4, true, 2000, 2400},
		{"first", "tarn-2", 2.4, false, 6500, 7680}, // down it is as it was, and answers are small
	} {
		if err := s.Do(Change{Do: "like", Site: "tarn", Link: "fibre", UpMbps: &c.up}); err != nil {
			t.Fatal(err)
		}
		var got *gateway.Benched
		for try := 1; ; try++ { // a machine that is short of time loses what the circuit would carry
			var err error
			if got, err = s.Site(c.site).Agent.Bench(t.Context(), &gateway.Bench{Interface: c.name, Kbps: 7400}); err != nil {
				t.Fatal(err)
			}
			kbps, limit := got.Bears()
			if limit == c.limit && kbps >= c.low && kbps <= c.high && alive(c.site, c.name) {
				break
			}
			text := fmt.Sprintf("%s %s at %v Mbit/s up: bears %d kbit/s, limit %v, alive %v: %+v", c.site, c.name, c.up, kbps, limit, alive(c.site, c.name), got)
			if t.Log(text); try == 4 {
				t.Error(text)
				break
			}
		}
		if steps := len(got.Steps); !c.limit && steps != 4 {
			t.Errorf("%d steps", steps)
		}
		t.Logf("%+v", got)
	}
	for _, bad := range []gateway.Bench{{Interface: "nowhere-1", Kbps: 1000}, {Interface: "first-1"}, {Interface: "first-1", Kbps: gateway.MostBench + 1}} {
		if _, err := s.Site("tarn").Agent.Bench(t.Context(), &bad); err == nil {
			t.Errorf("%+v is done", bad)
		}
	}
}
