package rollout

import (
	"encoding/json"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
	"wideknot/examples"
)

func configs(e *estate.Estate) (out []*gateway.Config, m *route.Map) {
	m = route.Build(tunnel.Derive(e))
	for i := range e.Sites {
		out = append(out, gateway.Of(m, i))
	}
	return out, m
}

// host is one of a subnet that is no gateway.
func host(p netip.Prefix) netip.Addr {
	out := p.Addr()
	for range 9 {
		out = out.Next()
	}
	return out
}

func estates(t *testing.T, seeds uint64) (out []*estate.Estate) {
	t.Helper()
	for _, name := range []string{"three-sites", "two-hubs", "breakout", "load-sharing", "brindlewater"} {
		e, err := examples.Estate(name)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, e)
	}
	for seed := range seeds {
		e := sample.Mixed(seed)
		if seed%4 == 3 {
			watched(e, true)
		}
		out = append(out, e)
	}
	return out
}

// Where all gateways have one design, who reaches whom by their tables is what following a
// packet through the design says.
func TestTablesSayWhatTheDesignSays(t *testing.T) {
	asked, arrived := 0, 0
	for seed, e := range estates(t, 300) {
		list, m := configs(e)
		var gateways []Gateway
		for i, c := range list {
			gateways = append(gateways, Gateway{Key: e.Sites[i].Key, Old: c, New: c})
		}
		n := newNet(gateways)
		random := rand.New(rand.NewPCG(uint64(seed), 4))
		for range 60 {
			i, j := random.IntN(len(e.Sites)), random.IntN(len(e.Sites))
			if i == j || len(e.Sites[i].Subnets) == 0 || len(e.Sites[j].Subnets) == 0 {
				continue
			}
			there := &e.Sites[j].Subnets[random.IntN(len(e.Sites[j].Subnets))]
			l := lane{a: i, b: j, from: host(e.Sites[i].Subnets[random.IntN(len(e.Sites[i].Subnets))].Prefix), to: host(there.Prefix), kind: kind{protocol: "icmp"}}
			to := host(there.Taking())
			if l.from.Is4() != to.Is4() {
				continue
			}
			trace := m.Follow(route.Packet{From: l.from, To: to, Protocol: "icmp"})
			if trace.Forward.FromSite != i || trace.Forward.ToSite != j || trace.Forward.Partly || trace.Return != nil && trace.Return.Partly {
				continue
			}
			asked++
			if trace.Arrives() {
				arrived++
			}
			state := make([]Stage, len(gateways))
			if p := n.reach(state, &l); p.arrives != trace.Arrives() {
				t.Errorf("estate %d: %s %v to %s %v: by tables %v, by the design %v (%s %s)", seed, e.Sites[i].Key, l.from, e.Sites[j].Key, to, p, trace.Arrives(), trace.Forward.End, trace.Forward.Why)
			}
		}
	}
	t.Logf("%d asked, %d arrive", asked, arrived)
	if arrived < 1000 || asked-arrived < 100 {
		t.Error("that shows little")
	}
}

// A widened configuration can be applied, is the same where nothing changes, and accepts what
// either does.
func TestWidened(t *testing.T) {
	list := estates(t, 200)
	for i := 6; i < len(list); i++ {
		a, b := list[i-1], list[i]
		old, _ := configs(a)
		new, _ := configs(b)
		for k := range min(len(old), len(new)) {
			if At(old[k], old[k], Widened).Digest() != old[k].Digest() || At(old[k], old[k], Sending).Digest() != old[k].Digest() {
				t.Errorf("estate %d, %s: widening by itself changes something", i, old[k].Site)
			}
			for _, s := range []Stage{Widened, Sending} {
				c := At(old[k], new[k], s)
				if err := c.Check(); err != nil {
					t.Errorf("estates %d and %d, %s, %v: %v", i-1, i, old[k].Site, s, err)
				}
				base := old[k]
				if s == Sending {
					base = new[k]
				}
				for j := range base.Tunnels {
					if w := base.Tunnels[j].WireGuard; w != nil {
						for _, p := range base.Allowed(w) {
							if !slices.Contains(c.Allowed(c.Tunnels[j].WireGuard), p) {
								t.Errorf("%v is not allowed any more", p)
							}
						}
					}
				}
			}
		}
	}
}

