package gateway

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/route"
)

// Beside each table stands one for each mark, with the same prefixes; what has the mark
// asks it just before, and by it goes by the same tunnels in the same order, but for those
// of one overlay to one site.
func TestSpread(t *testing.T) {
	spread, kept := 0, 0
	eachSite(t, 90, func(where string, _ *route.Map, _ int, c *Config) {
		s, keeping := c.Spread()
		if len(c.Held.Overlays) == 0 {
			if s != c || keeping != nil {
				t.Errorf("%s: spread without limits", where)
			}
			return
		}
		spread++
		for i := range c.Ways {
			if s.Ways[i].ID != c.Ways[i].ID {
				t.Fatalf("%s: way %d is not where it was", where, i)
			}
		}
		ways := map[int]*Way{}
		for i := range s.Ways {
			if ways[s.Ways[i].ID] != nil {
				t.Fatalf("%s: way %d is there twice", where, s.Ways[i].ID)
			}
			ways[s.Ways[i].ID] = &s.Ways[i]
		}
		kept += len(keeping)
		tables := map[int]map[netip.Prefix]Route{}
		for _, r := range s.Routes {
			if tables[r.Table] == nil {
				tables[r.Table] = map[netip.Prefix]Route{}
			}
			if _, twice := tables[r.Table][r.Prefix]; twice {
				t.Fatalf("%s: %v is in table %d twice", where, r.Prefix, r.Table)
			}
			tables[r.Table][r.Prefix] = r
		}
		seen := map[[2]any]bool{}
		for i, r := range s.Rules {
			if id := [2]any{r.Family, r.Priority}; seen[id] || r.Priority >= 32766 {
				t.Errorf("%s: rule %v", where, id)
			} else {
				seen[id] = true
			}
			if r.Mask&LimitMask == 0 {
				continue
			}
			// The next rule without such a mark asks the table that this one stands before.
			plain := slices.IndexFunc(s.Rules[i:], func(o Rule) bool { return o.Family == r.Family && o.Mask&LimitMask == 0 })
			before := DefaultTable
			if plain >= 0 && !s.Rules[i+plain].NoLonger {
				if o := s.Rules[i+plain]; !slices.Equal(o.Arriving, r.Arriving) || !slices.Equal(o.From, r.From) || o.Mark != r.Mark&^LimitMask || o.Mask != r.Mask&^LimitMask {
					t.Errorf("%s: %+v stands before %+v", where, r, o)
				}
				before = s.Rules[i+plain].Table
			}
			if len(tables[r.Table]) != len(tables[before]) {
				t.Errorf("%s: table %d has %d routes, table %d that it stands before %d", where, r.Table, len(tables[r.Table]), before, len(tables[before]))
			}
			for prefix, one := range tables[r.Table] {
				other := tables[before][prefix]
				if one.Via != other.Via || one.Telling != other.Telling || one.To != other.To {
					t.Errorf("%s: %v in table %d: %+v, not %+v", where, prefix, r.Table, one, other)
				}
				if one.Way != other.Way && (keeping[one.Way] != r.Mark&LimitMask || ways[one.Way].Words() != ways[other.Way].Words()) {
					t.Errorf("%s: %v goes by %v, not %v", where, prefix, ways[one.Way], ways[other.Way])
				}
			}
		}
		if again, _ := c.Spread(); !slices.EqualFunc(again.Ways, s.Ways, func(a, b Way) bool { return a.ID == b.ID }) {
			t.Errorf("%s: ways have other numbers the second time", where)
		}
	})
	if spread < 50 || kept < 50 {
		t.Errorf("only %d configurations were spread, %d ways keep to limits", spread, kept)
	}
}

// What is held to limits is what the packets' own subnets ask for: of prefixes within
// each other the narrowest counts.
func TestWhatIsHeld(t *testing.T) {
	asked, denied := 0, 0
	eachSite(t, 40, func(where string, m *route.Map, site int, c *Config) {
		for i := range c.Held.Overlays {
			o := &c.Held.Overlays[i]
			at := slices.IndexFunc(m.Plan.Estate.Overlays, func(e estate.Overlay) bool { return e.Key == o.Overlay })
			for _, n := range m.Plan.Overlays[at].Members {
				for j := range m.Plan.Site(n).Subnets {
					s := &m.Plan.Site(n).Subnets[j]
					if !s.SharedInto(o.Overlay) {
						continue
					}
					_, sites, _ := m.SharedAround(at, s.Taking().Addr())
					if len(sites) > 1 {
						continue // of two sites: either may ask
					}
					held := slices.ContainsFunc(o.Prefixes, func(p netip.Prefix) bool { return p.Contains(s.Taking().Addr()) })
					if wants := slices.Contains(o.Zones, s.Zone); held != wants {
						t.Errorf("%s: %v of zone %q is held to the limits of %s: %v", where, s.Taking(), s.Zone, o.Overlay, held)
					} else if wants {
						asked++
					} else {
						denied++
					}
				}
			}
		}
	})
	if asked < 50 || denied < 50 {
		t.Errorf("%d ask, %d do not", asked, denied)
	}
	r := rand.New(rand.NewPCG(1, 2))
	random := func() (out []netip.Prefix) {
		for range 1 + r.IntN(4) {
			p, _ := netip.AddrFrom4([4]byte{10, byte(r.IntN(4)), byte(r.IntN(4) * 64), 0}).Prefix(12 + r.IntN(13))
			out = append(out, p)
		}
		return out
	}
	for range 2000 {
		some, others := random(), random()
		got := narrowest(some, others)
		for range 20 {
			a := netip.AddrFrom4([4]byte{10, byte(r.IntN(4)), byte(r.IntN(256)), byte(r.IntN(256))})
			longest := func(list []netip.Prefix) (bits int) {
				bits = -1
				for _, p := range list {
					if p.Contains(a) {
						bits = max(bits, p.Bits())
					}
				}
				return bits
			}
			want := longest(some) >= 0 && longest(some) >= longest(others)
			if has := longest(got) >= 0; has != want && !(longest(some) >= 0 && longest(some) == longest(others)) {
				t.Fatalf("%v of %v without %v: %v, %v", a, some, others, has, got)
			}
		}
		if !slices.Equal(got, addr.Aggregate(got)) {
			t.Fatalf("%v is not as short as can be", got)
		}
	}
}
