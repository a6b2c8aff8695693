package outage

import (
	"testing"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

func sampled(t testing.TB, o sample.Options) *Model {
	t.Helper()
	e, err := sample.Estate(o)
	if err != nil {
		t.Fatal(err)
	}
	return New(route.Build(tunnel.Derive(e)))
}

// BenchmarkSingles evaluates all single failures of 1,000 spokes with 3 links
// each and 2 hubs with 3: wanted under 1 s.
func BenchmarkSingles(b *testing.B) {
	for name, change := range map[string]func(e *estate.Estate){
		"plain": func(*estate.Estate) {}, "hubs-tell": telling, "limits": func(e *estate.Estate) {
			telling(e)
			e.Overlays[0].HubsTell = false
			e.Overlays[0].Probe = &estate.Probe{Limits: &estate.Limits{LatencyMs: 150, LossPercent: 1, Zones: e.Zones()[:1]}}
		},
	} {
		b.Run(name, func(b *testing.B) {
			e := sampled(b, sample.Options{Sites: 1000, Links: 3, Seed: 1}).Plan.Estate
			change(e)
			m := New(route.Build(tunnel.Derive(e)))
			parts := m.Parts()
			b.ResetTimer()
			for b.Loop() {
				m.Singles(parts)
			}
		})
	}
}

// telling lets the hubs of an estate tell which sites they reach.
func telling(e *estate.Estate) {
	for i := range e.Overlays {
		e.Overlays[i].HubsTell = true
	}
	for i := range e.Sites {
		e.Sites[i].Gateway.Switches = true
	}
}

// BenchmarkPairs evaluates all pairs of link failures of 100 sites with 3 links
// each: wanted under 5 s.
func BenchmarkPairs(b *testing.B) {
	m := sampled(b, sample.Options{Sites: 100, Links: 3, Seed: 1})
	var links []Part
	for _, p := range m.Parts() {
		if p.Kind == Link {
			links = append(links, p)
		}
	}
	b.ResetTimer()
	for b.Loop() {
		m.Pairs(links)
	}
}

// BenchmarkOneLink shows that a failure costs what it touches: one spoke's link
// in estates of growing size, by the number of its pairs.
func BenchmarkOneLink(b *testing.B) {
	for _, shape := range []estate.Shape{estate.HubAndSpoke, estate.FullMesh} {
		for _, sites := range []int{50, 200, 400} {
			b.Run(string(shape)+"/"+string(rune('0'+sites/100)), func(b *testing.B) {
				m := sampled(b, sample.Options{Sites: sites, Links: 1, Shape: shape, Seed: 1})
				f, err := m.failing([]Part{{Kind: Link, Name: "site-00007/fibre"}})
				if err != nil {
					b.Fatal(err)
				}
				bench := m.bench()
				for b.Loop() {
					bench.run(&f)
				}
			})
		}
	}
}

func BenchmarkNew(b *testing.B) {
	e, err := sample.Estate(sample.Options{Sites: 1000, Links: 3, Seed: 1})
	if err != nil {
		b.Fatal(err)
	}
	r := route.Build(tunnel.Derive(e))
	for b.Loop() {
		New(r)
	}
}