// edited are two designs of which the second is the first after some edits, with the numbers
// that the first gave.
func edited(first *estate.Estate, seed uint64) (old, new []*gateway.Config, gateways []Gateway) {
	plan := tunnel.Derive(first)
	first = first.Clone()
	first.Allocations = plan.Allocations()
	second := sample.Edit(first, seed)
	if problems := estate.Validate(second); len(problems) > 0 {
		return nil, nil, nil
	}
	old, _ = configs(first)
	new, _ = configs(second)
	for i := range first.Sites {
		gateways = append(gateways, Gateway{Key: first.Sites[i].Key, Region: first.Sites[i].Region, Old: old[i], New: new[i]})
	}
	return old, new, gateways
}

// What is said of a round holds for whatever part of it is done: a pair that is not said to be
// cut arrives in each state on the way, tried for random parts of each round.
func TestNoStateOnTheWayIsForgotten(t *testing.T) {
	states, cut, saved, steps := 0, 0, 0, 0
	for seed := range uint64(400) {
		_, _, gateways := edited(sample.Mixed(seed), seed)
		if gateways == nil {
			continue
		}
		p, err := Make(gateways, nil)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		if p.Cut > p.Straight {
			t.Errorf("seed %d: steps make it worse: %d and not %d", seed, p.Cut, p.Straight)
		}
		cut, saved = cut+p.Cut, saved+p.Straight-p.Cut
		if p.TwoSteps {
			steps++
		}
		w := newWalk(gateways)
		random := rand.New(rand.NewPCG(seed, 5))
		state := make([]Stage, len(gateways))
		for r, round := range p.Rounds {
			said := map[[2]string]bool{}
			for _, c := range round.Some {
				said[[2]string{c.From, c.To}] = true
			}
			if len(round.Some) < round.Cut {
				break
			}
			for range 8 {
				mixed := slices.Clone(state)
				for _, site := range round.Sites {
					if random.IntN(2) == 0 {
						mixed[w.index[site]] = round.Stage
					}
				}
				for k := range w.lanes {
					l := &w.lanes[k]
					states++
					// What was cut before may still be while a part of the round is not done.
					p := w.reachAfter(state, mixed, l)
					if !p.arrives && w.reach(state, l).arrives && !said[[2]string{gateways[l.a].Key, gateways[l.b].Key}] {
						t.Errorf("seed %d, round %d %q: %s to %s ends at %v in %v, which is not said", seed, r, round.Name, gateways[l.a].Key, gateways[l.b].Key, p.path, mixed)
					}
				}
			}
			for _, site := range round.Sites {
				state[w.index[site]] = round.Stage
			}
		}
		for i := range gateways {
			if gateways[i].changes() && !same(At(gateways[i].Old, gateways[i].New, state[i]), gateways[i].New) {
				t.Errorf("seed %d: %s ends at %v", seed, gateways[i].Key, state[i])
			}
		}
	}
	t.Logf("%d states of pairs; %d pairs of sites cut on the way, %d saved by steps, %d designs in steps", states, cut, saved, steps)
	if cut == 0 || saved == 0 {
		t.Error("that shows little")
	}
}

// Where nothing changes the plan is empty, and its lists are lists.
func TestNothingToDo(t *testing.T) {
	e, err := examples.Estate("two-hubs")
	if err != nil {
		t.Fatal(err)
	}
	list, _ := configs(e)
	var gateways []Gateway
	for i, c := range list {
		gateways = append(gateways, Gateway{Key: e.Sites[i].Key, Old: c, New: c})
	}
	p, err := Make(gateways, nil)
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(p)
	if err != nil || strings.Contains(string(text), "null") || len(p.Rounds) != 0 || p.Unchanged != len(gateways) {
		t.Errorf("%v %s", err, text)
	}
}
