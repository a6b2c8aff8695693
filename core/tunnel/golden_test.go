package tunnel

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"testing"

	"wideknot/examples"
)

var update = flag.Bool("update", false, "write the golden files")

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
		text, err := json.MarshalIndent(ends, "", " ")
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join("testdata", name+".json")
		if *update {
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(path, text, 0o644); err != nil {
				t.Fatal(err)
			}
			continue
		}
		if want, err := os.ReadFile(path); err != nil || !bytes.Equal(text, want) {
			t.Errorf("%s differs (%v); go test -update writes it anew", path, err)
		}
	}
}
