package rollout

import (
	"testing"

	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// BenchmarkMake plans a rollout at 1,000 sites with 3 links each of which one hub's order
// changed for all, once both designs' configurations are made.
func BenchmarkMake(b *testing.B) {
	first, err := sample.Estate(sample.Options{Sites: 1000, Links: 3, Hubs: 3, Seed: 1})
	if err != nil {
		b.Fatal(err)
	}
	first.Allocations = tunnel.Derive(first).Allocations()
	second := first.Clone()
	o := &second.Overlays[0]
	o.Hubs[0], o.Hubs[1] = o.Hubs[1], o.Hubs[0]
	old, _ := configs(first)
	new, _ := configs(second)
	var gateways []Gateway
	for i := range old {
		gateways = append(gateways, Gateway{Key: first.Sites[i].Key, Region: first.Sites[i].Region, Old: old[i], New: new[i]})
	}
	b.ResetTimer()
	for b.Loop() {
		p, err := Make(gateways, nil)
		if err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(float64(p.Followed), "pairs")
		b.ReportMetric(float64(len(p.Rounds)), "rounds")
	}
}
