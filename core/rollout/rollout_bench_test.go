package rollout

import (
	"testing"

	"wideknot/core/estate"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// BenchmarkMake plans a rollout at 1,000 sites with 3 links each, once both designs' configurations
// are made: of which one hub's order changed for all, and in which all get a further hub, so that
// what is accepted is widened first.
func BenchmarkMake(b *testing.B) {
	for _, c := range []struct {
		name   string
		change func(old, new *estate.Overlay)
	}{
		{"order", func(_, new *estate.Overlay) { new.Hubs[0], new.Hubs[1] = new.Hubs[1], new.Hubs[0] }},
		{"hub", func(old, _ *estate.Overlay) { old.Hubs = old.Hubs[:len(old.Hubs)-1] }},
	} {
		b.Run(c.name, func(b *testing.B) {
			first, err := sample.Estate(sample.Options{Sites: 1000, Links: 3, Hubs: 3, Seed: 1})
			if err != nil {
				b.Fatal(err)
			}
			first.Allocations = tunnel.Derive(first).Allocations()
			second := first.Clone()
			c.change(&first.Overlays[0], &second.Overlays[0])
			old, _ := configs(first)
			new, _ := configs(second)
			var gateways []Gateway
			for i := range old {
				gateways = append(gateways, Gateway{Key: first.Sites[i].Key, Region: first.Sites[i].Region, Old: old[i], New: new[i]})
			}
			b.ResetTimer()
			for b.Loop() {
				for i := range gateways {
					gateways[i].compared = false
				}
				p, err := Make(gateways, nil)
				if err != nil {
					b.Fatal(err)
				}
				b.ReportMetric(float64(p.Followed), "pairs")
				b.ReportMetric(float64(len(p.Rounds)), "rounds")
			}
		})
	}
}
