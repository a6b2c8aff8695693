package tunnel

import (
	"path/filepath"
	"testing"

	"wideknot/examples"
	"wideknot/golden"
)

// Both ends of every tunnel of two examples, and what each site is told of its
// peers.
func TestSheetsAreGolden(t *testing.T) {
	for _, name := range []string{"three-sites", "load-sharing"} {
		e, err := examples.Estate(name)
		if err != nil {
			t.Fatal(err)
		}
		p := Derive(e)
		ends := map[string]BothEnds{}
		for i := range p.Overlays {
			o := &p.Overlays[i]
			for j := range o.Adjacencies {
				for k := range o.Adjacencies[j].Tunnels {
					ident := p.Ident(&o.Adjacencies[j].Tunnels[k])
					if ends[o.Spec.Key+" "+ident], _ = p.BothEnds(o.Spec.Key, ident); len(ends[o.Spec.Key+" "+ident].Lines) == 0 {
						t.Errorf("%s has no sheet", ident)
					}
				}
			}
		}
		golden.JSON(t, filepath.Join("testdata", name+".json"), ends)
	}
}
