package rollout

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// standing are gateways that all have one design, and switch by themselves.
func standing(e *estate.Estate) (*Network, []Stage, *route.Map) {
	for i := range e.Sites {
		e.Sites[i].Gateway.Switches = true
	}
	list, m := configs(e)
	var gateways []Gateway
	for i, c := range list {
		gateways = append(gateways, Gateway{Key: e.Sites[i].Key, Old: c, New: c})
	}
	return NewNetwork(gateways), make([]Stage, len(gateways)), m
}

// watched lets all tunnels be probed, without which nobody notices what is dead, and hubs tell.
func watched(e *estate.Estate, tell bool) {
	for i := range e.Overlays {
		e.Overlays[i].Probe = &estate.Probe{Target: estate.FarEnd, IntervalMs: 200, Misses: 3, Successes: 3, TimeoutMs: 500}
		e.Overlays[i].HubsTell = tell
	}
	for i := range e.Sites {
		e.Sites[i].Gateway.Switches = true
	}
}

// shared reports whether a packet's way depends on its flow.
func shared(w *route.Walk) bool {
	return w.Partly || slices.ContainsFunc(w.Steps, func(s route.Step) bool { return len(s.Beside) > 0 })
}

// What gateways are to see of each other's echoes is what following a packet through the design
// says, with all tunnels alive and with some dead: whether it arrives, by whom, and how large it may be.
func TestEchoesAreAsTheDesignSays(t *testing.T) {
	asked, arrived, passed, told := 0, 0, 0, 0
	for seed, e := range estates(t, 300) {
		if slices.ContainsFunc(e.Overlays, func(o estate.Overlay) bool { return o.Policy != nil || o.Probe != nil && o.Probe.Limits != nil }) {
			continue // policies are not asked about gateways' own packets
		}
		watched(e, seed%2 == 0)
		for i := range e.Sites { // nor are the zones of links
			for j := range e.Sites[i].Links {
				e.Sites[i].Links[j].Zones = nil
			}
		}
		n, state, m := standing(e)
		random := rand.New(rand.NewPCG(uint64(seed), 5))
		dead := map[*tunnel.Tunnel]bool{}
		failing := route.Failing{Dead: func(x *tunnel.Tunnel) bool { return dead[x] }}
		for range 40 {
			if random.IntN(4) == 0 {
				clear(dead)
				var ends []string
				for i := range e.Sites {
					for _, p := range m.Plan.Peers(i) {
						if random.IntN(12) == 0 {
							dead[p.Tunnel] = true
						}
					}
				}
				for i := range e.Sites {
					for _, p := range m.Plan.Peers(i) {
						if dead[p.Tunnel] {
							ends = append(ends, e.Sites[i].Key+"/"+p.Interface)
						}
					}
				}
				n.Without(ends)
			}
			i, j := random.IntN(len(e.Sites)), random.IntN(len(e.Sites))
			if i == j || len(e.Sites[i].Subnets) == 0 || len(e.Sites[j].Subnets) == 0 {
				continue
			}
			here, there := &e.Sites[i].Subnets[random.IntN(len(e.Sites[i].Subnets))], &e.Sites[j].Subnets[random.IntN(len(e.Sites[j].Subnets))]
			from, to := host(here.Prefix), host(there.Prefix)
			seen := n.Target(state, e.Sites[j].Key, to)
			if len(there.Share) > 0 && seen != host(there.Taking()) {
				t.Errorf("estate %d: %v of %s is known as %v", seed, to, e.Sites[j].Key, seen)
			}
			if len(there.Share) == 0 || from.Is4() != to.Is4() {
				continue
			}
			trace := m.FollowIn(failing, route.Packet{From: from, To: seen, Protocol: "icmp"})
			if trace.Forward.FromSite != i || trace.Forward.ToSite != j || shared(&trace.Forward) || trace.Return != nil && shared(trace.Return) {
				continue
			}
			if oneArmed := func(i int) bool {
				g := &e.Sites[i].Gateway
				return g.Placement == estate.OneArmed && !g.LANAddressOf(from.Is4()).IsValid()
			}; oneArmed(i) || oneArmed(j) {
				continue // its hosts are not reached, it is itself
			}
			asked++
			if len(dead) > 0 && m.Told(0) {
				told++
			}
			got := n.Echo(state, e.Sites[i].Key, e.Sites[j].Key, from, to)
			if got.Arrives != trace.Arrives() || n.Reaches(state, i, j, from, to) != trace.Arrives() {
				t.Errorf("estate %d: %s %v to %s %v, %d dead: %+v, by the design %v (%s %s)", seed, e.Sites[i].Key, from, e.Sites[j].Key, seen, len(dead), got, trace.Arrives(), trace.Forward.End, trace.Forward.Why)
				continue
			}
			if !trace.Arrives() {
				continue
			}
			arrived++
			var hubs []string
			for _, s := range trace.Forward.Steps[1:] {
				hubs = append(hubs, e.Sites[s.Site].Key)
			}
			passed += len(hubs)
			if !slices.Equal(got.Hubs, hubs) || got.MTU > trace.MTU {
				t.Errorf("estate %d: %s %v to %s %v: by %v, %d bytes; by the design %v, %d at most", seed, e.Sites[i].Key, from, e.Sites[j].Key, seen, got.Hubs, got.MTU, hubs, trace.MTU)
			}
			for _, key := range append(hubs, e.Sites[i].Key, e.Sites[j].Key) {
				if !slices.Contains(got.Passed, key) {
					t.Errorf("estate %d: %s is not among those that are passed, %v", seed, key, got.Passed)
				}
			}
			if !slices.ContainsFunc(n.Shares(state, e.Sites[i].Key), func(p netip.Prefix) bool { return p.Contains(from) }) {
				t.Errorf("estate %d: %v is shared, and %s does not say so", seed, from, e.Sites[i].Key)
			}
		}
	}
	t.Logf("%d asked, %d arrive, by %d hubs; %d where hubs tell what is dead", asked, arrived, passed, told)
	if arrived < 500 || asked-arrived < 100 || passed < 150 || told < 100 {
		t.Error("that shows little")
	}
}

