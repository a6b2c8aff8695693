package diff

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"wideknot/core/check"
	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

func stateOf(e *estate.Estate) State {
	p := tunnel.Derive(e)
	m := route.Build(p)
	return State{m, check.Run(p, m)}
}

func sampled(t testing.TB, o sample.Options) *estate.Estate {
	t.Helper()
	e, err := sample.Estate(o)
	if err != nil {
		t.Fatal(err)
	}
	e.Allocations = tunnel.Derive(e).Allocations()
	return e
}

// disturbed changes something at random and says what.
func disturbed(r *rand.Rand, e *estate.Estate) (*estate.Estate, string) {
	out := e.Clone()
	o := &out.Overlays[0]
	site := &out.Sites[r.IntN(len(out.Sites))]
	switch r.IntN(9) {
	case 0:
		site.Links = slices.Clone(site.Links)
		l := &site.Links[r.IntN(len(site.Links))]
		l.Reach = []estate.Reach{estate.NAT, estate.Static}[r.IntN(2)]
		if l.Reach == estate.Static && len(l.Addresses) == 0 {
			l.Addresses = []netip.Addr{netip.MustParseAddr("192.0.2.77")}
		}
		return out, "reach of " + site.Key
	case 1:
		if len(site.Links) > 1 {
			site.Links = slices.Clone(site.Links[1:])
		}
		return out, "a link less at " + site.Key
	case 2:
		site.Subnets = slices.Clone(site.Subnets)
		site.Subnets[0].Share = nil
		return out, "nothing shared at " + site.Key
	case 3:
		site.Subnets = slices.Clone(site.Subnets)
		site.Subnets[0].Prefix = netip.MustParsePrefix(fmt.Sprintf("172.20.%d.0/24", r.IntN(250)))
		return out, "another subnet at " + site.Key
	case 4:
		o.Hubs = slices.Clone(o.Hubs)
		slices.Reverse(o.Hubs)
		return out, "hubs turned round"
	case 5:
		if len(o.Spokes) > 0 && len(o.Hubs) > 0 {
			o.Spokes = slices.Clone(o.Spokes)
			hubs := slices.Clone(o.Hubs)
			slices.Reverse(hubs)
			o.Spokes[r.IntN(len(o.Spokes))].Hubs = hubs[:1+r.IntN(len(hubs))]
		}
		return out, "a spoke's hubs"
	case 6:
		if next, err := out.WithoutSite(out.Sites[len(out.Sites)-1].Key); err == nil {
			return next, "a site less"
		}
		return out, "nothing"
	case 7:
		no := false
		o.HubLinks = &no
		return out, "hubs apart"
	default:
		if len(o.Spokes) > 1 && len(o.Hubs) > 0 {
			o.Shape = estate.Custom
			o.Direct = append(slices.Clone(o.Direct), []string{o.Spokes[0].Site, o.Spokes[1].Site})
			o.Pins = append(slices.Clone(o.Pins), estate.Pin{Site: o.Spokes[r.IntN(len(o.Spokes))].Site, Via: o.Hubs[len(o.Hubs)-1]})
		}
		return out, "a direct pair and a pin"
	}
}

// Whatever is edited, the quick comparison finds exactly the moves that
// comparing all tables finds, and the pairs that the paths of the routes join.
func TestWeighAgreesWithComparingEverything(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 1))
	for _, o := range []sample.Options{
		{Sites: 12, Hubs: 2, Links: 2, Subnets: 2, Seed: 1}, {Sites: 9, Hubs: 3, Links: 3, Seed: 2, Trouble: true},
		{Sites: 8, Hubs: 1, Links: 1, Seed: 3}, {Sites: 7, Links: 2, Shape: estate.FullMesh, Seed: 4},
	} {
		base := sampled(t, o)
		for range 60 {
			next, what := disturbed(r, base)
			if r.IntN(2) == 0 {
				var more string
				next, more = disturbed(r, next)
				what += ", " + more
			}
			next.Allocations = base.Allocations
			old, new := stateOf(base), stateOf(next)
			got := Weigh(old, new)
			var slow []string
			for _, site := range sitesOfBoth(old.Routes.Plan, new.Routes.Plan) {
				movesOf(old.Routes, new.Routes, site, func(m move) bool {
					slow = append(slow, fmt.Sprint(m.inWords(old.Routes, new.Routes)))
					return true
				})
			}
			var quick []string
			for _, m := range got.Moves {
				quick = append(quick, fmt.Sprint(m))
			}
			if got.Moved != len(slow) || !slices.Equal(quick, slow[:min(len(slow), Most)]) {
				t.Fatalf("%v, %s: %d moves, want %d\n%s\n--\n%s", o, what, got.Moved, len(slow), strings.Join(quick, "\n"), strings.Join(slow, "\n"))
			}
			if cut := slowCuts(old.Routes, new.Routes); fmt.Sprint(cut) != fmt.Sprint(got.Cut) {
				t.Fatalf("%v, %s: cut %v, want %v", o, what, got.Cut, cut)
			}
			if back := Weigh(new, old); back.Moved != got.Moved || back.CutPairs != got.JoinedPairs || len(back.FindingsNew) != len(got.FindingsGone) {
				t.Fatalf("%v, %s: the way back is not the reverse", o, what)
			}
		}
	}
}

