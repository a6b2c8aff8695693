package linux_test

import (
	"fmt"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/render/linux"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

func sampleOf(b *testing.B, o sample.Options) *estate.Estate {
	b.Helper()
	e, err := sample.Estate(o)
	if err != nil {
		b.Fatal(err)
	}
	return e
}

// BenchmarkSheetsToConfigurations is the whole way: three sheets of 300 sites
// with two links are read, derived for two hubs, and all configurations
// rendered.
func BenchmarkSheetsToConfigurations(b *testing.B) {
	whole := sampleOf(b, sample.Options{Sites: 300, Links: 2, Hubs: 2})
	sheets := estate.WriteSheets(whole)
	empty := &estate.Estate{Format: estate.Format, About: whole.About, Overlays: whole.Overlays}
	bytes, files := 0, 0
	b.ReportAllocs()
	for b.Loop() {
		reading := estate.ReadSheets(empty, sheets, nil)
		if reading.BadRows() > 0 {
			b.Fatal(reading.Remarks[0])
		}
		m := route.Build(tunnel.Derive(reading.Estate))
		bytes, files = 0, 0
		for i := range reading.Estate.Sites {
			for _, f := range bundle(b, m, i, linux.NoKeys) {
				bytes += len(f.Text)
				files++
			}
		}
	}
	b.ReportMetric(float64(files), "files")
	b.ReportMetric(float64(bytes)/1e6, "MB-rendered")
}

// BenchmarkRender writes every site's bundle of estates of growing size.
func BenchmarkRender(b *testing.B) {
	for _, n := range []int{250, 500, 1000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			m := route.Build(tunnel.Derive(sampleOf(b, sample.Options{Sites: n, Hubs: 3, Links: 3, Subnets: 3})))
			total := 0
			for b.Loop() {
				total = 0
				for i := range m.Plan.Estate.Sites {
					for _, f := range bundle(b, m, i, linux.NoKeys) {
						total += len(f.Text)
					}
				}
			}
			b.SetBytes(int64(total))
			b.ReportMetric(float64(total)/1e6, "MB")
		})
	}
}
