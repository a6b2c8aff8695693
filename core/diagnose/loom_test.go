package diagnose

import (
	"fmt"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/outage"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// cellOf returns what a loom shows of a row and a column.
func cellOf(l *LiveLoom, row, column string) *LiveCell {
	for i := range l.Rows {
		if l.Rows[i].Site != row {
			continue
		}
		for j := range l.Rows[i].Cells {
			if l.Columns[l.Rows[i].Cells[j].Column].Site == column {
				return &l.Rows[i].Cells[j]
			}
		}
	}
	return nil
}

// Whatever single part is dead, the threads of each pair are dead that it kills and no others, both
// ways round, and the sum is of all pairs once.
func TestTheLoomShowsWhatIsDead(t *testing.T) {
	m := brindlewater(t)
	model := outage.New(m)
	for _, part := range model.Parts() {
		if part.Degree != outage.Dead || part.Kind == outage.Gateway || part.Kind == outage.Region || part.Kind == outage.Underlay {
			continue
		}
		known := reported(t, m, model, part)
		for _, g := range known.Gateways {
			g.Up = true
		}
		kills, err := model.Kills(part)
		if err != nil {
			t.Fatal(err)
		}
		for i := range m.Plan.Overlays {
			o := &m.Plan.Overlays[i]
			is := Weave(known, o, "")
			want := LiveCell{}
			for j := range o.Adjacencies {
				a := &o.Adjacencies[j]
				threads, lives := []Thread{}, 0
				first := false
				for l := range a.Tunnels {
					switch tun := &a.Tunnels[l]; {
					case tun.Mute:
					case kills.Dead(tun):
						threads = append(threads, ThreadDead)
					default:
						threads, lives = append(threads, ThreadStandsBy), lives+1
						first = first || tun.Lead == 0
					}
				}
				if len(threads) == 0 {
					continue
				}
				want.Pairs++
				switch {
				case lives == 0:
					want.Dead++
				case !first:
					want.Moved++
				case lives < len(threads):
					want.Thin++
				default:
					want.Whole++
				}
				x, y := m.Plan.Site(a.A).Key, m.Plan.Site(a.B).Key
				shown := 0
				for _, cell := range []*LiveCell{cellOf(&is, x, y), cellOf(&is, y, x)} {
					if cell == nil {
						continue
					}
					shown++
					if fmt.Sprint(cell.Threads) != fmt.Sprint(threads) || cell.Pairs != 1 {
						t.Errorf("%v, %s, %s and %s: %+v, want %v", part, o.Spec.Key, x, y, cell, threads)
					}
				}
				if shown == 0 {
					t.Errorf("%s: %s and %s are nowhere", o.Spec.Key, x, y)
				}
			}
			if fmt.Sprint(is.Sum) != fmt.Sprint(want) {
				t.Errorf("%v, %s: %+v, want %+v", part, o.Spec.Key, is.Sum, want)
			}
		}
	}
}

// A thread is what its gateways say: each cell one end, and one end alone is enough.
func TestAThreadIsWhatItsGatewaysSay(t *testing.T) {
	m := brindlewater(t)
	model := outage.New(m)
	o := &m.Plan.Overlays[0]
	var a *tunnel.Adjacency
	for i := range o.Adjacencies {
		if o.Adjacencies[i].Kind != tunnel.Direct && len(o.Adjacencies[i].Tunnels) > 2 && !o.Adjacencies[i].Tunnels[0].Mute {
			a = &o.Adjacencies[i]
			break
		}
	}
	x, y := m.Plan.Site(a.A).Key, m.Plan.Site(a.B).Key
	first := &a.Tunnels[0]
	for name, c := range map[string]struct {
		change func(near, far *Gateway)
		thread Thread
		cell   LiveCell
	}{
		"carries at one end":          {func(near, _ *Gateway) { near.Carries = map[string]bool{first.A.Interface: true} }, ThreadCarries, LiveCell{Whole: 1}},
		"well, without its state":     {func(near, far *Gateway) { near.State, far.State, near.Well, far.Well = nil, nil, true, true }, ThreadStandsBy, LiveCell{Whole: 1}},
		"dead by one end":             {func(near, far *Gateway) { find(far, first.B.Interface).Up = false }, ThreadDead, LiveCell{Moved: 1}},
		"not in what an end reports":  {func(near, far *Gateway) { find(near, first.A.Interface).Interface = "gone" }, ThreadDead, LiveCell{Moved: 1}},
		"beyond its limits":           {func(near, far *Gateway) { find(near, first.A.Interface).Beyond = true }, ThreadBeyond, LiveCell{Moved: 1}},
		"one end away":                {func(near, far *Gateway) { near.Up = false }, ThreadStandsBy, LiveCell{Whole: 1}},
		"one end away, the other not": {func(near, far *Gateway) { near.Up = false; find(far, first.B.Interface).Up = false }, ThreadDead, LiveCell{Moved: 1}},
		"both away":                   {func(near, far *Gateway) { near.Up, far.Up = false, false }, ThreadUnseen, LiveCell{Unseen: 1}},
		"one barred, the other away":  {func(near, far *Gateway) { near.Joined, far.Up = false, false }, ThreadUnseen, LiveCell{Unseen: 1}},
		"nothing reported yet":        {func(near, far *Gateway) { near.State, far.State = nil, nil }, ThreadUnseen, LiveCell{Unseen: 1}},
	} {
		known := reported(t, m, model)
		c.change(known.Gateways[x], known.Gateways[y])
		is := Weave(known, o, "")
		cell := cellOf(&is, x, y)
		if cell == nil {
			t.Fatalf("%s: no cell of %s and %s", name, x, y)
		}
		got := *cell
		got.Threads, got.Column, got.Pairs = nil, 0, 0
		if cell.Threads[0] != c.thread || fmt.Sprint(got) != fmt.Sprint(c.cell) {
			t.Errorf("%s: %+v, want %s and %+v", name, cell, c.thread, c.cell)
		}
	}
}

// Above FewSites rows are regions; those and the sites of the one that is unfolded sum up to the
// same, and a mesh has regions as columns, too.
func TestTheLoomByRegion(t *testing.T) {
	e, err := sample.Estate(sample.Options{Sites: 120, Links: 2, Seed: 3})
	if err != nil {
		t.Fatal(err)
	}
	e.Overlays = append(e.Overlays, estate.Overlay{Key: "web", Shape: estate.FullMesh})
	mesh := &e.Overlays[len(e.Overlays)-1]
	for i := range e.Sites[:90] {
		mesh.Spokes = append(mesh.Spokes, estate.Spoke{Site: e.Sites[i].Key})
	}
	mesh.Transit = e.Overlays[0].Transit
	m := route.Build(tunnel.Derive(e))
	model := outage.New(m)
	known := reported(t, m, model, outage.Part{Kind: outage.Link, Name: e.Sites[30].Key + "/" + e.Sites[30].Links[0].Key})
	region := e.Sites[30].Region
	for i := range m.Plan.Overlays {
		o := &m.Plan.Overlays[i]
		is := Weave(known, o, region)
		if !is.ByRegion || is.Left != 0 {
			t.Fatalf("%s: %d members, by region %v", o.Spec.Key, len(o.Members), is.ByRegion)
		}
		open, unfolded := LiveCell{}, LiveCell{}
		sites := 0
		for r := range is.Rows {
			row := &is.Rows[r]
			for c := range row.Cells {
				cell := &row.Cells[c]
				if n := cell.Whole + cell.Thin + cell.Moved + cell.Dead + cell.Unseen; n != cell.Pairs {
					t.Errorf("%s, %s%s: %+v", o.Spec.Key, row.Region, row.Site, cell)
				}
				switch {
				case row.Site != "" && row.Region != region:
					t.Errorf("%s has a row, and is of %s", row.Site, row.Region)
				case row.Region != region:
				case row.Site == "" && (is.Columns[cell.Column].Site != "" || is.Columns[cell.Column].Region != region):
					open.plus(cell)
				case row.Site != "" && (is.Columns[cell.Column].Site != "" || is.Columns[cell.Column].Region != region):
					unfolded.plus(cell)
				}
			}
			if row.Site == "" {
				sites += row.Sites
			}
		}
		open.Threads, unfolded.Threads = nil, nil
		if fmt.Sprint(open) != fmt.Sprint(unfolded) || open.Pairs == 0 || sites != len(o.Members) {
			t.Errorf("%s: the region %+v, its sites %+v; %d sites of %d", o.Spec.Key, open, unfolded, sites, len(o.Members))
		}
		if o.Spec.Shape == estate.FullMesh && is.Columns[0].Site != "" {
			t.Errorf("a mesh of %d has a column for each site", len(o.Members))
		}
	}
}

// At 1,000 sites, a carrier dead, with a region unfolded.
func BenchmarkWeave(b *testing.B) {
	m, _, k := thousand(b)
	for b.Loop() {
		if is := Weave(k, &m.Plan.Overlays[0], m.Plan.Site(500).Region); len(is.Rows) == 0 {
			b.Fatal(len(is.Columns))
		}
	}
}

func find(g *Gateway, name string) *gateway.TunnelState {
	for i := range g.State.Tunnels {
		if g.State.Tunnels[i].Interface == name {
			return &g.State.Tunnels[i]
		}
	}
	return &gateway.TunnelState{}
}
