package route_test

import (
	"fmt"
	"net/netip"
	"path/filepath"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
	"wideknot/examples"
	"wideknot/golden"
)

// What screens and the command line show of two examples, of a mesh and of some small estates
// of any features.
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
		golden.JSON(t, filepath.Join("testdata", name+".json"), sheetsOf(e))
	}
	for _, seed := range []uint64{7, 10, 19, 26} {
		golden.JSON(t, filepath.Join("testdata", "mixed", fmt.Sprintf("%d.json", seed)), sheetsOf(sample.Mixed(seed)))
	}
}

// sheets are the loom, every pair, every site, and packets between their first subnets.
type sheets struct {
	Looms    []route.Loom
	Windows  []route.LoomWindow
	Pairs    []route.PairSheet
	Sites    []route.SiteSheet
	Followed []route.Followed
}

func sheetsOf(e *estate.Estate) (out sheets) {
	m := route.Build(tunnel.Derive(e))
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
			out.Followed = append(out.Followed, m.Followed(m.Follow(route.Packet{From: first(i), To: first(j), Protocol: "tcp", Port: 443}), route.Failing{}))
		}
	}
	return out
}
