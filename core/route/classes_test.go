package route

import (
	"math/rand/v2"
	"net/netip"
	"reflect"
	"slices"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// What is kept by classes of sites, and by site, and what prefixes meet no other is the same as
// without any of it: each destination measured by itself, and each prefix compared with the own ones.
func TestRoutesByClassesAreThoseOfEachSite(t *testing.T) {
	shared := 0
	compare := func(name any, e *estate.Estate) {
		plan := tunnel.Derive(e)
		m, plain := Build(plan), Build(plan)
		for _, g := range plain.graphs {
			g.reaches, g.classes = nil, 0
			for i := range g.class {
				g.class[i] = -1
			}
		}
		for i := range plain.shared {
			plain.shared[i].list = slices.Clone(plain.shared[i].list)
			for j := range plain.shared[i].list {
				plain.shared[i].list[j].meets = true
			}
		}
		for _, g := range m.graphs {
			shared += len(g.overlay.Members) - len(g.hubs) - g.classes
		}
		for site := range e.Sites {
			main, extras := m.Tables(site)
			wantMain, wantExtras := plain.Tables(site)
			alike(main, wantMain)
			for i := range extras {
				alike(extras[i].Routes, wantExtras[i].Routes)
			}
			if !reflect.DeepEqual(main, wantMain) || !reflect.DeepEqual(extras, wantExtras) {
				t.Fatalf("%v: %s goes by\n%+v, and should by\n%+v", name, e.Sites[site].Key, main, wantMain)
			}
		}
	}
	for seed := range uint64(300) {
		e := sample.Mixed(seed)
		compare(seed, e)
		collide(e, rand.New(rand.NewPCG(seed, 1)))
		compare(seed, e)
	}
	for seed := range uint64(4) {
		e, err := sample.Estate(sample.Options{Sites: 60, Links: 3, Hubs: 3, Subnets: 2, Seed: seed})
		if err != nil {
			t.Fatal(err)
		}
		compare(e.About.Name, e)
	}
	if shared < 500 {
		t.Errorf("only %d sites are in the class of another", shared)
	}
}

// collide gives some subnets the prefixes of others, or half of them.
func collide(e *estate.Estate, r *rand.Rand) {
	subnet := func() *estate.Subnet {
		for range 20 {
			if s := &e.Sites[r.IntN(len(e.Sites))]; len(s.Subnets) > 0 {
				return &s.Subnets[r.IntN(len(s.Subnets))]
			}
		}
		return nil
	}
	for range 4 {
		to, from := subnet(), subnet()
		if to == nil || from == nil {
			return
		}
		to.Prefix, to.Map = from.Prefix, netip.Prefix{}
		if r.IntN(2) == 0 {
			to.Prefix = netip.PrefixFrom(from.Prefix.Addr(), min(from.Prefix.Bits()+1, from.Prefix.Addr().BitLen()))
		}
	}
}

// alike takes away what hops keep of the destination for which they were made first: among equal
// costs they are shared.
func alike(routes, want []Route) {
	for _, list := range [][]Route{routes, want} {
		for i := range list {
			list[i].Hops = slices.Clone(list[i].Hops)
			for j := range list[i].Hops {
				list[i].Hops[j].weight.tie = 0
			}
		}
	}
}