// Of every tunnel that can live both ends are expected, with the time in which its probes find it
// dead, and of every way its first group; of one end that was dead before neither, and the next group.
func TestWhatIsExpected(t *testing.T) {
	tunnels, standbys := 0, 0
	for seed, e := range estates(t, 20) {
		n, state, m := standing(e)
		find := func(list []Expected, site, iface string) *Expected {
			at := slices.IndexFunc(list, func(x Expected) bool { return x.Site == site && x.Interface == iface && x.Way == 0 })
			if at < 0 {
				return nil
			}
			return &list[at]
		}
		all := n.Expect(state)
		var first string
		for i := range e.Sites {
			c := gateway.Of(m, i)
			for _, p := range m.Plan.Peers(i) {
				is := find(all, e.Sites[i].Key, p.Interface)
				if (is != nil) == p.Tunnel.Mute {
					t.Errorf("estate %d: %s of %s is expected: %v", seed, p.Interface, e.Sites[i].Key, is != nil)
				}
				if is == nil {
					continue
				}
				tunnels++
				want := 0
				if b := c.Tunnel(p.Interface).Probe; b != nil {
					want = b.Interval*b.Misses + b.Timeout
				}
				if is.Detect != want || is.Peer != c.Tunnel(p.Interface).Peer {
					t.Errorf("estate %d: %+v, want %d ms", seed, is, want)
				}
				if first == "" {
					first = e.Sites[i].Key + "/" + p.Interface
				}
			}
			n.Without(nil)
		}
		if first == "" {
			continue
		}
		n.Without([]string{first, "nobody/x"})
		less := n.Expect(state)
		if len(all)-len(less) != 2 {
			t.Errorf("estate %d: without %s %d are expected, of %d", seed, first, len(less), len(all))
		}
		for _, x := range less {
			for _, y := range all {
				if x.Way != 0 && x.Way == y.Way && x.Site == y.Site && x.Group != y.Group {
					standbys++
					if x.Group != 0 && x.Group < y.Group {
						t.Errorf("estate %d: way %d of %s goes by group %d after %d", seed, x.Way, x.Site, x.Group, y.Group)
					}
				}
			}
		}
		owners := n.Addresses(state)
		for i := range e.Sites {
			for _, tn := range gateway.Of(m, i).Tunnels {
				for _, a := range tn.Addresses {
					if owners[a.Addr()] != e.Sites[i].Key {
						t.Errorf("estate %d: %v is of %q", seed, a, owners[a.Addr()])
					}
				}
			}
		}
	}
	if tunnels < 200 || standbys < 5 {
		t.Errorf("%d tunnels and %d ways that go by another group show little", tunnels, standbys)
	}
}

