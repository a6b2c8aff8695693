package gateway

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"wideknot/core/addr"
	"wideknot/core/route"
	"wideknot/core/sample"
)

// Each route's way is the hops that the route map says, in their order and groups;
// what is discarded is what the map discards; and nothing else is there.
func TestRoutesAreThoseOfTheMap(t *testing.T) {
	eachSite(t, 30, func(where string, m *route.Map, site int, c *Config) {
		ways := map[int]string{}
		for i := range c.Ways {
			ways[c.Ways[i].ID] = c.Ways[i].Words()
		}
		tables := map[int][]route.Route{DefaultTable: m.Table(site)}
		for i, x := range m.Extras(site) {
			tables[FirstTable+i] = x.Routes
		}
		for number, routes := range tables {
			var discards []netip.Prefix
			want := map[netip.Prefix]string{}
			for _, r := range routes {
				if number == DefaultTable && r.Kind == route.Breakout {
					continue
				}
				if r.Discards() {
					discards = append(discards, r.Prefix)
				}
				if len(r.Hops) > 0 {
					w := Way{Groups: groupsOf(r.Hops)}
					want[r.Prefix] = w.Words()
				}
			}
			for _, r := range routes {
				if r.Link != nil {
					want[r.Prefix] = r.NextHop.String()
				}
			}
			got := map[netip.Prefix]string{}
			for _, r := range c.Routes {
				switch {
				case r.Table != number:
				case r.Way != 0:
					got[r.Prefix] = ways[r.Way]
				default:
					got[r.Prefix] = r.Via.String()
				}
			}
			for prefix, by := range want {
				if got[prefix] != by {
					t.Errorf("%s, table %d: %s goes by %q, not %q", where, number, prefix, got[prefix], by)
				}
			}
			var merged []netip.Prefix
			for _, d := range c.Discards {
				if d.Table == number {
					merged = append(merged, d.Prefix)
				}
			}
			if !slices.Equal(addr.Aggregate(merged), addr.Aggregate(discards)) {
				t.Errorf("%s, table %d: discards %v, not %v", where, number, merged, discards)
			}
		}
	})
}

// Whatever routes are gone, a packet meets a discard where it would meet one of its
// own: merging discards changes no lookup.
func TestMergedDiscardsChangeNoLookup(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 15))
	random := func() netip.Prefix {
		return netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 0, byte(r.IntN(4)), byte(r.IntN(4) * 64)}), 20+r.IntN(7)).Masked()
	}
	longest := func(list []netip.Prefix, a netip.Addr) int {
		bits := -1
		for _, p := range list {
			if p.Contains(a) {
				bits = max(bits, p.Bits())
			}
		}
		return bits
	}
	for range 20000 {
		var discards, others []netip.Prefix
		for range 1 + r.IntN(6) {
			discards = append(discards, random())
		}
		for range r.IntN(3) {
			others = append(others, random())
		}
		// Only some of the routes beside the discards live.
		var alive []netip.Prefix
		for _, p := range discards {
			if r.IntN(2) == 0 {
				alive = append(alive, p)
			}
		}
		few := (&joining{discards: slices.Clone(discards), others: others}).merged()
		for range 20 {
			a := netip.AddrFrom4([4]byte{10, 0, byte(r.IntN(16)), byte(r.IntN(256))})
			route, other := longest(alive, a), longest(others, a)
			own, whole := longest(discards, a), longest(few, a)
			// A discard is met where nothing as long or longer lives.
			if (own > max(route, other)) != (whole > max(route, other)) {
				t.Fatalf("%v beside %v → %v: %v with %v alive", discards, others, few, a, alive)
			}
		}
	}
}

// Ways that stay keep their numbers, whatever else is there; weights are what a
// kernel takes.
func TestWaysKeepTheirNumbers(t *testing.T) {
	for seed := range uint64(20) {
		e := sample.Mixed(seed)
		m := mapOf(e)
		e.Allocations = m.Plan.Allocations()
		less := e.Clone()
		last := &less.Sites[len(less.Sites)-1]
		last.Subnets = last.Subnets[:1]
		after := mapOf(less)
		for i := range e.Sites {
			numbers := map[string]int{}
			was, is := Of(m, i), Of(after, i)
			for j := range was.Ways {
				numbers[was.Ways[j].Words()] = was.Ways[j].ID
			}
			for j := range is.Ways {
				if id, there := numbers[is.Ways[j].Words()]; there && id != is.Ways[j].ID {
					t.Errorf("seed %d, %s: %s was %d and is %d", seed, e.Sites[i].Key, is.Ways[j].Words(), id, is.Ways[j].ID)
				}
			}
		}
	}
	for _, c := range []struct{ in, want []int }{
		{[]int{3}, []int{1}}, {[]int{4, 6}, []int{2, 3}}, {[]int{256, 1}, []int{255, 1}}, {[]int{255, 1}, []int{255, 1}}, {[]int{256, 128}, []int{2, 1}}, {[]int{250, 256, 1}, []int{249, 255, 1}},
	} {
		group := make([]Member, len(c.in))
		for i, w := range c.in {
			group[i].Weight = w
		}
		kernelWeights(group)
		for i, m := range group {
			if m.Weight != c.want[i] {
				t.Errorf("%v: %v, want %v", c.in, group, c.want)
			}
		}
	}
}
