package tunnel_test

import (
	"fmt"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

func sampled(b *testing.B, o sample.Options) *estate.Estate {
	b.Helper()
	e, err := sample.Estate(o)
	if err != nil {
		b.Fatal(err)
	}
	return e
}

// BenchmarkHubAndSpoke derives spokes × 3 links with two hubs × 3 links.
func BenchmarkHubAndSpoke(b *testing.B) {
	for _, n := range []int{250, 500, 1000, 2000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			e := sampled(b, sample.Options{Sites: n, Links: 3, Subnets: 3})
			var p *tunnel.Plan
			b.ReportAllocs()
			for b.Loop() {
				p = tunnel.Derive(e)
			}
			b.ReportMetric(float64(p.Tunnels()), "tunnels")
		})
	}
}

// BenchmarkFullMesh derives every pair of sites with one link each.
func BenchmarkFullMesh(b *testing.B) {
	for _, n := range []int{250, 500, 1000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			e := sampled(b, sample.Options{Sites: n, Links: 1, Shape: estate.FullMesh})
			var p *tunnel.Plan
			b.ReportAllocs()
			for b.Loop() {
				p = tunnel.Derive(e)
			}
			b.ReportMetric(float64(p.Tunnels()), "tunnels")
		})
	}
}

// BenchmarkDeriveAgain derives with everything already allocated, as each edit
// does.
func BenchmarkDeriveAgain(b *testing.B) {
	e := sampled(b, sample.Options{Sites: 1000, Links: 3, Subnets: 3})
	e.Allocations = tunnel.Derive(e).Allocations()
	b.ReportAllocs()
	for b.Loop() {
		tunnel.Derive(e)
	}
}
