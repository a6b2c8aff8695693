package tunnel

import (
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"testing"

	"wideknot/core/estate"
)

// Two overlays draw from the same ports and slots of a site, and from pools of
// their own; taking one away changes nothing in the other.
func TestOverlaysDoNotDisturbEachOther(t *testing.T) {
	e := sketch(t, ops("h", "s", "u"), "h a:static 10.0.0.0/24", "s x:nat 10.0.1.0/24", "u x:static 10.0.2.0/24")
	mesh := estate.Overlay{Key: "mesh", Shape: estate.FullMesh, Transit: []netip.Prefix{netip.MustParsePrefix("100.97.0.0/24")}, Spokes: []estate.Spoke{{Site: "h"}, {Site: "s"}, {Site: "u"}}}
	e.Overlays = append(e.Overlays, mesh)
	p := Derive(e)
	invariants(t, p)
	before := map[string]string{}
	for i := range e.Sites {
		for _, peer := range p.Peers(i) {
			before[e.Sites[i].Key+" "+peer.Overlay.Spec.Key+" "+p.Ident(peer.Tunnel)] = fmt.Sprint(peer.Interface, peer.Local.UDP, peer.Local.Address4)
		}
	}
	if len(before) != 10 {
		t.Fatalf("%d ends, want 10: %v", len(before), before)
	}
	alone := e.Clone()
	alone.Allocations, alone.Overlays = p.Allocations(), alone.Overlays[1:]
	q := Derive(alone)
	for i := range alone.Sites {
		for _, peer := range q.Peers(i) {
			id := e.Sites[i].Key + " mesh " + q.Ident(peer.Tunnel)
			if now := fmt.Sprint(peer.Interface, peer.Local.UDP, peer.Local.Address4); now != before[id] {
				t.Errorf("%s: %s became %s", id, before[id], now)
			}
		}
	}
}

// When a pool runs dry, what vanished tunnels had is given away last, and a
// tunnel that comes back then takes something else.
func TestStaleNumbersAreGivenAwayLast(t *testing.T) {
	o := ops("h", "s", "u")
	o.Transit = []netip.Prefix{netip.MustParsePrefix("100.96.0.0/30")} // two tunnels
	e := sketch(t, o, "h a:static 10.0.0.0/24", "s x:nat", "u x:nat", "v x:nat")
	p := Derive(e)
	without := e.Clone()
	without.Allocations = p.Allocations()
	without.Overlays[0].Spokes = []estate.Spoke{{Site: "s"}, {Site: "v"}}
	q := Derive(without)
	if q.Overlays[0].Starved != 0 {
		t.Fatal("the address of the vanished tunnel was not given away")
	}
	if _, kept := q.Allocations().Tunnels["ops"]["h/a u/x"]; kept {
		t.Error("the record still promises what was given away")
	}
	invariants(t, q)
}

// A pool gives what fits into it: a tunnel takes two addresses, a site one, and
// the first address of a pool of sites is no host's.
func TestPoolsAtTheirEdge(t *testing.T) {
	for _, c := range []struct {
		pool    string
		perSite bool
		gives   int
	}{
		{"100.96.0.0/32", false, 0}, {"100.96.0.0/31", false, 1}, {"100.96.0.0/30", false, 2}, {"100.96.0.0/29", false, 4},
		{"100.96.0.0/32", true, 0}, {"100.96.0.0/31", true, 1}, {"100.96.0.0/30", true, 3},
		{"fd00::/128", false, 0}, {"fd00::/127", false, 1}, {"fd00::/126", true, 3},
	} {
		p := newPool(netip.MustParsePrefix(c.pool), c.perSite)
		n := 0
		for ; n < 10; n++ {
			block, ok := p.give()
			if !ok {
				break
			}
			if number, known := p.number(block); !known || !p.given.has(number) {
				t.Errorf("%s gave %s, which it does not know", c.pool, block)
			}
		}
		if n != c.gives {
			t.Errorf("%s, per site %v: %d given, not %d", c.pool, c.perSite, n, c.gives)
		}
	}
}

// While numbers are left that nobody ever had, those of a site that went are
// kept for its return.
func TestNumbersWaitForWhatWent(t *testing.T) {
	o := ops("h", "s", "u")
	e := sketch(t, o, "h a:static 10.0.0.0/24", "s x:nat", "u x:nat", "v x:nat")
	before := Derive(e).Allocations().Tunnels["ops"]["h/a u/x"]
	swapped := e.Clone()
	swapped.Allocations = Derive(e).Allocations()
	swapped.Overlays[0].Spokes = []estate.Spoke{{Site: "s"}, {Site: "v"}}
	fresh := Derive(swapped).Allocations()
	if v := fresh.Tunnels["ops"]["h/a v/x"]; v.Slots == before.Slots || v.Ports == before.Ports || slices.Equal(v.Transit, before.Transit) {
		t.Errorf("v was given %+v, what u had", v)
	}
	back := swapped.Clone()
	back.Allocations = fresh
	back.Overlays[0].Spokes = append(back.Overlays[0].Spokes, estate.Spoke{Site: "u"})
	if after := Derive(back).Allocations().Tunnels["ops"]["h/a u/x"]; after.Slots != before.Slots || after.Ports != before.Ports || !slices.Equal(after.Transit, before.Transit) {
		t.Errorf("u came back to %+v, and had %+v", after, before)
	}
}

// What went is remembered where nothing else changed, too.
func TestWhatWentIsRemembered(t *testing.T) {
	e := sketch(t, ops("h", "s", "u"), "h a:static 10.0.0.0/24", "s x:nat", "u x:nat")
	before := Derive(e).Allocations()
	e.Allocations = Derive(e).Allocations()
	e.Overlays[0].Spokes = e.Overlays[0].Spokes[:1]
	if after := Derive(e).Allocations(); !reflect.DeepEqual(after.Tunnels, before.Tunnels) {
		t.Errorf("%+v is remembered of %+v", after.Tunnels, before.Tunnels)
	}
}
