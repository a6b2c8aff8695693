package route_test

import (
	"testing"

	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

func thousand(b *testing.B) *tunnel.Plan {
	b.Helper()
	e, err := sample.Estate(sample.Options{Sites: 1000, Links: 3, Subnets: 3})
	if err != nil {
		b.Fatal(err)
	}
	return tunnel.Derive(e)
}

// BenchmarkTable makes the route table of one of 1,000 spokes, and of a hub.
func BenchmarkTable(b *testing.B) {
	m := route.Build(thousand(b))
	for name, site := range map[string]int{"spoke": 500, "hub": 0} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				m.Table(site)
			}
		})
	}
}

// BenchmarkAllTables makes the route tables of all sites of the same estate.
func BenchmarkAllTables(b *testing.B) {
	p := thousand(b)
	b.ReportAllocs()
	for b.Loop() {
		m := route.Build(p)
		for i := range p.Estate.Sites {
			m.Table(i)
		}
	}
}

// BenchmarkFollow follows a packet between two of 1,000 spokes and back.
func BenchmarkFollow(b *testing.B) {
	p := thousand(b)
	m := route.Build(p)
	packet := route.Packet{From: p.Site(300).Subnets[0].Prefix.Addr().Next(), To: p.Site(900).Subnets[1].Prefix.Addr().Next()}
	for b.Loop() {
		if t := m.Follow(packet); !t.Arrives() || !t.Symmetric {
			b.Fatal(t)
		}
	}
}
