package check

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"slices"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

func sampled(t testing.TB, o sample.Options) *estate.Estate {
	t.Helper()
	e, err := sample.Estate(o)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// After random edits of subnets the quick way must find what the whole way
// finds.
func TestRerunAgreesWithRun(t *testing.T) {
	r := rand.New(rand.NewPCG(51, 52))
	e := sampled(t, sample.Options{Sites: 60, Subnets: 2, Trouble: true})
	p := tunnel.Derive(e)
	m := route.Build(p)
	found := Prompt(p, m)
	for range 60 {
		e = e.Clone()
		site := r.IntN(len(e.Sites))
		subnets := slices.Clone(e.Sites[site].Subnets)
		n := &subnets[r.IntN(len(subnets))]
		switch r.IntN(4) {
		case 0:
			n.Prefix = e.Sites[r.IntN(len(e.Sites))].Subnets[0].Prefix
		case 1:
			n.Share = nil
		case 2:
			n.Share = []string{"ops"}
		case 3:
			n.Prefix = netip.MustParsePrefix(fmt.Sprintf("10.%d.0.0/%d", r.IntN(250), 16+r.IntN(12)))
		}
		e.Sites[site].Subnets = slices.CompactFunc(subnets, func(a, b estate.Subnet) bool { return a.Prefix == b.Prefix })
		quick, ok := p.Reshare(e, site)
		if !ok {
			t.Fatal("an edit of subnets alone is not taken")
		}
		p, m = quick, m.Reshare(quick, site)
		found = Rerun(found, p, m)
		whole := tunnel.Derive(e)
		routes := route.Build(whole)
		if want := Prompt(whole, routes); !reflect.DeepEqual(found, want) {
			t.Fatalf("%d findings, want %d", len(found), len(want))
		}
		if a, b := m.Table(3), routes.Table(3); len(a) != len(b) || a[7].Prefix != b[7].Prefix || a[7].To != b[7].To {
			t.Fatal("other routes")
		}
		if !reflect.DeepEqual(p.Peers(3)[0].Allowed, whole.Peers(3)[0].Allowed) {
			t.Fatal("other allowed prefixes")
		}
	}
	other := e.Clone()
	other.Sites[0].Links = other.Sites[0].Links[:1]
	if _, ok := p.Reshare(other, 0); ok {
		t.Error("an edit of links is taken for one of subnets")
	}
}

// BenchmarkFindings compares finding everything anew after an edit with asking
// only what the edit of one subnet can change, at 1,000 spokes × 3 links.
func BenchmarkFindings(b *testing.B) {
	e := sampled(b, sample.Options{Sites: 1000, Links: 3, Subnets: 3})
	e.Allocations = tunnel.Derive(e).Allocations()
	b.Run("whole", func(b *testing.B) {
		for b.Loop() {
			p := tunnel.Derive(e)
			Run(p, route.Build(p))
		}
	})
	b.Run("one-subnet", func(b *testing.B) {
		p := tunnel.Derive(e)
		m := route.Build(p)
		found := Prompt(p, m)
		edited := e.Clone()
		edited.Sites[500].Subnets[0].Prefix = edited.Sites[501].Subnets[0].Prefix
		for b.Loop() {
			quick, ok := p.Reshare(edited, 500)
			if !ok {
				b.Fatal("not taken")
			}
			Rerun(found, quick, m.Reshare(quick, 500))
		}
	})
}
