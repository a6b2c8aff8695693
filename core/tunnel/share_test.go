package tunnel

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"wideknot/core/estate"
)

// twoEnds is a hub and a spoke with links written as KEY RANK WEIGHT, a ring/
// before keys on a private underlay.
func twoEnds(spoke, hub string) *estate.Estate {
	links := func(text string, third byte) (out []estate.Link) {
		for i, one := range strings.Split(text, ", ") {
			l := estate.Link{Reach: estate.Static, Addresses: []netip.Addr{netip.AddrFrom4([4]byte{198, 51, 100, third + byte(i)})}}
			fmt.Sscan(one, &l.Key, &l.Rank, &l.Weight)
			if key, ring := strings.CutPrefix(l.Key, "ring/"); ring {
				l.Key, l.Underlay = key, "ring"
			}
			out = append(out, l)
		}
		return out
	}
	return &estate.Estate{
		Format: estate.Format, About: estate.About{Name: "Two"},
		Sites: []estate.Site{{Key: "hub", Name: "hub", Links: links(hub, 1)}, {Key: "spoke", Name: "spoke", Links: links(spoke, 100)}},
		Overlays: []estate.Overlay{{
			Key: "ops", Shape: estate.HubAndSpoke, Transport: estate.WireGuard, Transit: []netip.Prefix{netip.MustParsePrefix("100.64.0.0/24")},
			Hubs: []string{"hub"}, Spokes: []estate.Spoke{{Site: "spoke"}},
		}},
	}
}

// orderOf writes the tunnels of the only pair as SPOKE-HUB, those that share
// the load in brackets with their weights.
func orderOf(a *Adjacency, p *Plan) string {
	var out []string
	for k := 0; k < len(a.Tunnels); {
		from, to := a.Group(k)
		var group []string
		for _, t := range a.Tunnels[from:to] {
			name := p.Link(&t.A).Key + "-" + p.Link(&t.B).Key
			if t.Weight > 0 {
				name += fmt.Sprint("*", t.Weight)
			}
			group = append(group, name)
		}
		text := strings.Join(group, " ")
		if len(group) > 1 {
			text = "(" + text + ")"
		}
		out = append(out, text)
		k = to
	}
	return strings.Join(out, " ")
}

// Tunnels of links that share the load stand together in the one order of both
// ends, with the product of the weights; all else keeps its place.
func TestTunnelsThatShareTheLoad(t *testing.T) {
	for _, c := range []struct{ spoke, hub, order string }{
		{"fibre 1 3, copper 1 1, cell 2", "wan 1", "(fibre-wan*3 copper-wan*1) cell-wan"},
		{"fibre 1 3, copper 1 1", "a 1, b 2", "(fibre-a*3 copper-a*1) (fibre-b*3 copper-b*1)"},
		{"fibre 1 3, copper 1 1", "b 1 2, a 1 5", "(fibre-a*15 fibre-b*6 copper-a*5 copper-b*2)"},
		{"fibre 1, copper 2", "b 1 2, a 1 5", "(fibre-a*5 fibre-b*2) (copper-a*5 copper-b*2)"},
		{"fibre 1 3, copper 1 1", "b 1, a 1", "(fibre-a*3 copper-a*1) (fibre-b*3 copper-b*1)"}, // equal at the hub, but not asked for
		{"fibre 1, copper 1 1", "wan 1", "copper-wan fibre-wan"},                               // nobody to share with
		{"c 1, b 1 2, a 1 2", "wan 1", "(a-wan*2 b-wan*2) c-wan"},
		{"ring/r 1 1, fibre 1 1", "wan 1, ring/r 1", "r-r fibre-wan"}, // a private underlay comes before the internet
		{"ring/r 1 1, ring/s 1 4, fibre 2", "wan 1, ring/r 1", "(s-r*4 r-r*1) fibre-wan"},
	} {
		e := twoEnds(c.spoke, c.hub)
		if problems := estate.Validate(e); len(problems) > 0 {
			t.Fatal(problems)
		}
		p := Derive(e)
		if got := orderOf(&p.Overlays[0].Adjacencies[0], p); got != c.order {
			t.Errorf("%s to %s: %s, want %s", c.spoke, c.hub, got, c.order)
		}
	}
}

func TestSharingKeepsToPairingAndToTheEngineer(t *testing.T) {
	for _, c := range []struct {
		what   string
		change func(*estate.Overlay)
		order  string
	}{
		{"matched", func(o *estate.Overlay) { o.Pairing = estate.Matched }, "(fibre-a*3 copper-a*1)"},
		{"the first", func(o *estate.Overlay) { o.Pairing, o.PairingLimit = estate.TopN, 1 }, "fibre-a"},
		{"the first three", func(o *estate.Overlay) { o.Pairing, o.PairingLimit = estate.TopN, 3 }, "(fibre-a*3 copper-a*1) fibre-b"},
		{"one put first", func(o *estate.Overlay) {
			o.TunnelOrder = []estate.PairOrder{{Between: []string{"hub", "spoke"}, First: []string{estate.TunnelIdent("hub", "a", "spoke", "fibre")}}}
		}, "fibre-a copper-a (fibre-b*3 copper-b*1)"},
		{"both of a group put first", func(o *estate.Overlay) {
			o.TunnelOrder = []estate.PairOrder{{Between: []string{"hub", "spoke"}, First: []string{estate.TunnelIdent("hub", "b", "spoke", "fibre"), estate.TunnelIdent("hub", "b", "spoke", "copper")}}}
		}, "(fibre-b*3 copper-b*1) (fibre-a*3 copper-a*1)"},
	} {
		e := twoEnds("fibre 1 3, copper 1 1", "a 1, b 2")
		before := Derive(e)
		e.Allocations = before.Allocations()
		c.change(&e.Overlays[0])
		p := Derive(e)
		if got := orderOf(&p.Overlays[0].Adjacencies[0], p); got != c.order {
			t.Errorf("%s: %s, want %s", c.what, got, c.order)
		}
	}
	// Asking for it, or for another proportion, renumbers nothing.
	e := twoEnds("fibre 1, copper 2", "a 1, b 2")
	e.Allocations = Derive(e).Allocations()
	was := e.Allocations
	e.Sites[1].Links[0].Weight, e.Sites[1].Links[1].Weight, e.Sites[1].Links[1].Rank = 3, 1, 1
	if !Derive(e).Allocations().Equal(was) {
		t.Error("sharing the load renumbers tunnels")
	}
}
