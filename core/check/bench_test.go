package check

import (
	"testing"

	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// BenchmarkFindings finds everything but what needs loads, as each edit does, at
// 1,000 spokes × 3 links.
func BenchmarkFindings(b *testing.B) {
	e, err := sample.Estate(sample.Options{Sites: 1000, Links: 3, Subnets: 3})
	if err != nil {
		b.Fatal(err)
	}
	e.Allocations = tunnel.Derive(e).Allocations()
	p := tunnel.Derive(e)
	m := route.Build(p)
	for b.Loop() {
		Prompt(p, m)
	}
}
