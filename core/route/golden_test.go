package route_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"net/netip"
	"os"
	"path/filepath"
	"testing"

	"wideknot/core/estate"

	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
)

var update = flag.Bool("update", false, "write the golden files")

// What screens and the command line show of two examples and of a mesh: the
// loom, every pair, every site, and packets between their first subnets.
func TestSheetsAreGolden(t *testing.T) {
	for name, change := range map[string]func(e *estate.Estate){
		"breakout": func(*estate.Estate) {}, "load-sharing": func(*estate.Estate) {},
		"mesh": func(e *estate.Estate) {
			e.Overlays[0].Shape, e.Overlays[0].Hubs, e.Overlays[0].Spokes = estate.FullMesh, nil, nil
			for i := range e.Sites {
				e.Overlays[0].Spokes = append(e.Overlays[0].Spokes, estate.Spoke{Site: e.Sites[i].Key})
			}
		},
	} {
		file := name
		if name == "mesh" {
			file = "two-hubs"
		}
		e, err := examples.Estate(file)
		if err != nil {
			t.Fatal(err)
		}
		change(e)
		m := route.Build(tunnel.Derive(e))
		type sheets struct {
			Looms    []route.Loom
			Windows  []route.LoomWindow
			Pairs    []route.PairSheet
			Sites    []route.SiteSheet
			Followed []route.Followed
		}
		var out sheets
		for i := range m.Plan.Overlays {
			o := &m.Plan.Overlays[i]
			out.Looms = append(out.Looms, m.Loom(o))
			out.Windows = append(out.Windows, m.LoomWindow(o, 0, 100, 0, 100), m.LoomWindow(o, 1, 1, 1, 1), m.LoomWindow(o, 99, 1, 99, 1))
			for _, x := range o.Members {
				for _, y := range o.Members {
					if x < y {
						out.Pairs = append(out.Pairs, m.PairSheet(i, x, y))
					}
				}
			}
		}
		for i := range e.Sites {
			out.Sites = append(out.Sites, m.SiteSheet(i))
			for j := range e.Sites {
				if i == j || len(e.Sites[i].Subnets)*len(e.Sites[j].Subnets) == 0 {
					continue
				}
				first := func(n int) netip.Addr { return e.Sites[n].Subnets[0].Prefix.Addr().Next() }
				out.Followed = append(out.Followed, m.Followed(m.Follow(route.Packet{From: first(i), To: first(j), Protocol: "tcp", Port: 443})))
			}
		}
		golden(t, filepath.Join("testdata", name+".json"), out)
	}
}

// golden compares a value, written as JSON, with a file, or writes it.
func golden(t *testing.T, path string, value any) {
	t.Helper()
	text, err := json.MarshalIndent(value, "", " ")
	if err != nil {
		t.Fatal(err)
	}
	if *update {
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, text, 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	want, err := os.ReadFile(path)
	if err != nil || !bytes.Equal(text, want) {
		t.Errorf("%s differs (%v); go test -update writes it anew", path, err)
	}
}
