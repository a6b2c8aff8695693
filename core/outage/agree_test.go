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
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// plain is a slow evaluator that knows nothing of Model. It walks packets by
// the tables that gateways are given, and asks a derivation of what is left
// whether there is a path at all.
type plain struct {
	m      *route.Map
	dead   func(site, link int) bool
	tables map[arrival]map[netip.Prefix]*route.Route
}

// An arrival is where a packet comes in: a site, and an interface unless it
// starts there.
type arrival struct {
	site int
	came string
}

// A crossing is the tunnels, by place, of which a flow takes one to cross an
// adjacency.
type crossing struct {
	overlay, adjacency int
	tunnels            uint64
}

// lookup finds the route to a prefix in the table a packet meets: the main one
// where it starts, else that for the interface it came by.
func (p *plain) lookup(site int, came string, to netip.Prefix) *route.Route {
	id := arrival{site, came}
	if p.tables[id] == nil {
		table := p.m.Table(site)
		for _, x := range p.m.Extras(site) {
			if came != "" && slices.Contains(x.Arriving, came) {
				table = x.Routes
			}
		}
		p.tables[id] = map[netip.Prefix]*route.Route{}
		for i := range table {
			p.tables[id][table[i].Prefix] = &table[i]
		}
	}
	return p.tables[id][to]
}

// walk returns the tunnels on the way, and whether the packet arrives.
func (p *plain) walk(from, to int, prefix netip.Prefix) (way []crossing, ok bool) {
	if p.gone(from) || p.gone(to) {
		return nil, false
	}
	at, came, before := from, "", -1
	for range 10 {
		r := p.lookup(at, came, prefix)
		if r == nil {
			return way, false
		}
		next, metric := -1, 0
		for _, h := range p.steered(r, at, before) {
			_, _, t := p.m.Plan.At(h.End)
			if p.dead(t.A.Site, t.A.Link) || p.dead(t.B.Site, t.B.Link) {
				continue
			}
			if next >= 0 && h.Metric != metric {
				break
			}
			if next >= 0 { // hops of one metric carry it together
				way[len(way)-1].tunnels |= 1 << h.End.Tunnel
				continue
			}
			_, remote := p.m.Plan.Sides(h.End)
			way = append(way, crossing{h.End.Overlay, h.End.Adjacency, 1 << h.End.Tunnel})
			next, metric, came = h.Via, h.Metric, remote.Interface
		}
		if next < 0 {
			return way, false
		}
		before = at
		if at = next; at == to {
			return way, true
		}
	}
	return way, false
}

// steered puts the hops first that lead to the neighbour at which, of all living paths
// with at most two hubs, the least begins.
func (p *plain) steered(r *route.Route, at, before int) []route.Hop {
	overlay, to, ok := p.m.Steered(r)
	if !ok || before >= 0 && p.hub(overlay, before) && p.hub(overlay, at) {
		return r.Hops
	}
	for _, c := range p.m.Candidates(overlay, at, to) {
		sites := append(append([]int{at}, c.Via...), to)
		hubs := 0
		living := true
		for i, site := range sites {
			if p.hub(overlay, site) {
				hubs++
			}
			living = living && (i == 0 || p.joined(overlay, sites[i-1], site))
		}
		if hubs > 2 && len(c.Via) > 1 || !living {
			continue
		}
		out := slices.Clone(r.Hops)
		slices.SortStableFunc(out, func(a, b route.Hop) int { return cmp.Compare(boolInt(a.Via != sites[1]), boolInt(b.Via != sites[1])) })
		return out
	}
	return r.Hops
}

func (p *plain) hub(overlay, site int) bool {
	return slices.Contains(p.m.Plan.Overlays[overlay].Spec.Hubs, p.m.Plan.Site(site).Key)
}

// joined reports whether a tunnel between two sites lives.
func (p *plain) joined(overlay, x, y int) bool {
	for _, a := range p.m.Plan.Overlays[overlay].Adjacencies {
		if a.A != min(x, y) && a.A != max(x, y) || a.B != min(x, y) && a.B != max(x, y) {
			continue
		}
		for _, t := range a.Tunnels {
			if !p.dead(t.A.Site, t.A.Link) && !p.dead(t.B.Site, t.B.Link) {
				return true
			}
		}
	}
	return false
}

func (p *plain) gone(site int) bool {
	for j := range p.m.Plan.Site(site).Links {
		if !p.dead(site, j) {
			return false
		}
	}
	return true
}

// random makes a small estate of any shape: hubs with own and common links,
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

