package outage

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// plain is a slow evaluator that knows nothing of Model. It walks packets by
// private underlays, several overlays, direct pairs, shared fates, pins, links
// that share the load.
func random(seed uint64) *estate.Estate {
	r := rand.New(rand.NewPCG(seed, 7))
	hubs, spokes := 1+r.IntN(4), 2+r.IntN(7)
	e := &estate.Estate{Format: estate.Format, About: estate.About{Name: "random", Regions: []estate.Region{{Key: "north"}, {Key: "fen"}}}}
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	for i := range hubs + spokes {
		hub := i < hubs
		s := estate.Site{Key: fmt.Sprintf("%s-%d", map[bool]string{true: "h", false: "s"}[hub], i), Region: pick("north", "fen"), DemandMbps: float64(r.IntN(9)), Gateway: estate.Gateway{Switches: true}}
		for j := range 1 + r.IntN(3) {
			l := estate.Link{Key: fmt.Sprintf("l%d", j), Rank: j + 1, Provider: pick("Lumenway", "Skylark", "Highorbit"), Reach: estate.NAT, DownMbps: float64(5 + r.IntN(60))}
			if hub || r.IntN(3) == 0 {
				l.Reach, l.Addresses = estate.Static, []netip.Addr{netip.AddrFrom4([4]byte{198, 18, byte(i), byte(j + 1)})}
			}
			if r.IntN(4) == 0 {
				l.Underlay = "ring"
			}
			if j > 0 && r.IntN(3) == 0 { // shares the load with the one before it
				l.Rank, l.Weight = s.Links[j-1].Rank, 1+r.IntN(4)
				s.Links[j-1].Weight = cmp.Or(s.Links[j-1].Weight, 2)
			}
			if r.IntN(2) == 0 {
				l.SharedFate = []string{pick("duct-1", "duct-2", "mast-1")}
			}
			s.Links = append(s.Links, l)
		}
		s.Subnets = []estate.Subnet{{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(i), 0, 0}), 24), Zone: "control", Share: []string{"ops", "side"}}}
		e.Sites = append(e.Sites, s)
	}
	ops := estate.Overlay{Key: "ops", Shape: estate.Custom, Transport: estate.WireGuard, Pairing: estate.Every, Transit: []netip.Prefix{netip.MustParsePrefix("100.64.0.0/16")}, Numbering: estate.PerTunnel}
	if r.IntN(3) == 0 {
		ops.Costs = &estate.Costs{HubHub: 150, Direct: 90}
	}
	if r.IntN(5) == 0 {
		no := false
		ops.HubLinks = &no
	}
	for i := range hubs {
		ops.Hubs = append(ops.Hubs, e.Sites[i].Key)
	}
	for i := hubs; i < len(e.Sites); i++ {
		spoke := estate.Spoke{Site: e.Sites[i].Key}
		if r.IntN(2) == 0 {
			spoke.Hubs = slices.Clone(ops.Hubs)
			r.Shuffle(hubs, func(a, b int) { spoke.Hubs[a], spoke.Hubs[b] = spoke.Hubs[b], spoke.Hubs[a] })
			spoke.Hubs = spoke.Hubs[:1+r.IntN(hubs)]
		}
		ops.Spokes = append(ops.Spokes, spoke)
	}
	if spokes > 2 && r.IntN(2) == 0 {
		ops.Direct = [][]string{{e.Sites[hubs].Key, e.Sites[hubs+1].Key}}
	}
	if r.IntN(4) == 0 {
		ops.Pins = []estate.Pin{{Site: e.Sites[hubs].Key, Via: ops.Hubs[len(ops.Hubs)-1]}}
	}
	e.Overlays = []estate.Overlay{ops}
	if r.IntN(2) == 0 { // a mesh of some besides
		side := estate.Overlay{Key: "side", Shape: estate.FullMesh, Transport: estate.WireGuard, Pairing: estate.Every, Transit: []netip.Prefix{netip.MustParsePrefix("100.65.0.0/16")}, Numbering: estate.PerSite}
		for i := range e.Sites {
			if r.IntN(2) == 0 {
				side.Spokes = append(side.Spokes, estate.Spoke{Site: e.Sites[i].Key})
			}
		}
		if len(side.Spokes) > 1 {
			e.Overlays = append(e.Overlays, side)
		}
	}
	for i := range e.Sites {
		kept := e.Sites[i].Subnets[0].Share[:0]
		for _, o := range e.Overlays {
			if slices.Contains(o.Members(), e.Sites[i].Key) {
				kept = append(kept, o.Key)
			}
		}
		e.Sites[i].Subnets[0].Share = kept
	}
	return e
}

// without removes what a failure takes, for deriving again.
func without(e *estate.Estate, dead func(site, link int) bool) *estate.Estate {
	out := *e
	out.Sites = slices.Clone(e.Sites)
	for i := range out.Sites {
		var links []estate.Link
		for j, l := range e.Sites[i].Links {
			if !dead(i, j) {
				links = append(links, l)
			}
		}
		out.Sites[i].Links = links
	}
	return &out
}

