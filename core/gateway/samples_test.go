package gateway

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"strings"
	"testing"
)

func TestMerge(t *testing.T) {
	of := func(at string, w WayState, tunnels ...TunnelSample) Sample {
		return Sample{At: Time("2026-12-01T10:00:" + at + "Z"), Seconds: 10, Digest: "new", Tunnels: tunnels, Links: []LinkSample{{Link: "fibre", BytesIn: 100, Down: 1}}, Ways: []WayState{w}}
	}
	old := of("00", WayState{7, 3}, TunnelSample{Interface: "gone-9", Probes: 9})
	old.Digest = "old"
	got := Merge([]Sample{
		old,
		of("10", WayState{7, 2}, TunnelSample{Interface: "a-1", Probes: 10, Missed: 5, LostOut: 5, LatencyUs: 1000, MaxLatencyUs: 1500, JitterUs: 100, BytesIn: 5, Dead: 4}),
		of("20", WayState{7, 2}, TunnelSample{Interface: "a-1", Probes: 10, Missed: 10, Dead: 10}),
		of("30", WayState{7, 1}, TunnelSample{Interface: "a-1", Probes: 20, Missed: 0, LostBack: 1, LatencyUs: 3000, MaxLatencyUs: 9000, JitterUs: 300, BytesIn: 7, BytesOut: 1}, TunnelSample{Interface: "new-2"}),
	})
	want := Sample{
		At: "2026-12-01T10:00:00Z", Seconds: 40, Digest: "new",
		Tunnels: []TunnelSample{
			{Interface: "a-1", Probes: 40, Missed: 15, LostOut: 5, LostBack: 1, LatencyUs: (5*1000 + 20*3000) / 25, MaxLatencyUs: 9000, JitterUs: (5*100 + 20*300) / 25, BytesIn: 12, BytesOut: 1, Dead: 14},
			{Interface: "new-2"},
		},
		Links: []LinkSample{{Link: "fibre", BytesIn: 400, Down: 4}},
		Ways:  []WayState{{7, 2}}, // longest of what the last one ran
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%+v\nnot\n%+v", got, want)
	}
}

// Merging in two steps says what merging in one says, but for what rounding takes from means.
func TestMergingInSteps(t *testing.T) {
	for seed := range uint64(50) {
		random := rand.New(rand.NewPCG(seed, 1))
		list := make([]Sample, 30)
		for i := range list {
			list[i] = Sample{At: "2026-12-01T10:00:00Z", Seconds: 10, Digest: "d", Ways: []WayState{{1, 1}}}
			for k := range 3 {
				n := random.IntN(20)
				list[i].Tunnels = append(list[i].Tunnels, TunnelSample{
					Interface: fmt.Sprint("x-", k), Probes: n, Missed: random.IntN(n + 1), LostOut: random.IntN(3), LatencyUs: random.IntN(90_000), MaxLatencyUs: random.IntN(200_000),
					JitterUs: random.IntN(9000), BytesIn: Counter(random.IntN(1 << 30)), BytesOut: Counter(random.IntN(1 << 30)), Dead: random.IntN(11),
				})
			}
		}
		var steps []Sample
		for i := 0; i < len(list); i += 6 {
			steps = append(steps, Merge(list[i:i+6]))
		}
		one, two := Merge(list), Merge(steps)
		for i := range one.Tunnels {
			a, b := &one.Tunnels[i], &two.Tunnels[i]
			if off := max(a.LatencyUs-b.LatencyUs, b.LatencyUs-a.LatencyUs, a.JitterUs-b.JitterUs, b.JitterUs-a.JitterUs); off > 1 {
				t.Errorf("seed %d: means differ by %d µs", seed, off)
			}
			b.LatencyUs, b.JitterUs = a.LatencyUs, a.JitterUs
		}
		if !reflect.DeepEqual(one, two) {
			t.Errorf("seed %d: %+v\nnot\n%+v", seed, two, one)
		}
	}
}

