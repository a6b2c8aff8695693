package gateway

import (
	"maps"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
)

// What may be asked of a gateway, on both sides of each bound.
func TestQuestionsAreChecked(t *testing.T) {
	ask := func(change func(e *Echo)) []Echo {
		e := Echo{From: netip.MustParseAddr("10.0.0.1"), To: netip.MustParseAddr("10.0.1.1"), Size: SmallEcho}
		change(&e)
		return []Echo{e}
	}
	for name, test := range map[string]struct {
		list []Echo
		ok   bool
	}{
		"usual":              {ask(func(*Echo) {}), true},
		"as large as may be": {ask(func(e *Echo) { e.Size = 9216 }), true},
		"larger":             {ask(func(e *Echo) { e.Size = 9217 }), false},
		"less than nothing":  {ask(func(e *Echo) { e.Size = -1 }), false},
		"from nobody":        {ask(func(e *Echo) { e.From = netip.Addr{} }), false},
		"to nobody":          {ask(func(e *Echo) { e.To = netip.Addr{} }), false},
		"of two families":    {ask(func(e *Echo) { e.To = netip.MustParseAddr("fd00::1") }), false},
		"as many as may be":  {slices.Repeat(ask(func(*Echo) {}), 500), true},
		"one more":           {slices.Repeat(ask(func(*Echo) {}), 501), false},
		"none":               {nil, true},
	} {
		if err := CheckEchoes(test.list); (err == nil) != test.ok {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, test := range []struct {
		b  Bench
		ok bool
	}{
		{Bench{Interface: "hub-1", Kbps: LeastBench}, true},
		{Bench{Interface: "hub-1", Kbps: LeastBench - 1}, false},
		{Bench{Interface: "hub-1", Kbps: 1_000_000}, true},
		{Bench{Interface: "hub-1", Kbps: 1_000_001}, false},
		{Bench{Interface: "hub/1", Kbps: LeastBench}, false},
	} {
		if err := test.b.Check(); (err == nil) != test.ok {
			t.Errorf("%+v: %v", test.b, err)
		}
	}
	for name, ok := range map[string]bool{"hub-1": true, strings.Repeat("a", 15): true, strings.Repeat("a", 16): false, "a/b": false, "": false, "a b": false} {
		if IsInterface(name) != ok {
			t.Errorf("%q may be an interface's name: %v", name, !ok)
		}
	}
}

// What a configuration and what is seen say of themselves.
func TestWhatGatewaysHave(t *testing.T) {
	p := Passing{Policed: true, Deny: true, Policy: []Entry{{Rule: 1}, {Rule: 1, Leaving: true}, {Rule: 3}}}
	if got := p.Rules(); !slices.Equal(got, []int{1, 3, 0}) {
		t.Errorf("its rules are %v", got)
	}
	if p.Deny = false; !slices.Equal(p.Rules(), []int{1, 3}) {
		t.Errorf("with a permit last its rules are %v", p.Rules())
	}
	if p = (Passing{Deny: true}); len(p.Rules()) != 0 {
		t.Errorf("without a policy its rules are %v", p.Rules())
	}
	for _, test := range []struct {
		shaping []Class
		link    string
		up      int
		shapes  bool
	}{
		{[]Class{{Zone: "backup"}}, "fibre", 1, true},
		{nil, "fibre", 1, false},
		{[]Class{{Zone: "backup"}}, "fibre", 0, false},
		{[]Class{{Zone: "backup"}}, "other", 1, false},
	} {
		c := Config{Shaping: test.shaping, Links: []Link{{Key: "fibre", Up: test.up}}, Tunnels: []Tunnel{{Interface: "hub-1", Link: test.link}}}
		if c.Shapes() != test.shapes {
			t.Errorf("%+v shapes: %v", test, !test.shapes)
		}
	}
	c := Config{Tunnels: []Tunnel{{Interface: "hub-1"}, {Interface: "hub-2"}}}
	if c.Tunnel("hub-2") != &c.Tunnels[1] || c.Tunnel("hub-3") != nil {
		t.Error("a tunnel is not found by its name")
	}
	w := WireGuard{PublicKey: "a", Also: "b"}
	if !slices.Equal(w.Keys(), []string{"a", "b"}) || !slices.Equal((&WireGuard{PublicKey: "a"}).Keys(), []string{"a"}) {
		t.Error("its keys are others")
	}
	ways := []Way{
		{ID: 7, Groups: []Group{{Members: []Member{{Interface: "a"}, {Interface: "b"}}}, {Members: []Member{{Interface: "c"}}}}},
		{ID: 8, Groups: []Group{{Members: []Member{{Interface: "d"}}}}},
		{ID: 9, Groups: []Group{{Members: []Member{{Interface: "e"}}}}},
	}
	s := State{Ways: []WayState{{ID: 7, Group: 2}, {ID: 8, Group: 0}, {ID: 9, Group: 2}}}
	if got := slices.Sorted(maps.Keys(s.Carries(ways))); !slices.Equal(got, []string{"c"}) {
		t.Errorf("%v carry", got)
	}
	if s.Ways[0].Group = 1; !slices.Equal(slices.Sorted(maps.Keys(s.Carries(ways))), []string{"a", "b"}) {
		t.Errorf("by the first group %v carry", s.Carries(ways))
	}
	host := netip.MustParseAddr("10.0.0.9")
	seen := &Looked{Tunnels: []LookedTunnel{{Interface: "hub-1"}}, Begun: []Begun{{Host: host.Next(), Flows: 3}, {Host: host, Flows: 2}}}
	if seen.Began(host) != 2 || seen.Began(host.Prev()) != 0 || (*Looked)(nil).Began(host) != 0 {
		t.Error("other hosts began flows")
	}
	if seen.Of("hub-1") != &seen.Tunnels[0] || seen.Of("hub-2") != nil || (*Looked)(nil).Of("hub-1") != nil {
		t.Error("what was seen of a tunnel is not found")
	}
}

// The best path that lives begins at a neighbour; a dead tunnel anywhere on it lets the next be
// taken.
func TestTheFirstPathThatLives(t *testing.T) {
	told := Telling{
		Me: 1, To: []Destination{{Number: 4, Order: 1}, {Number: 9, Order: 2}},
		Orders: []Order{{ID: 1, Paths: []Path{{ID: 1, Via: []int{2, 3}}, {ID: 2}, {ID: 3, Via: []int{5}}}}, {ID: 2, Paths: []Path{{ID: 1, Via: []int{2}}}}},
	}
	for _, test := range []struct {
		to, want int
		dead     [][2]int
	}{
		{4, 2, nil},
		{4, 4, [][2]int{{1, 2}}},
		{4, 4, [][2]int{{2, 3}}},
		{4, 4, [][2]int{{3, 4}}},
		{4, 5, [][2]int{{3, 4}, {1, 4}}},
		{4, 0, [][2]int{{3, 4}, {1, 4}, {5, 4}}},
		{9, 2, [][2]int{{3, 4}}},
		{8, 0, nil},
		{10, 0, nil},
	} {
		got := told.First(test.to, func(a, b int) bool { return !slices.Contains(test.dead, [2]int{a, b}) })
		if got != test.want {
			t.Errorf("to %d with %v dead: %d, want %d", test.to, test.dead, got, test.want)
		}
	}
}

func TestWhatIsCarried(t *testing.T) {
	c := Config{Tunnels: []Tunnel{{Interface: "hub-1", WireGuard: &WireGuard{}}}}
	if !c.Carries(estate.WireGuard) || c.Carries(estate.IPsec) || (&Config{}).Carries(estate.WireGuard) {
		t.Error("a tunnel of WireGuard is taken for another")
	}
}
