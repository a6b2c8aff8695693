package outage

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

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
