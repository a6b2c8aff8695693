package outage

import (
	"fmt"
	"path/filepath"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/sample"
	"wideknot/examples"
	"wideknot/golden"
)

// What screens and the command line show of failures in two examples, and in some small
// estates of any features, of which one's hubs tell.
func TestSheetsAreGolden(t *testing.T) {
	for _, name := range []string{"breakout", "load-sharing"} {
		e, err := examples.Estate(name)
		if err != nil {
			t.Fatal(err)
		}
		golden.JSON(t, filepath.Join("testdata", name+".json"), sheets(t, e))
	}
	for _, c := range []struct {
		seed uint64
		tell bool
	}{{seed: 7, tell: true}, {seed: 8}, {seed: 13}, {seed: 17}, {seed: 23}, {seed: 28}} {
		e := sample.Mixed(c.seed)
		for i := range e.Overlays {
			e.Overlays[i].HubsTell = c.tell
		}
		golden.JSON(t, filepath.Join("testdata", "mixed", fmt.Sprintf("%d.json", c.seed)), sheets(t, e))
	}
}

// sheets is the grid of all single failures and of every two, each explained, courses, and how
// things stand.
func sheets(t *testing.T, e *estate.Estate) map[string]any {
	t.Helper()
	m := modelOf(e)
	singles := m.Singles(m.Parts())
	two, err := m.Together(singles, Choice{Kinds: []string{string(Link)}})
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]any{
		"grid": m.Grid(singles, Choice{}, 1000), "first": m.Grid(singles, Choice{}, 1), "links": m.Grid(singles, Choice{Kinds: []string{string(Link)}}, 1000),
		"together": m.Grid(two, Choice{}, 1000), "standing": m.Standing(), "csv": string(m.CSV(singles)),
	}
	details, courses := map[string]DetailSheet{}, map[string][]Moment{}
	for _, p := range m.Parts() {
		d, err := m.Explain(p)
		if err != nil {
			t.Fatal(err)
		}
		details[p.String()] = m.DetailSheet(d)
		for x := range e.Sites {
			for y := range x {
				if moments, err := m.Timeline(x, y, p); err == nil && moments != nil {
					courses[p.String()+" "+e.Sites[x].Key+" "+e.Sites[y].Key] = moments
				}
			}
		}
	}
	out["details"], out["courses"] = details, courses
	return out
}
