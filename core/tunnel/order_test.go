package tunnel

import (
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/sample"
)

// What an engineer put first comes first at both ends, whichever site is named
// first; the others follow by rank, nothing is renumbered, and links that are
// gone count for nothing.
func TestTunnelOrder(t *testing.T) {
	e, err := sample.Estate(sample.Options{Sites: 4, Hubs: 2, Links: 3, Seed: 1})
	if err != nil {
		t.Fatal(err)
	}
	before := Derive(e)
	e.Allocations = before.Allocations()
	spoke, hub := e.Overlays[0].Spokes[0].Site, e.Overlays[0].Hubs[1]
	idents := func(p *Plan) []string {
		var out []string
		for _, peer := range p.Peers(p.SiteIndex(spoke)) {
			if p.Site(peer.Remote.Site).Key == hub {
				out = append(out, p.Ident(peer.Tunnel))
			}
		}
		return out
	}
	was := idents(before)
	last := was[len(was)-1]
	for _, between := range [][]string{{spoke, hub}, {hub, spoke}} {
		changed := e.Clone()
		changed.Overlays[0].TunnelOrder = []estate.PairOrder{{Between: between, First: []string{"gone/x gone/y", last}}}
		if problems := estate.Validate(changed); len(problems) > 0 {
			t.Fatal(problems)
		}
		after := Derive(changed)
		is := idents(after)
		if is[0] != last || strings.Join(is[1:], ",") != strings.Join(was[:len(was)-1], ",") {
			t.Errorf("%v became %v", was, is)
		}
		for _, peer := range after.Peers(after.SiteIndex(hub)) {
			if after.Ident(peer.Tunnel) == last && peer.Rank != 1 {
				t.Errorf("the hub ranks it %d", peer.Rank)
			}
		}
		if !after.Allocations().Equal(e.Allocations) {
			t.Error("an order renumbers tunnels")
		}
	}
	e.Overlays[0].TunnelOrder = []estate.PairOrder{{Between: []string{spoke}}, {Between: []string{spoke, "nowhere"}}}
	if problems := estate.Validate(e); len(problems) != 2 {
		t.Errorf("%v", problems)
	}
}
