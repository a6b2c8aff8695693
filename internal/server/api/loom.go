package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/estate"
	"wideknot/core/tunnel"
	"wideknot/internal/server/desk"
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
func loomSites(v *desk.View, o *tunnel.Overlay) (rows, columns []int) {
	regions := map[string]int{}
	for _, r := range v.Plan.Estate.About.Regions {
		regions[r.Key] = len(regions)
	}
	place := func(site int) int {
		if i, ok := regions[v.Plan.Site(site).Region]; ok {
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

func loomOf(v *desk.View, o *tunnel.Overlay) Loom {
	rows, columns := loomSites(v, o)
	out := Loom{Columns: []string{}, Rows: []LoomRow{}, Regions: []LoomBand{}}
	for _, c := range columns {
		out.Columns = append(out.Columns, v.Plan.Site(c).Key)
	}
	spokes := map[string]*estate.Spoke{}
	for i := range o.Spec.Spokes {
		spokes[o.Spec.Spokes[i].Site] = &o.Spec.Spokes[i]
	}
	for _, m := range rows {
		s := v.Plan.Site(m)
		one := LoomRow{Site: s.Key, Name: s.Name, Region: s.Region, Role: "direct", Hubs: []string{}}
		if o.IsHub(m) {
			one.Role = "hub"
		} else if spoke := spokes[s.Key]; spoke != nil {
			one.Role, one.Own = "spoke", len(spoke.Hubs) > 0
			one.Hubs = append(one.Hubs, o.Spec.HubOrder(*spoke)...)
		}
		out.Rows = append(out.Rows, one)
	}
	if o.Spec.Shape == estate.FullMesh {
		out.Regions = bandsOf(v, o)
	}
	return out
}

func bandsOf(v *desk.View, o *tunnel.Overlay) []LoomBand {
	place := map[[2]string]int{}
	out := []LoomBand{}
	for i := range o.Adjacencies {
		a := &o.Adjacencies[i]
		x, y := v.Plan.Site(a.A).Region, v.Plan.Site(a.B).Region
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

// windowOf cuts a window out of the loom. What lies outside the loom is left
// out of it.
func windowOf(v *desk.View, o *tunnel.Overlay, row, rows, column, columns int) LoomWindow {
	down, across := loomSites(v, o)
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
				if why := v.Plan.WhyApart(o, a); len(why) > 0 {
					pair.Apart = why[0]
				}
			}
		}
	}
	return out
}

// PairSheet is all that can join two sites in an overlay.
type PairSheet struct {
	A       string       `json:"a" doc:"the leading end"`
	B       string       `json:"b"`
	Joined  bool         `json:"joined" doc:"the overlay wants them joined"`
	Kind    string       `json:"kind"`
	Cost    int          `json:"cost"`
	LinksA  []string     `json:"links_a"`
	LinksB  []string     `json:"links_b"`
	Tunnels []PairTunnel `json:"tunnels" doc:"in rank order"`
	Kept    []PairLinks  `json:"kept_apart" doc:"pairs of links without tunnel, and why"`
	Via     []string     `json:"via" doc:"the hubs that carry the traffic where no tunnel does"`
	Ordered bool         `json:"ordered" doc:"the engineer put some tunnels first"`
}

// PairTunnel is one tunnel of a pair.
type PairTunnel struct {
	Tunnel string `json:"tunnel"`
	LinkA  string `json:"link_a"`
	LinkB  string `json:"link_b"`
	Opens  string `json:"opens" enum:"a,b,both,nobody"`
	MTU    int    `json:"mtu"`
	Family string `json:"family"`

	Share *tunnel.Share `json:"share,omitempty" doc:"its part of the flows, where tunnels share the load"`
}

// PairLinks is a pair of links that carries no tunnel.
type PairLinks struct {
	LinkA string `json:"link_a"`
	LinkB string `json:"link_b"`
	Why   string `json:"why"`
}

func pairOf(v *desk.View, o *tunnel.Overlay, overlay, x, y int) PairSheet {
	key := func(i int) string { return v.Plan.Site(i).Key }
	out := PairSheet{A: key(x), B: key(y), LinksA: []string{}, LinksB: []string{}, Tunnels: []PairTunnel{}, Kept: []PairLinks{}, Via: []string{}}
	adjacency := &tunnel.Adjacency{A: x, B: y}
	for i := range o.Adjacencies {
		if a := &o.Adjacencies[i]; a.A == x && a.B == y || a.A == y && a.B == x {
			adjacency, out.Joined, out.Kind, out.Cost = a, true, string(a.Kind), a.Cost
			out.A, out.B = key(a.A), key(a.B)
		}
	}
	for _, l := range v.Plan.Site(adjacency.A).Links {
		out.LinksA = append(out.LinksA, l.Key)
	}
	for _, l := range v.Plan.Site(adjacency.B).Links {
		out.LinksB = append(out.LinksB, l.Key)
	}
	carried := map[[2]string]bool{}
	for i := range adjacency.Tunnels {
		t := &adjacency.Tunnels[i]
		one := PairTunnel{
			Tunnel: v.Plan.Ident(t), LinkA: v.Plan.Link(&t.A).Key, LinkB: v.Plan.Link(&t.B).Key, MTU: t.MTU, Family: string(t.Family), Opens: "a", Share: adjacency.Share(i),
		}
		if t.B.Calls {
			one.Opens = "b"
			if t.A.Calls {
				one.Opens = "both"
			}
		}
		if t.Mute {
			one.Opens = "nobody"
		}
		carried[[2]string{one.LinkA, one.LinkB}] = true
		out.Tunnels = append(out.Tunnels, one)
	}
	for _, pair := range v.Plan.LinkPairs(o, adjacency) {
		if carried[[2]string{pair.A.Key, pair.B.Key}] {
			continue
		}
		why := string(pair.Obstacle)
		if why == "" {
			why = "could carry a tunnel, but the overlay keeps fewer"
			if !out.Joined {
				why = "could carry a tunnel, but the overlay does not join the two"
			}
		}
		out.Kept = append(out.Kept, PairLinks{pair.A.Key, pair.B.Key, why})
	}
	if len(out.Tunnels) == 0 {
		if path := v.Routes.Path(overlay, x, y); len(path) > 2 {
			for _, hub := range path[1 : len(path)-1] {
				out.Via = append(out.Via, key(hub))
			}
		}
	}
	for i := range o.Spec.TunnelOrder {
		out.Ordered = out.Ordered || o.Spec.TunnelOrder[i].Of(out.A, out.B)
	}
	return out
}

const pairPath = "/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/pairs/{a}/{b}"

// overlayOf returns a state and the place of one of its overlays.
func (s *Server) overlayOf(ctx context.Context, at desk.Place, key string) (*desk.View, int, error) {
	v, err := s.Desk.View(ctx, at)
	if err != nil {
		return nil, 0, refusal(err)
	}
	i := slices.IndexFunc(v.Plan.Overlays, func(o tunnel.Overlay) bool { return o.Spec.Key == key })
	if i < 0 {
		return nil, 0, huma.Error404NotFound(fmt.Sprintf("there is no overlay %q", key))
	}
	return v, i, nil
}

func (s *Server) loom(a huma.API) {
	s.looms(a)
	s.pairs(a)
	s.hubOrder(a)
	s.bothEnds(a)
}

// looms registers the loom and its windows.
func (s *Server) looms(a huma.API) {
	huma.Register(a, operation("get-loom", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/loom", "Read an overlay pair by pair"),
		func(ctx context.Context, in *struct {
			InDraft
			Overlay string `path:"overlay" maxLength:"40"`
		}) (*answer[Loom], error) {
			v, i, err := s.overlayOf(ctx, in.place(), in.Overlay)
			if err != nil {
				return nil, err
			}
			return tagged(v, loomOf(v, &v.Plan.Overlays[i])), nil
		})
	huma.Register(a, operation("get-loom-window", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/loom/window", "Read the pairs of some rows and columns of the loom"),
		func(ctx context.Context, in *struct {
			InDraft
			Overlay string `path:"overlay" maxLength:"40"`
			Row     int    `query:"row" minimum:"0"`
			Rows    int    `query:"rows" minimum:"1" maximum:"4096" default:"64"`
			Column  int    `query:"column" minimum:"0"`
			Columns int    `query:"columns" minimum:"1" maximum:"64" default:"64"`
		}) (*answer[LoomWindow], error) {
			v, i, err := s.overlayOf(ctx, in.place(), in.Overlay)
			if err != nil {
				return nil, err
			}
			return tagged(v, windowOf(v, &v.Plan.Overlays[i], in.Row, in.Rows, in.Column, in.Columns)), nil
		})
}

// pairs registers what concerns two sites.
func (s *Server) pairs(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("get-pair", http.MethodGet, pairPath, "Read all that can join two sites"),
		func(ctx context.Context, in *struct {
			InDraft
			Overlay string `path:"overlay" maxLength:"40"`
			A       string `path:"a" maxLength:"40"`
			B       string `path:"b" maxLength:"40"`
		}) (*answer[PairSheet], error) {
			v, i, err := s.overlayOf(ctx, in.place(), in.Overlay)
			if err != nil {
				return nil, err
			}
			x, y := v.Plan.SiteIndex(in.A), v.Plan.SiteIndex(in.B)
			if x < 0 || y < 0 || x == y {
				return nil, huma.Error404NotFound("there are no such two sites")
			}
			return tagged(v, pairOf(v, &v.Plan.Overlays[i], i, x, y)), nil
		})
	huma.Register(a, operation("set-tunnel-order", http.MethodPut, pairPath+"/order", "Put tunnels of a pair first; both ends follow"),
		func(ctx context.Context, in *struct {
			Editing
			Overlay string `path:"overlay" maxLength:"40"`
			A       string `path:"a" maxLength:"40"`
			B       string `path:"b" maxLength:"40"`
			Body    struct {
				First []string `json:"first" maxItems:"64" doc:"tunnels; empty leaves the links' ranks to decide"`
			}
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) {
				return d.SetTunnelOrder(ctx, o, in.Overlay, in.A, in.B, in.Body.First)
			})
		})
	huma.Register(a, operation("set-direct", http.MethodPut, pairPath+"/direct", "Join two sites directly, or no longer"),
		func(ctx context.Context, in *struct {
			Editing
			Overlay string `path:"overlay" maxLength:"40"`
			A       string `path:"a" maxLength:"40"`
			B       string `path:"b" maxLength:"40"`
			Body    struct {
				Join bool `json:"join"`
			}
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) {
				return d.SetDirect(ctx, o, in.Overlay, in.A, in.B, in.Body.Join)
			})
		})
}

// hubOrder registers the order of hubs.
func (s *Server) hubOrder(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("set-hub-order", http.MethodPut, "/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/hub-order", "Give spokes a hub order"),
		func(ctx context.Context, in *struct {
			Editing
			Overlay string `path:"overlay" maxLength:"40"`
			Body    struct {
				Sites []string `json:"sites" maxItems:"60000"`
				Hubs  []string `json:"hubs" maxItems:"100" doc:"empty for the overlay's own order"`
			}
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) {
				return d.SetHubOrder(ctx, o, in.Overlay, in.Body.Sites, in.Body.Hubs)
			})
		})
}

