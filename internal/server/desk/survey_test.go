package desk

import (
	"testing"

	"wideknot/core/estate"
)

// An edit of an overlay is named by what it changes.
func TestEditsOfOverlaysAreNamed(t *testing.T) {
	was := estate.Overlay{Key: "ops", Shape: estate.Custom, Hubs: []string{"a", "b"}, Direct: [][]string{{"c", "d"}}}
	for _, c := range []struct {
		change func(*estate.Overlay)
		want   string
	}{
		{func(*estate.Overlay) {}, "Shape ops"},
		{func(o *estate.Overlay) { o.Costs = &estate.Costs{HubHub: 150} }, "Shape ops: costs"},
		{func(o *estate.Overlay) { o.Hubs = []string{"b", "a"} }, "Shape ops: hubs"},
		{func(o *estate.Overlay) { o.Shape, o.Direct = estate.FullMesh, nil }, "Shape ops: direct, shape"},
		{func(o *estate.Overlay) { o.PresharedKeys = true }, "Shape ops: preshared keys"},
	} {
		is := was
		c.change(&is)
		if got, err := shapingOf(&was, &is); err != nil || got != c.want {
			t.Errorf("%q, %v; want %q", got, err, c.want)
		}
	}
	if got, err := shapingOf(nil, &was); err != nil || got != "Shape ops" {
		t.Errorf("a new one: %q, %v", got, err)
	}
}
