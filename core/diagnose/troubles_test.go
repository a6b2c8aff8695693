package diagnose

import (
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/outage"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
	"wideknot/examples"
)

func brindlewater(t testing.TB) *route.Map {
	t.Helper()
	e, err := examples.Estate("brindlewater")
	if err != nil {
		t.Fatal(err)
	}
	return route.Build(tunnel.Derive(e))
}

// reported is what gateways report while some parts of the estate are dead.
func reported(t testing.TB, m *route.Map, model *outage.Model, parts ...outage.Part) *Known {
	t.Helper()
	kills, err := model.Kills(parts...)
	if err != nil {
		t.Fatal(err)
	}
	gone := func(site *estate.Site) bool {
		return slices.ContainsFunc(parts, func(p outage.Part) bool {
			return p.Kind == outage.Gateway && p.Name == site.Key || p.Kind == outage.Region && p.Name == site.Region
		})
	}
	out := &Known{Routes: m, Gateways: map[string]*Gateway{}}
	for i := range m.Plan.Estate.Sites {
		site := &m.Plan.Estate.Sites[i]
		g := &Gateway{Joined: true, Up: !gone(site), State: &gateway.State{Site: site.Key}}
		online := false
		for j := range site.Links {
			l := &site.Links[j]
			dead := slices.ContainsFunc(parts, func(p outage.Part) bool {
				switch p.Kind {
				case outage.Link:
					return p.Name == site.Key+"/"+l.Key
				case outage.Fate:
					return slices.Contains(l.SharedFate, p.Name)
				case outage.Provider:
					return l.Provider == p.Name
				case outage.Underlay:
					return l.UnderlayOf() == p.Name
				}
				return false
			})
			online = online || !dead && l.UnderlayOf() == estate.Internet
			g.State.Links = append(g.State.Links, gateway.LinkState{Link: l.Key, NextHopUp: !dead, NamesUp: !dead})
		}
		g.Up = g.Up && online
		for _, e := range m.Plan.Ends(i) {
			local, _ := m.Plan.Sides(e)
			_, _, tun := m.Plan.At(e)
			up := kills.Dead == nil || !kills.Dead(tun)
			g.State.Tunnels = append(g.State.Tunnels, gateway.TunnelState{Interface: local.Interface, Up: up && !tun.Mute, Since: "2026-12-01T03:00:00Z"})
		}
		out.Gateways[site.Key] = g
	}
	return out
}

// Each single failure of the demo estate is one trouble, which explains every tunnel that it
// kills and foresees what the outage of it does. A part that is all of another is told as that.
func TestOneFailureIsOneTrouble(t *testing.T) {
	m := brindlewater(t)
	model := outage.New(m)
	told := 0
	for _, p := range model.Parts() {
		if p.Degree != outage.Dead || p.Kind == outage.Region || p.Kind == outage.Underlay {
			continue
		}
		kills, err := model.Kills(p)
		if err != nil {
			t.Fatal(err)
		}
		dead := 0
		for i := range m.Plan.Overlays {
			for j := range m.Plan.Overlays[i].Adjacencies {
				for k := range m.Plan.Overlays[i].Adjacencies[j].Tunnels {
					if x := &m.Plan.Overlays[i].Adjacencies[j].Tunnels[k]; kills.Dead(x) && !x.Mute {
						dead++
					}
				}
			}
		}
		if dead == 0 {
			continue
		}
		told++
		is := Look(reported(t, m, model, p), model)
		if len(is.Troubles) != 1 || is.Troubles[0].Tunnels != dead || !is.Troubles[0].Foreseen {
			t.Errorf("%s, %d tunnels: %d troubles, %+v", p, dead, len(is.Troubles), is.Troubles)
			continue
		}
		if x := &is.Troubles[0]; x.Part != p.String() {
			as, err := outage.ParsePart(x.Part)
			if err != nil {
				t.Fatal(err)
			}
			same, err := model.Kills(as)
			if err != nil {
				t.Fatal(err)
			}
			for i := range m.Plan.Overlays {
				for j := range m.Plan.Overlays[i].Adjacencies {
					for k := range m.Plan.Overlays[i].Adjacencies[j].Tunnels {
						if y := &m.Plan.Overlays[i].Adjacencies[j].Tunnels[k]; same.Dead(y) != kills.Dead(y) {
							t.Fatalf("%s is told as %s, which is something else", p, x.Part)
						}
					}
				}
			}
		}
		o, err := model.Fail(p)
		if err != nil || is.Cut != o.Cut || is.Moved != o.Moved || is.Squeezed != o.Squeezed {
			t.Errorf("%s: %d cut, %d moved, and outages say %d and %d (%v)", p, is.Cut, is.Moved, o.Cut, o.Moved, err)
		}
	}
	if told < 80 {
		t.Errorf("%d failures were told", told)
	}
}