func slowCuts(old, new *route.Map) []Pair {
	meet := func(m *route.Map, a, b string) bool {
		x, y := m.Plan.SiteIndex(a), m.Plan.SiteIndex(b)
		for i := range m.Plan.Overlays {
			o := &m.Plan.Overlays[i]
			if o.Has(x) && o.Has(y) && len(m.Plan.Site(x).Shared(o.Spec.Key)) > 0 && len(m.Plan.Site(y).Shared(o.Spec.Key)) > 0 && m.Path(i, x, y) != nil {
				return true
			}
		}
		return false
	}
	out := []Pair{}
	keys := sitesOfBoth(old.Plan, new.Plan)
	for i, a := range keys {
		for _, b := range keys[i+1:] {
			known := old.Plan.SiteIndex(a) >= 0 && old.Plan.SiteIndex(b) >= 0 && new.Plan.SiteIndex(a) >= 0 && new.Plan.SiteIndex(b) >= 0
			if known && meet(old, a, b) && !meet(new, a, b) {
				out = append(out, Pair{a, b})
			}
		}
	}
	return out
}

func TestWeighOfNothingIsEmpty(t *testing.T) {
	s := stateOf(sampled(t, sample.Options{Sites: 5}))
	if c := Weigh(s, s); !c.Empty() {
		t.Errorf("%+v", c)
	}
}

// A spoke that loses its hubs is cut off, and nobody else; the other way round it is
// joined.
func TestWhoIsCutOff(t *testing.T) {
	base := sampled(t, sample.Options{Sites: 5, Hubs: 2})
	alone := base.Clone()
	gone := alone.Overlays[0].Spokes[2].Site
	for i := range alone.Sites {
		if alone.Sites[i].Key == gone {
			for j := range alone.Sites[i].Links {
				alone.Sites[i].Links[j].NoTunnels = true
			}
		}
	}
	old, new := stateOf(base), stateOf(alone)
	c := Weigh(old, new)
	others := len(base.Sites) - 1
	if !slices.Equal(c.CutOff, []string{gone}) || c.CutPairs != others || len(c.Cut) != others || c.JoinedPairs != 0 {
		t.Errorf("%+v", c)
	}
	if back := Weigh(new, old); len(back.CutOff) != 0 || back.JoinedPairs != others || back.CutPairs != 0 {
		t.Errorf("%+v", back)
	}
}

// One edit at 1,000 spokes with three links, two hubs.
func BenchmarkWeigh(b *testing.B) {
	base := sampled(b, sample.Options{Sites: 1000, Links: 3, Seed: 1})
	old := stateOf(base)
	for _, c := range []struct {
		name   string
		change func(e *estate.Estate)
	}{
		{"link", func(e *estate.Estate) {
			e.Sites[500].Links = slices.Clone(e.Sites[500].Links)
			e.Sites[500].Links = e.Sites[500].Links[1:]
		}},
		{"subnet", func(e *estate.Estate) {
			e.Sites[500].Subnets = slices.Clone(e.Sites[500].Subnets)
			e.Sites[500].Subnets[0].Prefix = netip.MustParsePrefix("172.20.1.0/24")
		}},
		{"all-hub-orders", func(e *estate.Estate) {
			e.Overlays[0].Hubs = slices.Clone(e.Overlays[0].Hubs)
			slices.Reverse(e.Overlays[0].Hubs)
		}},
	} {
		next := base.Clone()
		c.change(next)
		new := stateOf(next)
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				Weigh(old, new)
			}
		})
	}
}
