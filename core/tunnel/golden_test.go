package tunnel

import (
	"fmt"
	"path/filepath"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/sample"
	"wideknot/examples"
	"wideknot/golden"
)

// Both ends of every tunnel of two examples and of some small estates of any features, the
// numbers they are given, and those that are kept after an edit.
func TestSheetsAreGolden(t *testing.T) {
	for _, name := range []string{"three-sites", "load-sharing"} {
		e, err := examples.Estate(name)
		if err != nil {
			t.Fatal(err)
		}
		golden.JSON(t, filepath.Join("testdata", name+".json"), bothEnds(t, Derive(e)))
	}
	for _, seed := range []uint64{7, 17, 20, 24} {
		e := sample.Mixed(seed)
		if seed == 20 {
			e.Overlays[0].Transport, e.Overlays[0].PresharedKeys = estate.IPsec, false
		}
		p := Derive(e)
		p.Estate.Allocations = p.Allocations()
		edited := Derive(sample.Edit(p.Estate, seed))
		golden.JSON(t, filepath.Join("testdata", "mixed", fmt.Sprintf("%d.json", seed)), map[string]any{
			"ends": bothEnds(t, p), "given": p.Estate.Allocations, "edited": edited.Allocations(),
		})
	}
}

func bothEnds(t *testing.T, p *Plan) map[string]BothEnds {
	t.Helper()
	out := map[string]BothEnds{}
	for i := range p.Overlays {
		o := &p.Overlays[i]
		for j := range o.Adjacencies {
			for k := range o.Adjacencies[j].Tunnels {
				ident := p.Ident(&o.Adjacencies[j].Tunnels[k])
				if out[o.Spec.Key+" "+ident], _ = p.BothEnds(o.Spec.Key, ident); len(out[o.Spec.Key+" "+ident].Lines) == 0 {
					t.Errorf("%s has no sheet", ident)
				}
			}
		}
	}
	return out
}
