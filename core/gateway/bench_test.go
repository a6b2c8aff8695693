package gateway

import (
	"testing"

	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// large is an estate of 1,000 spokes with three links and three hubs.
func large(b *testing.B) *route.Map {
	b.Helper()
	e, err := sample.Estate(sample.Options{Sites: 1000, Hubs: 3, Links: 3, Subnets: 3})
	if err != nil {
		b.Fatal(err)
	}
	return route.Build(tunnel.Derive(e))
}

func BenchmarkOf(b *testing.B) {
	m := large(b)
	hub, spoke := m.Plan.SiteIndex(m.Plan.Estate.Overlays[0].Hubs[0]), m.Plan.SiteIndex(m.Plan.Estate.Overlays[0].Spokes[500].Site)
	for name, site := range map[string]int{"hub": hub, "spoke": spoke} {
		b.Run(name, func(b *testing.B) {
			b.ReportAllocs()
			var c *Config
			for b.Loop() {
				c = Of(m, site)
			}
			b.ReportMetric(float64(len(c.Tunnels)), "tunnels")
			b.ReportMetric(float64(len(c.Routes)), "routes")
			b.ReportMetric(float64(len(c.Ways)), "ways")
			b.ReportMetric(float64(len(c.Discards)), "discards")
		})
		b.Run(name+"/digest", func(b *testing.B) {
			c := Of(m, site)
			for b.Loop() {
				c.Digest()
			}
		})
	}
}

// BenchmarkDifference compares a hub's configuration with that of a design in which a
// tenth of the spokes have another order of links.
func BenchmarkDifference(b *testing.B) {
	m := large(b)
	e := m.Plan.Estate.Clone()
	e.Allocations = m.Plan.Allocations()
	for i := range e.Sites {
		if links := e.Sites[i].Links; i%10 == 5 && len(links) > 1 {
			links[0].Rank, links[1].Rank = links[1].RankOf(), links[0].RankOf()
		}
	}
	hub := m.Plan.SiteIndex(e.Overlays[0].Hubs[0])
	was, is := Of(m, hub), Of(mapOf(e), hub)
	n := 0
	b.ReportAllocs()
	for b.Loop() {
		n = len(Difference(was, is))
	}
	b.ReportMetric(float64(n), "operations")
}
