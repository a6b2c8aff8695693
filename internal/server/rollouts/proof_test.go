package rollouts

import (
	"slices"
	"testing"
	"time"

	"wideknot/core/gateway"
	"wideknot/core/rollout"
	"wideknot/internal/server/store"
)

// What a proof makes of what gateways report: ends of tunnels and ways that are as expected or
// not, were dead before, or of which nothing is known.
func TestProof(t *testing.T) {
	began := time.Now()
	late := began.Add(time.Second)
	state := func(s gateway.State) string {
		text, err := gateway.WriteState(&s)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	live := []store.LiveGateway{
		{Gateway: store.Gateway{Site: "a"}, Up: true, StateAt: &late},
		{Gateway: store.Gateway{Site: "b"}, Up: true, StateAt: &late},
		{Gateway: store.Gateway{Site: "c"}, StateAt: &late}, // away
	}
	plan := &Stored{Bases: map[string]uint64{"a": 1, "b": 1, "c": 1}}
	expected := []rollout.Expected{
		{Site: "a", Interface: "b-1", Peer: "b", Detect: 3800}, {Site: "b", Interface: "a-1", Peer: "a", Detect: 3800},
		{Site: "a", Interface: "c-2", Peer: "c", Detect: 3800}, {Site: "a", Way: 1000000001, Group: 1}, {Site: "b", Way: 1000000002, Group: 2},
	}
	at := gateway.Time("2026-12-01T00:00:00Z")
	up := func(name string, answered int) gateway.TunnelState {
		return gateway.TunnelState{Interface: name, Up: true, Sent: 10, Answered: gateway.Counter(answered)}
	}
	for _, c := range []struct {
		name                       string
		a, b                       gateway.State
		dead                       []string
		alive, as, missing, before int
	}{
		{"as expected", gateway.State{Tunnels: []gateway.TunnelState{up("b-1", 9), up("c-2", 9)}, Ways: []gateway.WayState{{ID: 1000000001, Group: 1}}},
			gateway.State{Tunnels: []gateway.TunnelState{up("a-1", 9)}, Ways: []gateway.WayState{{ID: 1000000002, Group: 2}}}, nil, 2, 2, 0, 0},
		{"one end is dead", gateway.State{Tunnels: []gateway.TunnelState{{Interface: "b-1"}}, Ways: []gateway.WayState{{ID: 1000000001, Group: 1}}},
			gateway.State{Tunnels: []gateway.TunnelState{up("a-1", 9)}, Ways: []gateway.WayState{{ID: 1000000002, Group: 2}}}, nil, 1, 2, 1, 0},
		{"it was dead before", gateway.State{Tunnels: []gateway.TunnelState{{Interface: "b-1"}}, Ways: []gateway.WayState{{ID: 1000000001, Group: 2}}},
			gateway.State{Tunnels: []gateway.TunnelState{up("a-1", 9)}, Ways: []gateway.WayState{{ID: 1000000002, Group: 2}}}, []string{"a/b-1"}, 1, 2, 0, 1},
		{"never answered", gateway.State{Tunnels: []gateway.TunnelState{up("b-1", 0)}, Ways: []gateway.WayState{{ID: 1000000001, Group: 1}}},
			gateway.State{Tunnels: []gateway.TunnelState{up("a-1", 9)}, Ways: []gateway.WayState{{ID: 1000000002, Group: 2}}}, nil, 1, 2, 1, 0},
		{"a way goes by another group", gateway.State{Tunnels: []gateway.TunnelState{up("b-1", 9)}, Ways: []gateway.WayState{{ID: 1000000001, Group: 2}}},
			gateway.State{Tunnels: []gateway.TunnelState{up("a-1", 9)}, Ways: []gateway.WayState{{ID: 1000000002, Group: 2}}}, nil, 2, 1, 1, 0},
		{"limits move ways", gateway.State{Tunnels: []gateway.TunnelState{{Interface: "b-1", Up: true, Sent: 1, Answered: 1, Beyond: true}}, Ways: []gateway.WayState{{ID: 1000000001, Group: 2}}},
			gateway.State{Tunnels: []gateway.TunnelState{up("a-1", 9)}, Ways: []gateway.WayState{{ID: 1000000002, Group: 2}}}, nil, 2, 1, 0, 0},
	} {
		c.a.At, c.b.At, c.a.Site, c.b.Site = at, at, "a", "b"
		plan.Dead = c.dead
		p, ready := prove(expected, plan, nil, live, map[string]string{"a": state(c.a), "b": state(c.b)}, began)
		if !ready || p.Alive != c.alive || p.As != c.as || p.Missing != c.missing || p.Before != c.before || p.Unseen != 1 || len(p.Differ) != c.missing {
			t.Errorf("%s: %v %+v", c.name, ready, p)
		}
		if p, _ := prove(expected, plan, p.Keys, live, map[string]string{"a": state(c.a), "b": state(c.b)}, began); p.Missing > 0 {
			t.Errorf("%s: what is accepted differs still: %+v", c.name, p)
		}
		if dead := deadEnds(map[string]string{"a": state(c.a)}); len(dead) != 0 != slices.ContainsFunc(c.a.Tunnels, func(s gateway.TunnelState) bool { return !s.Up }) {
			t.Errorf("%s: dead are %v", c.name, dead)
		}
	}
	early := began.Add(-time.Second)
	live[1].StateAt = &early
	if _, ready := prove(expected, plan, nil, live, map[string]string{}, began); ready {
		t.Error("it is ready before b reported")
	}
}
