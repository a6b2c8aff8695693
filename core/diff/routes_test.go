package diff

import (
	"slices"
	"testing"

	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
)

func TestRoutesBeforeAndAfter(t *testing.T) {
	old := derived(t, nil)
	if lines, moved := Routes(old, old, "tarn"); moved != 0 || len(lines) == 0 {
		t.Errorf("%d of %d lines move to where they are", moved, len(lines))
	}
	turned := derived(t, old, "{site: tarn}", "{site: tarn, hubs: [second, first]}")
	lines, moved := Routes(old, turned, "tarn")
	n := 0
	for _, l := range lines {
		if l.Moved != (l.Was != l.Is) {
			t.Errorf("%+v", l)
		}
		if l.Moved {
			n++
		}
		if l.Prefix.String() == "10.50.2.0/24" && (l.Was != "first-1 via first" || l.Is != "second-2 via second" || l.To != "second" || len(l.Behind) != 1) {
			t.Errorf("%+v", l)
		}
	}
	if n != moved || moved == 0 {
		t.Errorf("%d moved, %d counted", n, moved)
	}
	gone := derived(t, old, "10.50.4.0/24", "10.50.8.0/24")
	lines, _ = Routes(old, gone, "tarn")
	if last := lines[len(lines)-1]; last.Prefix.String() != "10.50.4.0/24" || last.Is != "" || !last.Moved {
		t.Errorf("a prefix that is gone: %+v", last)
	}
	if lines, moved := Routes(old, old, "nowhere"); len(lines) != 0 || moved != 0 {
		t.Error("a site that there is not has routes")
	}
}

// Other weights move routes, and say so at both ends, even where ranks stay.
func TestOtherPartsOfTheLoad(t *testing.T) {
	read := func(change ...string) *route.Map {
		e, err := examples.Estate("load-sharing", change...)
		if err != nil {
			t.Fatal(err)
		}
		return route.Build(tunnel.Derive(e))
	}
	old := read()
	for _, c := range []struct{ from, to, is, part string }{
		{"weight: 3", "weight: 4", "overgill-1 × 4 via overgill + overgill-2 × 1 via overgill", "part of the flows: 3 of 4 became 4 of 5"},
		{"weight: 1,", "weight: 2,", "overgill-1 × 3 via overgill + overgill-2 × 2 via overgill", "part of the flows: 3 of 4 became 3 of 5"},
		{"weight: 1,", "rank: 3,", "overgill-1 via overgill", "part of the flows: 3 of 4 became all"},
	} {
		new := read(c.from, c.to)
		d := Compare(old, new)
		if len(d.Moves) != 6 || d.Moves[0].Why != string(route.LoadSharing) || len(d.Touched) != 2 {
			t.Errorf("%s: %d routes move, %v are touched", c.to, len(d.Moves), d.Touched)
		}
		if !slices.ContainsFunc(d.Tunnels.Changed, func(x Change) bool { return slices.Contains(x.What, c.part) }) {
			t.Errorf("%s: %+v", c.to, d.Tunnels.Changed)
		}
		lines, _ := Routes(old, new, "tarn")
		for _, l := range lines {
			if l.To != "tarn" && (!l.Moved || l.Is != c.is || l.Was != "overgill-1 × 3 via overgill + overgill-2 × 1 via overgill") {
				t.Errorf("%s: %+v", c.to, l)
			}
		}
	}
}