func TestTroubles(t *testing.T) {
	m := brindlewater(t)
	model := outage.New(m)
	part := func(text string) outage.Part {
		p, err := outage.ParsePart(text)
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	for name, c := range map[string]struct {
		parts  []string
		change func(k *Known)
		want   []string // what is said, in order
	}{
		"nothing": {},
		"a carrier and a circuit of another": {parts: []string{"provider:Lumenway", "link:salternreach/ring"}, want: []string{
			"Lumenway is dead", "the circuit ring of salternreach is dead",
		}},
		"by hand, refused, clock": {change: func(k *Known) {
			k.Gateways["osierweir"].ByHand = true
			k.Gateways["mossgill"].Failed, k.Gateways["mossgill"].Release = "no room for the route", 3
			k.Gateways["quillbeck"].Clock = -90_000
		}, want: []string{"the clock of quillbeck is -90 s off", "somebody changed the gateway of osierweir by hand", "the gateway of mossgill did not take release 3: no room for the route"}},
		"one tunnel, that one end says is dead": {change: func(k *Known) {
			k.Gateways["tarnhollow"].State.Tunnels[0].Up = false
		}, want: []string{"the tunnel between"}},
		"tunnels of one overlay between two sites": {change: func(k *Known) {
			for i := range k.Gateways["tarnhollow"].State.Tunnels[:3] {
				k.Gateways["tarnhollow"].State.Tunnels[i].Up = false
			}
		}, want: []string{"3 tunnels of ops between tarnhollow and harrowmere are dead"}},
		"away, though it carries": {change: func(k *Known) { k.Gateways["osierweir"].Up = false }, want: []string{"the gateway of osierweir is away, though it carries"}},
		"a link that answers and carries nothing": {parts: []string{"link:osierweir/ring"}, change: func(k *Known) {
			for i := range k.Gateways["osierweir"].State.Links {
				k.Gateways["osierweir"].State.Links[i].NextHopUp = true
			}
		}, want: []string{"none of the tunnels of osierweir (ring) lives"}},
		"beyond limits": {change: func(k *Known) {
			for i := range k.Gateways["osierweir"].State.Tunnels {
				k.Gateways["osierweir"].State.Tunnels[i].Beyond = true
			}
		}, want: []string{"tunnels of osierweir (", "tunnels of osierweir (", "tunnels of osierweir ("}},
	} {
		var parts []outage.Part
		for _, p := range c.parts {
			parts = append(parts, part(p))
		}
		k := reported(t, m, model, parts...)
		if c.change != nil {
			c.change(k)
		}
		is := Look(k, model)
		same := len(is.Troubles) == len(c.want)
		for _, w := range c.want {
			same = same && slices.ContainsFunc(is.Troubles, func(x Trouble) bool { return strings.Contains(x.Words, w) })
		}
		if !same {
			t.Errorf("%s: want %q", name, c.want)
			for _, x := range is.Troubles {
				t.Errorf("  %s, %d tunnels", x.Words, x.Tunnels)
			}
		}
	}
}

// At 1,000 sites with three links each a carrier that has a third of them is dead.
func BenchmarkLook(b *testing.B) {
	m, model, k := thousand(b)
	for b.Loop() {
		if is := Look(k, model); len(is.Troubles) == 0 {
			b.Fatal(m.Plan.Tunnels())
		}
	}
}

// One packet between two spokes whose first choices are dead.
func BenchmarkDiagnose(b *testing.B) {
	m, _, k := thousand(b)
	e := m.Plan.Estate
	from, to := e.Sites[len(e.Sites)-1].Subnets[0].Prefix.Addr().Next(), e.Sites[len(e.Sites)-2].Subnets[0].Prefix.Addr().Next()
	for _, site := range Sites(k, route.Packet{From: from, To: to, Protocol: "icmp"}) {
		k.Gateways[site].Wants = gateway.Of(m, m.Plan.SiteIndex(site))
	}
	for b.Loop() {
		if d := Diagnose(k, route.Packet{From: from, To: to, Protocol: "icmp"}); len(d.Steps) == 0 {
			b.Fatal(d.Causes)
		}
	}
}

func thousand(b *testing.B) (*route.Map, *outage.Model, *Known) {
	b.Helper()
	e, err := sample.Estate(sample.Options{Sites: 1000, Links: 3, Seed: 1})
	if err != nil {
		b.Fatal(err)
	}
	m := route.Build(tunnel.Derive(e))
	model := outage.New(m)
	for _, p := range model.Parts() {
		if p.Kind == outage.Provider && p.Degree == outage.Dead {
			return m, model, reported(b, m, model, p)
		}
	}
	b.Fatal("the sample has no carriers")
	return nil, nil, nil
}

// What a drill holds down is one trouble that cuts nobody, and no carrier's fault.
func TestADrillIsNoFault(t *testing.T) {
	m := brindlewater(t)
	model := outage.New(m)
	part := outage.Part{Kind: outage.Provider, Name: "Lumenway"}
	known := reported(t, m, model, part)
	n := 0
	kills, err := model.Kills(part)
	if err != nil {
		t.Fatal(err)
	}
	for _, g := range known.Gateways {
		for i := range g.State.Links {
			g.State.Links[i].NextHopUp, g.State.Links[i].NamesUp = true, true
		}
		g.Up = true
		for i := range g.State.Tunnels {
			g.State.Tunnels[i].Held = !g.State.Tunnels[i].Up
		}
	}
	for i := range m.Plan.Overlays {
		for j := range m.Plan.Overlays[i].Adjacencies {
			for l := range m.Plan.Overlays[i].Adjacencies[j].Tunnels {
				if tun := &m.Plan.Overlays[i].Adjacencies[j].Tunnels[l]; kills.Dead(tun) && !tun.Mute {
					n++
				}
			}
		}
	}
	is := Look(known, model)
	if len(is.Troubles) != 1 || is.Troubles[0].Code != Drilled || is.Troubles[0].Tunnels != n || is.Cut != 0 || is.DeadTunnels() != n {
		t.Errorf("%d tunnels are held down: %+v", n, is.Troubles)
	}
	for _, g := range known.Gateways { // or taken for slow
		for i := range g.State.Tunnels {
			one := &g.State.Tunnels[i]
			one.Beyond, one.Up = !one.Up, true
		}
	}
	is = Look(known, model)
	if len(is.Troubles) != 1 || is.Troubles[0].Code != Drilled || is.Troubles[0].Tunnels != n || !strings.Contains(is.Troubles[0].Words, "beyond their limits") || is.DeadTunnels() != 0 {
		t.Errorf("%d tunnels are taken for slow: %+v", n, is.Troubles)
	}
}

// A circuit that came and went, and whose tunnels are all kept out though they are answered again,
// lets UDP through: it is one trouble, which does what the outage of the circuit does. It is less
// sure where some are not answered yet.
func TestAFlappingCircuitIsOneTrouble(t *testing.T) {
	m := brindlewater(t)
	model := outage.New(m)
	part := outage.Part{Kind: outage.Link, Name: "eastgate/cable"}
	known := reported(t, m, model, part)
	own := known.Gateways["eastgate"].State
	own.Links[slices.IndexFunc(own.Links, func(l gateway.LinkState) bool { return l.Link == "cable" })].NextHopUp = true
	if is := Look(known, model); len(is.Troubles) != 1 || is.Troubles[0].Code != UDPBlocked {
		t.Fatalf("nothing is answered: %+v", is.Troubles)
	}
	var dead []*gateway.TunnelState
	for i := range own.Tunnels {
		if one := &own.Tunnels[i]; !one.Up {
			one.SteadyIn = 20
			dead = append(dead, one)
		}
	}
	for i, sure := range []Sureness{Sure, Likely} {
		is := Look(known, model)
		if len(is.Troubles) != 1 {
			t.Fatalf("%d troubles: %+v", len(is.Troubles), is.Troubles)
		}
		if x := &is.Troubles[0]; x.Code != Flapping || x.Sure != sure || x.Part != part.String() || x.Tunnels < len(dead) || !x.Foreseen || !x.Patient {
			t.Errorf("%d not answered: %+v", i, x)
		}
		dead[0].SteadyIn = 0
	}
}

// Tunnels that came and went, and are answered again, are told as that, pair by pair, and not as dead
// for a reason that nobody sees.
func TestAFlappingTunnelIsNamed(t *testing.T) {
	m := brindlewater(t)
	model := outage.New(m)
	known := reported(t, m, model)
	o := &m.Plan.Overlays[0]
	a := &o.Adjacencies[slices.IndexFunc(o.Adjacencies, func(a tunnel.Adjacency) bool { return len(a.Tunnels) > 2 && !a.Tunnels[0].Mute && !a.Tunnels[1].Mute })]
	for i := range 2 {
		find(known.Gateways[m.Plan.Site(a.A).Key], a.Tunnels[i].A.Interface).Up = false
		far := find(known.Gateways[m.Plan.Site(a.B).Key], a.Tunnels[i].B.Interface)
		far.Up, far.SteadyIn = false, 40
	}
	is := Look(known, model)
	if len(is.Troubles) != 1 || is.Troubles[0].Code != Flapping || is.Troubles[0].Sure != Sure || is.Troubles[0].Tunnels != 2 || !is.Troubles[0].Patient {
		t.Fatalf("%+v", is.Troubles)
	}
	find(known.Gateways[m.Plan.Site(a.B).Key], a.Tunnels[1].B.Interface).SteadyIn = 0
	if is = Look(known, model); len(is.Troubles) != 1 || is.Troubles[0].Code != TunnelDead || is.Troubles[0].Patient {
		t.Errorf("one is dead besides: %+v", is.Troubles)
	}
	d := &diagnoser{Known: known, plan: m.Plan, from: -1, to: -1, wants: map[string]*Want{}}
	d.examine(&a.Tunnels[0])
	if len(d.out.Causes) != 1 || d.out.Causes[0].Code != Flapping || !strings.Contains(d.out.Causes[0].Evidence[1], "40 s") {
		t.Errorf("%+v", d.out.Causes)
	}
}