// TestAgreementBySubnets compares each verdict on every pair of sites, for the
// single failures of estates with every feature, with what becomes of each two
// subnets when their packets are followed one by one.
func TestAgreementBySubnets(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	judged := map[Verdict]int{}
	beyond, stepped := 0, 0
	for seed := range uint64(120) {
		e := sample.Mixed(seed)
		if seed%2 == 0 {
			telling(e)
		}
		if seed%3 > 0 {
			limiting(e, seed)
		}
		if problems := estate.Validate(e); len(problems) > 0 {
			t.Fatalf("estate %d: %v", seed, problems)
		}
		routes := route.Build(tunnel.Derive(e))
		m := New(routes)
		parts := m.Parts()
		random := rand.New(rand.NewPCG(seed, 3))
		random.Shuffle(len(parts), func(a, b int) { parts[a], parts[b] = parts[b], parts[a] })
		for _, part := range parts[:min(len(parts), 10)] {
			f, err := m.failing([]Part{part})
			if err != nil {
				t.Fatal(err)
			}
			failing, err := m.Kills(part)
			if err != nil {
				t.Fatal(err)
			}
			b := m.bench()
			b.fail(&f)
			b.touch(&f)
			for i := range e.Sites {
				for j := i + 1; j < len(e.Sites); j++ {
					want, ambiguous := verdictBySubnets(routes, failing, i, j)
					if ambiguous {
						continue
					}
					got := Untouched
					fate := b.fortune(i, j, nil, nil)
					switch {
					case !fate.was:
					case !fate.now:
						got = Cut
					case fate.lost || fate.beyond >= 0:
						got = Squeezed
					case fate.moved:
						got = Moved
					}
					if fate.now && fate.beyond >= 0 {
						beyond++
					}
					if part.Degree != Dead && got == Moved {
						stepped++
					}
					if got != want {
						t.Fatalf("seed %d, %s: %s and %s are %v, by their subnets %v", seed, part, e.Sites[i].Key, e.Sites[j].Key, got, want)
					}
					judged[want]++
				}
			}
		}
	}
	t.Log(judged, "beyond limits:", beyond, "moved by limits:", stepped)
	if beyond < 20 || stepped < 20 {
		t.Errorf("only %d pairs are left with tunnels beyond limits, %d move by them", beyond, stepped)
	}
	for v := range Cut + 1 {
		if judged[v] < 5 {
			t.Errorf("only %d pairs are %v: %v", judged[v], v, judged)
		}
	}
}

// verdictBySubnets follows something between each two subnets of two sites, and
// is ambiguous where that cannot be said by an address.
func verdictBySubnets(m *route.Map, failing route.Failing, i, j int) (verdict Verdict, ambiguous bool) {
	host := func(p netip.Prefix) netip.Addr { return p.Addr().Next().Next().Next() }
	tunnels := func(w *route.Walk) (out []crossing) {
		for _, s := range w.Steps {
			c := crossing{s.Hop.End.Overlay, s.Hop.End.Adjacency, 1 << s.Hop.End.Tunnel}
			for _, h := range s.Beside {
				c.tunnels |= 1 << h.End.Tunnel
			}
			out = append(out, c)
		}
		return out
	}
	exceeds := func(w *route.Walk, near, far *estate.Subnet, failing route.Failing) bool {
		return slices.ContainsFunc(w.Steps, func(s route.Step) bool {
			spec := m.Plan.Overlays[s.Hop.End.Overlay].Spec
			return spec.Holds(near.Zone, far.Zone) && slices.ContainsFunc(append([]route.Hop{s.Hop}, s.Beside...), func(h route.Hop) bool { return len(m.Beyond(&h, failing)) > 0 })
		})
	}
	was, now := false, false
	for a := range m.Plan.Site(i).Subnets {
		for b := range m.Plan.Site(j).Subnets {
			near, far := &m.Plan.Site(i).Subnets[a], &m.Plan.Site(j).Subnets[b]
			if near.Taking().Addr().Is4() != far.Taking().Addr().Is4() {
				continue
			}
			reached, reaches, moves, worse := false, false, false, false
			for _, ends := range [2][2]*estate.Subnet{{near, far}, {far, near}} {
				for _, flow := range []route.Packet{{Protocol: "icmp"}, {Protocol: "udp", Port: 7}, {Protocol: "udp", Port: 443}, {Protocol: "udp", Port: 2000}, {Protocol: "tcp", Port: 7}, {Protocol: "tcp", Port: 443}, {Protocol: "tcp", Port: 8000}, {Protocol: "tcp", Port: 2000}, {Protocol: "udp", Port: 8000}} {
					flow.From, flow.To = host(ends[0].Prefix), host(ends[1].Taking())
					before, after := m.Follow(flow), m.FollowIn(failing, flow)
					if before.Forward.End == route.Unknown {
						return 0, true
					}
					arrived := before.Forward.End == route.Delivered && before.Return.End == route.Delivered
					arrives := after.Forward.End == route.Delivered && after.Return.End == route.Delivered
					reached, reaches = reached || arrived, reaches || arrives
					moves = moves || arrived && arrives && (!slices.Equal(tunnels(&before.Forward), tunnels(&after.Forward)) || !slices.Equal(tunnels(before.Return), tunnels(after.Return)))
					worse = worse || arrived && arrives && !exceeds(&before.Forward, near, far, route.Failing{}) && exceeds(&after.Forward, near, far, failing)
				}
			}
			was, now = was || reached, now || reaches
			if reached && !reaches || worse {
				verdict = max(verdict, Squeezed)
			} else if moves {
				verdict = max(verdict, Moved)
			}
		}
	}
	switch {
	case !was:
		return Untouched, false
	case !now:
		return Cut, false
	}
	return verdict, false
}

// limiting gives an estate's overlays limits, and its links figures some of which are
// beyond them.
func limiting(e *estate.Estate, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 11))
	zones := append(e.Zones(), "nowhere")
	for i := range e.Sites {
		for j := range e.Sites[i].Links {
			l := &e.Sites[i].Links[j]
			l.LatencyMs, l.JitterMs, l.LossPercent = float64(r.IntN(100)), float64(r.IntN(20)), float64(r.IntN(4))/4
		}
	}
	for i := range e.Overlays {
		if i == estate.MaxLimited || r.IntN(4) == 0 {
			continue
		}
		limits := estate.Limits{LatencyMs: 160, Zones: zones[:1]}
		if r.IntN(2) == 0 {
			limits.JitterMs, limits.LossPercent = 32, 1
		}
		if len(zones) > 2 && r.IntN(2) == 0 {
			limits.Zones = zones[1:3]
		}
		if e.Overlays[i].Probe == nil {
			e.Overlays[i].Probe = &estate.Probe{}
		}
		limits.WindowS = 600
		e.Overlays[i].Probe.Limits = &limits
	}
}