// bothEnds registers the sheet of both ends and the judge of pasted keys.
func (s *Server) bothEnds(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("get-both-ends", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/both-ends", "Read a tunnel at both ends, line by line"),
		func(ctx context.Context, in *struct {
			InDraft
			Overlay string `query:"overlay" required:"true" maxLength:"40"`
			Tunnel  string `query:"tunnel" required:"true" maxLength:"200"`
		}) (*answer[tunnel.BothEnds], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			sheet, ok := v.Plan.BothEnds(in.Overlay, in.Tunnel)
			if !ok {
				return nil, huma.Error404NotFound(fmt.Sprintf("there is no tunnel %q in %q", in.Tunnel, in.Overlay))
			}
			return tagged(v, sheet), nil
		})
	huma.Register(a, operation("check-key", http.MethodPost, "/api/estates/{estate}/drafts/{draft}/sites/{site}/check-key", "Learn what is wrong with a pasted public key"),
		func(ctx context.Context, in *struct {
			InSite
			Body struct {
				Key string `json:"key" maxLength:"1000"`
			}
		}) (*answer[tunnel.KeyVerdict], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			site := v.Plan.SiteIndex(in.Site)
			if site < 0 {
				return nil, huma.Error404NotFound(fmt.Sprintf("there is no site %q", in.Site))
			}
			return tagged(v, v.Plan.JudgeKey(site, in.Body.Key)), nil
		})
}
