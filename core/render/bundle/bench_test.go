package bundle

import (
	"fmt"
	"runtime"
	"testing"

	"wideknot/core/render"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// BenchmarkArchive writes every site's bundle of estates of growing size, and says
// how much memory it needs at most beside the design.
func BenchmarkArchive(b *testing.B) {
	for _, n := range []int{250, 500, 1000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			e, err := sample.Estate(sample.Options{Sites: n, Hubs: 3, Links: 3, Subnets: 3})
			if err != nil {
				b.Fatal(err)
			}
			m := route.Build(tunnel.Derive(e))
			runtime.GC()
			var before, now runtime.MemStats
			runtime.ReadMemStats(&before)
			total, sites, most := 0, 0, uint64(0)
			for b.Loop() {
				total, sites = 0, 0
				a := Archive{Estate: "sample"}
				if err := a.Each(m, func(files []render.File) error {
					for _, f := range files {
						total += len(f.Text)
					}
					if sites++; sites%50 == 0 {
						runtime.ReadMemStats(&now)
						most = max(most, now.HeapInuse-min(now.HeapInuse, before.HeapInuse))
					}
					return nil
				}); err != nil {
					b.Fatal(err)
				}
			}
			b.SetBytes(int64(total))
			b.ReportMetric(float64(total)/1e6, "MB")
			b.ReportMetric(float64(most)/1e6, "MB-more-memory")
		})
	}
}