// TestAgreement compares each verdict on every pair, for every single failure
// of 200 random estates, with the plain evaluator's. Some pairs are cut although
// what is left has a path: a site that sends does not know of a failure at the
// far side of a hub, and the hub has no other way.
func TestAgreement(t *testing.T) {
	judged, lost := agreement(t, false)
	t.Logf("%d verdicts agree; pairs that are cut by their tables although a path is left: %v", judged, lost)
}

// The same where hubs tell which sites they reach: what is cut then although a path is
// left needs three hubs in a row, the ends included, or another overlay to go on by.
func TestAgreementWhereHubsTell(t *testing.T) {
	judged, lost := agreement(t, true)
	t.Logf("%d verdicts agree; pairs that are cut although a path is left: %v", judged, lost)
	if lost["two hubs"] > 0 {
		t.Errorf("%d pairs are cut although a path by two hubs is left", lost["two hubs"])
	}
}

// agreement returns how many verdicts were compared, and the pairs that are cut although
// what is left has a path, by what that path needs.
func agreement(t *testing.T, tell bool) (judged int, lost map[string]int) {
	if testing.Short() {
		t.Skip("long")
	}
	lost = map[string]int{}
	for seed := range uint64(200) {
		e := random(seed)
		for i := range e.Overlays {
			e.Overlays[i].HubsTell = tell
		}
		if problems := estate.Validate(e); len(problems) > 0 {
			t.Fatalf("estate %d: %v", seed, problems)
		}
		routes := route.Build(tunnel.Derive(e))
		m := New(routes)
		tables := map[arrival]map[netip.Prefix]*route.Route{}
		for _, part := range m.Parts() {
			f, err := m.failing([]Part{part})
			if err != nil {
				t.Fatal(err)
			}
			gone := map[[2]int]bool{}
			for _, l := range f.links {
				gone[[2]int{m.sites[l], l - m.links[m.sites[l]]}] = true
			}
			for _, g := range f.gates {
				for j := range e.Sites[g].Links {
					gone[[2]int{g, j}] = true
				}
			}
			dead := func(site, link int) bool { return gone[[2]int{site, link}] }
			left := route.Build(tunnel.Derive(without(e, dead)))
			before, after := &plain{routes, func(int, int) bool { return false }, tables}, &plain{routes, dead, tables}
			fast := verdictsOf(m, &f)
			for i := range e.Sites {
				for j := i + 1; j < len(e.Sites); j++ {
					lanes := m.lanesOf(i, j)
					if lanes == nil {
						continue
					}
					want := verdictBy(before, after, i, j)
					if got := fast(i, j); got != want {
						t.Fatalf("estate %d, %s: %s and %s are %v, by their tables %v", seed, part, e.Sites[i].Key, e.Sites[j].Key, got, want)
					}
					judged++
					path, kind := false, "two hubs"
					for o := range left.Plan.Overlays {
						if !slices.Contains(lanes[0].overlays, o) {
							continue
						}
						by := left.Path(o, i, j)
						path = path || by != nil
						hubs := 0
						for _, site := range by {
							hubs += boolInt(before.hub(o, site))
						}
						switch {
						case by == nil:
						case hubs > 2:
							kind = "three hubs"
						case len(lanes[0].overlays) > 1:
							kind = "overlays together"
						case !routes.Told(o):
							kind = "nothing told: " + routes.Untold(o)
						}
					}
					if !path && want != Cut && want != Untouched {
						t.Fatalf("estate %d, %s: %s and %s are %v, but what is left has no path", seed, part, e.Sites[i].Key, e.Sites[j].Key, want)
					}
					if path && want == Cut {
						lost[kind]++
					}
				}
			}
		}
	}
	return judged, lost
}

// verdictBy judges a pair without capacities.
func verdictBy(before, after *plain, i, j int) Verdict {
	verdict := Untouched
	for _, d := range [2][2]int{{i, j}, {j, i}} {
		prefix := before.m.Plan.Site(d[1]).Subnets[0].Prefix
		was, did := before.walk(d[0], d[1], prefix)
		now, does := after.walk(d[0], d[1], prefix)
		switch {
		case !did:
			return Untouched // cut with nothing failed
		case !does:
			verdict = Cut
		case !slices.Equal(was, now):
			verdict = max(verdict, Moved)
		}
	}
	if verdict != Cut {
		if _, did := before.walk(j, i, before.m.Plan.Site(i).Subnets[0].Prefix); !did {
			return Untouched
		}
	}
	return verdict
}

// verdictsOf runs a failure on a bench and tells the verdict of any pair, a
// squeezed one as moved: capacities are tested apart.
func verdictsOf(m *Model, f *set) func(i, j int) Verdict {
	b := m.bench()
	b.fail(f)
	b.touch(f)
	found := map[[2]int]Verdict{}
	b.pairs(b.list, b.touched, b.direct, func(i, j int) {
		var out Outcome
		b.pair(i, j, &out)
		switch {
		case out.Cut > 0:
			found[[2]int{i, j}] = Cut
		case out.Moved+out.Squeezed > 0:
			found[[2]int{i, j}] = Moved
		}
	})
	return func(i, j int) Verdict { return found[[2]int{i, j}] }
}
