package drill

import (
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/outage"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
)

// brindlewater has, where asked for, limits in all its overlays.
func brindlewater(t *testing.T, limits *estate.Limits) (*route.Map, *outage.Model) {
	t.Helper()
	e, err := examples.Estate("brindlewater")
	if err != nil {
		t.Fatal(err)
	}
	for i := range e.Overlays {
		if e.Overlays[i].Probe == nil {
			e.Overlays[i].Probe = &estate.Probe{Target: estate.FarEnd}
		}
		e.Overlays[i].Probe.Limits = limits
	}
	if limits != nil {
		for i := range e.Sites {
			e.Sites[i].Gateway.Switches = true
		}
	}
	routes := route.Build(tunnel.Derive(e))
	return routes, outage.New(routes)
}

// as is what gateways report when they do what was predicted.
func (p *Prediction) as(held bool) map[string]*gateway.State {
	out := map[string]*gateway.State{}
	for i := range p.Sites {
		s := &p.Sites[i]
		state := &gateway.State{Site: s.Key}
		dead, beyond := map[string]bool{}, map[string]bool{}
		for _, end := range s.Ends {
			dead[end], beyond[end] = held && p.Degree == outage.Dead, held && p.Degree != outage.Dead
			state.Tunnels = append(state.Tunnels, gateway.TunnelState{Interface: end, Up: !dead[end], Beyond: beyond[end]})
		}
		for k := range s.Ways {
			for _, g := range s.Ways[k].Groups {
				for _, end := range g.Ends {
					if _, there := dead[end]; !there {
						dead[end] = false
						state.Tunnels = append(state.Tunnels, gateway.TunnelState{Interface: end, Up: true})
					}
				}
			}
			way := gateway.WayState{ID: s.Ways[k].ID, Group: s.Ways[k].group(dead, beyond)}
			if s.Ways[k].Keeps {
				state.HeldWays = append(state.HeldWays, way)
			} else {
				state.Ways = append(state.Ways, way)
			}
		}
		out[s.Key] = state
	}
	return out
}

// For each thing that can fail alone: both ends of every tunnel that it kills are known, somebody
// holds them, and gateways that do as predicted are found to.
func TestPredictEverySingleFailure(t *testing.T) {
	for name, limits := range map[string]*estate.Limits{"no limits": nil, "limits": {LatencyMs: 150, JitterMs: 30, LossPercent: 1, WindowS: 10, Zones: []string{"camera"}}} {
		t.Run(name, func(t *testing.T) { predictEverySingleFailure(t, limits) })
	}
}

func predictEverySingleFailure(t *testing.T, limits *estate.Limits) {
	routes, model := brindlewater(t, limits)
	n, keeping := 0, 0
	degrees := map[outage.Degree]int{}
	for i, part := range model.Parts() {
		if limits != nil && i%3 != 0 { // those that are dead were all asked for without
			continue
		}
		p, err := Predict(routes, model, part)
		if err != nil {
			if !strings.Contains(err.Error(), "no probes") && !strings.Contains(err.Error(), "carries no tunnel") && !strings.Contains(err.Error(), "holds a tunnel to limits") {
				t.Errorf("%s: %v", part, err)
			}
			continue
		}
		n++
		degrees[part.Degree]++
		if part.Degree != outage.Dead && (p.Cut > 0 || p.Detect != 11+1+0.8 || p.Return != 22+1+0.8) {
			t.Errorf("%s: %d pairs are cut, left within %v s, taken again within %v s", part, p.Cut, p.Detect, p.Return)
		}
		ends, held := 0, map[string]bool{}
		for i := range p.Sites {
			s := &p.Sites[i]
			ends += len(s.Ends)
			config := gateway.Of(routes, routes.Plan.SiteIndex(s.Key))
			for _, end := range s.Ends {
				tun := config.Tunnel(end)
				for k := range s.Ways {
					if s.Ways[k].Keeps {
						keeping++
					}
				}
				if s.Holds {
					name := []string{tun.Overlay, tun.Ident(s.Key)}
					held[strings.Join(name, " ")] = true
				}
			}
		}
		if ends != 2*p.Tunnels || len(held) != p.Tunnels || p.Detect <= 0 || p.Return <= 0 {
			t.Errorf("%s: %d ends of %d tunnels, %d of them held down; found after %v s, back after %v s", part, ends, p.Tunnels, len(held), p.Detect, p.Return)
		}
		for _, is := range []bool{true, false} {
			if seen := p.As(is, p.as(is), nil); !seen.Whole() || seen.AllWays == 0 {
				t.Errorf("%s, held %v: %+v", part, is, seen)
			}
		}
		if seen := p.As(true, p.as(false), nil); seen.Whole() || seen.Dead != 0 || len(seen.Wrong) == 0 {
			t.Errorf("%s: that nothing is dead is not seen: %+v", part, seen)
		}
	}
	if n < 50 {
		t.Errorf("only %d parts were drilled", n)
	}
	if limited := limits != nil; degrees[outage.Slow] > 20 != limited || degrees[outage.Lossy] > 20 != limited || keeping > 0 != limited {
		t.Errorf("%v, %d ways that keep to limits", degrees, keeping)
	}
}