// What gateways measured is read, or refused; it never makes anything that does not fit.
func FuzzSamples(f *testing.F) {
	const good = `{"wideknot-gateway:output":{"epoch":"e1","now":"2026-12-01T10:00:00Z","sample":[{"sequence":"7","at":"2026-12-01T09:59:50Z","seconds":10,"digest":"abc",` +
		`"tunnel":[{"interface":"x-1","probes":20,"missed":1,"latency":1500,"bytes-in":"77","dead":2}],"link":[{"link":"fibre","bytes-in":"77"}],"way":[{"id":7,"group":1}]}]}}`
	if _, err := ParseSamples([]byte(good)); err != nil {
		f.Fatal(err)
	}
	for _, bad := range [][2]string{{`"seconds":10`, `"seconds":11`}, {`"missed":1`, `"missed":21`}, {`"dead":2`, `"dead":11`}, {`T09:59:50Z`, `T09:59`}, {`T10:00:00Z`, `x`}, {`"e1"`, `""`}, {`x-1`, `x/1`}, {`"latency":1500`, `"latency":-1`}, {`"7"`, `7`}, {`wideknot-gateway:output`, `output`}} {
		if _, err := ParseSamples([]byte(strings.Replace(good, bad[0], bad[1], 1))); err == nil {
			f.Errorf("%s is taken", bad[1])
		}
	}
	f.Add([]byte(good))
	f.Add([]byte(`{"wideknot-gateway:output":{}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		s, err := ParseSamples(text)
		if err != nil {
			return
		}
		for i := range s.List {
			one := &s.List[i]
			if i > 0 && one.Sequence <= s.List[i-1].Sequence || one.Seconds < 10 || one.Seconds > 900 {
				t.Errorf("%+v", one)
			}
			for k := range one.Tunnels {
				if u := &one.Tunnels[k]; u.Missed > u.Probes || u.Probes < 0 || u.LatencyUs < 0 || u.Dead > one.Seconds || len(u.Interface) > 15 {
					t.Errorf("%+v", u)
				}
			}
		}
	})
}

func TestWayTo(t *testing.T) {
	p := netip.MustParsePrefix
	c := &Config{Ways: []Way{{ID: 1}, {ID: 2}, {ID: 3}}, Routes: []Route{
		{Prefix: p("10.0.0.0/8"), Way: 1}, {Prefix: p("10.2.0.0/16"), Way: 2}, {Table: 100, Prefix: p("10.2.3.0/24"), Way: 3}, {Prefix: p("10.9.0.0/16"), Via: netip.MustParseAddr("10.9.0.1"), Device: "lan"}, {Prefix: p("fd00::/8"), Way: 3},
	}}
	for to, want := range map[string]int{"10.1.0.1": 1, "10.2.3.4": 2, "10.9.0.7": 1, "192.0.2.1": 0, "fd00::1": 3} {
		got := 0
		if way := c.WayTo(netip.MustParseAddr(to)); way != nil {
			got = way.ID
		}
		if got != want {
			t.Errorf("%s goes by %d, not %d", to, got, want)
		}
	}
}

// What a gateway measured is bounded by what it can have.
func TestSamplesAreBounded(t *testing.T) {
	for what, c := range map[string]struct {
		most int
		of   func(n int) Sample
	}{
		"ways":  {maxWays, func(n int) Sample { return Sample{Ways: make([]WayState, n)} }},
		"links": {maxLinks, func(n int) Sample { return Sample{Links: make([]LinkSample, n)} }},
	} {
		for n, ok := range map[int]bool{c.most: true, c.most + 1: false} {
			one := c.of(n)
			for i := range one.Ways {
				one.Ways[i].ID = i + 1
			}
			for i := range one.Links {
				one.Links[i].Link = fmt.Sprint("l", i)
			}
			one.At, one.Seconds = "2026-12-01T10:00:00Z", Tiers[0]
			err := (&Samples{Epoch: "e", Now: one.At, List: []Sample{one}}).check()
			if many := err != nil && strings.Contains(err.Error(), what); many == ok {
				t.Errorf("%d %s: %v", n, what, err)
			}
		}
	}
}
