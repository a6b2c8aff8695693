package route

import (
	"slices"

	"wideknot/core/estate"
	"wideknot/core/tunnel"
)

// Loom is the frame of an overlay seen pair by pair: rows are its sites, region
// by region, columns their hubs, or all sites of a mesh. What its cells show is
// asked for in windows, since a mesh of 1,000 sites has a million of them.
type Loom struct {
	Columns []string   `json:"columns" doc:"sites"`
	Rows    []LoomRow  `json:"rows"`
	Regions []LoomBand `json:"regions" doc:"of a mesh: what joins the sites of two regions"`
}

// LoomRow is a site of the overlay.
type LoomRow struct {
	Site   string   `json:"site"`
	Name   string   `json:"name"`
	Region string   `json:"region"`
	Role   string   `json:"role" enum:"hub,spoke,direct"`
	Own    bool     `json:"own" doc:"has a hub order of its own"`
	Hubs   []string `json:"hubs" doc:"in order"`
}

// LoomBand sums up the pairs between two regions, or within one.
type LoomBand struct {
	A       string `json:"a" doc:"region"`
	B       string `json:"b" doc:"region"`
	Pairs   int    `json:"pairs"`
	Apart   int    `json:"apart" doc:"pairs that no tunnel can serve"`
	Tunnels int    `json:"tunnels"`
}

// LoomWindow is a part of the loom: its rows, each with one pair for each
// column. An empty pair is none.
type LoomWindow struct {
	Pairs [][]LoomPair `json:"pairs"`
}

// LoomPair is a pair of sites.
type LoomPair struct {
	Position int    `json:"position" doc:"of the hub in the site's order; 0 for other kinds of pair"`
	Tunnels  int    `json:"tunnels"`
	Joined   bool   `json:"joined" doc:"the overlay wants them joined"`
	Apart    string `json:"apart,omitempty" doc:"why no tunnel can serve them"`
}

// loomSites lists the sites of the rows, the regions in the estate's order, and
// of the columns.
func (m *Map) loomSites(o *tunnel.Overlay) (rows, columns []int) {
	regions := map[string]int{}
	for _, r := range m.Plan.Estate.About.Regions {
		regions[r.Key] = len(regions)
	}
	place := func(site int) int {
		if i, ok := regions[m.Plan.Site(site).Region]; ok {
			return i
		}
		return len(regions)
	}
	rows = slices.Clone(o.Members)
	slices.SortStableFunc(rows, func(x, y int) int { return place(x) - place(y) })
	if o.Spec.Shape == estate.FullMesh {
		return rows, rows
	}
	return rows, o.Hubs
}

// Loom returns the frame of an overlay's loom.
func (m *Map) Loom(o *tunnel.Overlay) Loom {
	rows, columns := m.loomSites(o)
	out := Loom{Columns: []string{}, Rows: []LoomRow{}, Regions: []LoomBand{}}
	for _, c := range columns {
		out.Columns = append(out.Columns, m.Plan.Site(c).Key)
	}
	spokes := map[string]*estate.Spoke{}
	for i := range o.Spec.Spokes {
		spokes[o.Spec.Spokes[i].Site] = &o.Spec.Spokes[i]
	}
	for _, site := range rows {
		s := m.Plan.Site(site)
		one := LoomRow{Site: s.Key, Name: s.Name, Region: s.Region, Role: "direct", Hubs: []string{}}
		if o.IsHub(site) {
			one.Role = "hub"
		} else if spoke := spokes[s.Key]; spoke != nil {
			one.Role, one.Own = "spoke", len(spoke.Hubs) > 0
			one.Hubs = append(one.Hubs, o.Spec.HubOrder(*spoke)...)
		}
		out.Rows = append(out.Rows, one)
	}
	if o.Spec.Shape == estate.FullMesh {
		out.Regions = m.bands(o)
	}
	return out
}

// bands sums up a mesh by the regions of its pairs.
func (m *Map) bands(o *tunnel.Overlay) []LoomBand {
	place := map[[2]string]int{}
	out := []LoomBand{}
	for i := range o.Adjacencies {
		a := &o.Adjacencies[i]
		x, y := m.Plan.Site(a.A).Region, m.Plan.Site(a.B).Region
		id := [2]string{min(x, y), max(x, y)}
		at, ok := place[id]
		if !ok {
			at = len(out)
			place[id] = at
			out = append(out, LoomBand{A: id[0], B: id[1]})
		}
		out[at].Pairs++
		out[at].Tunnels += len(a.Tunnels)
		if len(a.Tunnels) == 0 {
			out[at].Apart++
		}
	}
	return out
}

// LoomWindow cuts a window out of the loom. What lies outside the loom is left
// out of it.
func (m *Map) LoomWindow(o *tunnel.Overlay, row, rows, column, columns int) LoomWindow {
	down, across := m.loomSites(o)
	part := func(of []int, from, n int) []int { return of[min(from, len(of)):min(from+n, len(of))] }
	down, across = part(down, row, rows), part(across, column, columns)
	out := LoomWindow{Pairs: make([][]LoomPair, len(down))}
	rowOf, columnOf := map[int]int{}, map[int]int{}
	for i, site := range across {
		columnOf[site] = i
	}
	for i, site := range down {
		rowOf[site] = i
		out.Pairs[i] = make([]LoomPair, len(across))
	}
	for i := range o.Adjacencies {
		a := &o.Adjacencies[i]
		for _, ends := range [2][2]int{{a.A, a.B}, {a.B, a.A}} {
			r, in := rowOf[ends[0]]
			if !in {
				continue
			}
			c, in := columnOf[ends[1]]
			if !in {
				continue
			}
			pair := &out.Pairs[r][c]
			pair.Joined, pair.Tunnels, pair.Position = true, len(a.Tunnels), a.Position
			if len(a.Tunnels) == 0 {
				if why := m.Plan.WhyApart(o, a); len(why) > 0 {
					pair.Apart = why[0]
				}
			}
		}
	}
	return out
}