// A tunnel that is beyond its limits while another dies moves what is held to them, which is no
// difference; nor is that an older agent does not say by what that goes.
func TestLimitsAreNoDifferenceToWhatIsDead(t *testing.T) {
	p := &Prediction{Sites: []Touched{{Key: "tarn", Ends: []string{"c"}, Ways: []DrillWay{
		{ID: 1, Groups: []DrillGroup{{Place: 1, Ends: []string{"a"}}, {Place: 2, Ends: []string{"b"}}}},
		{ID: 2, Keeps: true, Groups: []DrillGroup{{Place: 1, Ends: []string{"a"}, Among: 1}, {Place: 2, Ends: []string{"b"}, Among: 1}}},
	}}}}
	is := &gateway.State{
		Tunnels: []gateway.TunnelState{{Interface: "a", Up: true, Beyond: true}, {Interface: "b", Up: true}, {Interface: "c"}},
		Ways:    []gateway.WayState{{ID: 1, Group: 1}}, HeldWays: []gateway.WayState{{ID: 2, Group: 2}},
	}
	states := map[string]*gateway.State{"tarn": is}
	if seen := p.As(true, states, nil); !seen.Whole() || seen.AllWays != 2 {
		t.Errorf("beyond its limits: %+v", seen)
	}
	is.HeldWays[0].Group = 1
	if seen := p.As(true, states, nil); seen.Whole() {
		t.Errorf("what is held stays: %+v", seen)
	}
	is.HeldWays = nil
	if seen := p.As(true, states, nil); !seen.Whole() || seen.AllWays != 1 {
		t.Errorf("an older agent: %+v", seen)
	}
}

func TestDifferencesAreNamed(t *testing.T) {
	routes, model := brindlewater(t, nil)
	part, err := outage.ParsePart("link:tarnhollow/ring")
	if err != nil {
		t.Fatal(err)
	}
	p, err := Predict(routes, model, part)
	if err != nil {
		t.Fatal(err)
	}
	site := p.Sites[slices.IndexFunc(p.Sites, func(s Touched) bool { return s.Key == "tarnhollow" })]
	for _, c := range []struct {
		name   string
		change func(map[string]*gateway.State)
		words  string
		before map[string][]string
	}{
		{"one lives", func(s map[string]*gateway.State) { s["tarnhollow"].Tunnels[0].Up = true }, site.Ends[0] + " of tarnhollow lives", nil},
		{"another is dead", func(s map[string]*gateway.State) {
			s["tarnhollow"].Tunnels = append(s["tarnhollow"].Tunnels, gateway.TunnelState{Interface: "else-99"})
		}, "else-99 of tarnhollow is dead", nil},
		{"it was dead before", func(s map[string]*gateway.State) {
			s["tarnhollow"].Tunnels = append(s["tarnhollow"].Tunnels, gateway.TunnelState{Interface: "else-99"})
		}, "", map[string][]string{"tarnhollow": {"else-99"}}},
		{"a way goes elsewhere", func(s map[string]*gateway.State) { s["tarnhollow"].Ways[0].Group = 99 }, "a way of tarnhollow goes by nothing, and is to go by", nil},
		{"one says nothing", func(s map[string]*gateway.State) { delete(s, "tarnhollow") }, "the gateway of tarnhollow says nothing", nil},
	} {
		states := p.as(true)
		c.change(states)
		seen := p.As(true, states, c.before)
		if seen.Whole() != (c.words == "") || c.words != "" && !strings.Contains(strings.Join(seen.Wrong, "; "), c.words) {
			t.Errorf("%s: %+v", c.name, seen)
		}
	}
	for _, bad := range []string{"link:tarnhollow/none", "slow:link:tarnhollow/ring", "gateway:nowhere"} {
		part, err := outage.ParsePart(bad)
		if err == nil {
			_, err = Predict(routes, model, part)
		}
		if err == nil {
			t.Errorf("%s can be drilled", bad)
		}
	}
}