// The state before a round is what the rounds before it have made, and after the last all is new.
func TestStatesOfAPlan(t *testing.T) {
	rounds := 0
	for seed, e := range estates(t, 10) {
		_, _, gateways := edited(e, uint64(seed))
		if gateways == nil {
			continue
		}
		p, err := Make(gateways, nil)
		if err != nil {
			t.Fatal(err)
		}
		n := NewNetwork(gateways)
		is := map[string]Stage{}
		for r := 0; ; r++ {
			state := n.Before(p, r)
			for _, g := range gateways {
				if n.Of(state, g.Key) != is[g.Key] {
					t.Errorf("estate %d: before round %d %s is at %v, not %v", seed, r, g.Key, n.Of(state, g.Key), is[g.Key])
				}
			}
			if r == len(p.Rounds) {
				break
			}
			for _, site := range p.Rounds[r].Sites {
				is[site] = p.Rounds[r].Stage
			}
			rounds++
		}
		for _, g := range gateways {
			if last := At(g.Old, g.New, is[g.Key]); !g.Fixed && g.changes() && last.Digest() != g.New.Digest() { // there may be nothing to take away at last
				t.Errorf("estate %d: in the end %s is at %v, and not new", seed, g.Key, is[g.Key])
			}
		}
	}
	if rounds < 10 {
		t.Errorf("%d rounds show little", rounds)
	}
}

// A line is led into the overlay where the new tables have a way for a server's address.
func TestLinesLedIntoTunnels(t *testing.T) {
	e := estates(t, 0)[0]
	list, _ := configs(e)
	var gateways []Gateway
	for i, c := range list {
		gateways = append(gateways, Gateway{Key: e.Sites[i].Key, Old: &gateway.Config{Site: c.Site}, New: c})
	}
	inside := []netip.Addr{host(e.Sites[0].Subnets[0].Prefix)}
	outside := []netip.Addr{netip.MustParseAddr("203.0.113.250")}
	got := Lines(gateways, append(outside, inside...))
	if len(got) == 0 || slices.Contains(got, e.Sites[0].Key) {
		t.Errorf("behind %s a server is reached by a tunnel from %v", e.Sites[0].Key, got)
	}
	if got := Lines(gateways, outside); len(got) != 0 {
		t.Errorf("outside a server is reached by a tunnel from %v", got)
	}
	for i := range gateways {
		gateways[i].Fixed = true
	}
	if got := Lines(gateways, inside); len(got) != 0 {
		t.Errorf("gateways that nobody changes lose their lines: %v", got)
	}
	for i := range gateways {
		gateways[i] = Gateway{Key: gateways[i].Key, Old: list[i], New: list[i]}
	}
	if got := Lines(gateways, inside); len(got) != 0 {
		t.Errorf("nothing changes, and lines are lost: %v", got)
	}
}
