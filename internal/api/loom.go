package api

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/estate"
	"wideknot/core/tunnel"
	"wideknot/internal/desk"
)

// Loom is an overlay as pairs of sites: rows are its sites, columns their hubs,
// or all sites of a mesh.
type Loom struct {
	Columns []string  `json:"columns" doc:"sites"`
	Rows    []LoomRow `json:"rows"`
}

// LoomRow is a site's pairs, one for each column. An empty Pair is none.
type LoomRow struct {
	Site   string     `json:"site"`
	Name   string     `json:"name"`
	Region string     `json:"region"`
	Role   string     `json:"role" enum:"hub,spoke,direct"`
	Own    bool       `json:"own" doc:"has a hub order of its own"`
	Hubs   []string   `json:"hubs" doc:"in order"`
	Pairs  []LoomPair `json:"pairs"`
}

// LoomPair is a pair of sites.
type LoomPair struct {
	Position int    `json:"position" doc:"of the hub in the site's order; 0 for other kinds of pair"`
	Tunnels  int    `json:"tunnels"`
	Joined   bool   `json:"joined" doc:"the overlay wants them joined"`
	Apart    string `json:"apart,omitempty" doc:"why no tunnel can serve them"`
}

func loomOf(v *desk.View, o *tunnel.Overlay) Loom {
	out := Loom{Columns: []string{}, Rows: []LoomRow{}}
	columns := o.Hubs
	if o.Spec.Shape == estate.FullMesh {
		columns = o.Members
	}
	place := map[int]int{}
	for i, c := range columns {
		place[c] = i
		out.Columns = append(out.Columns, v.Plan.Site(c).Key)
	}
	spokes := map[string]*estate.Spoke{}
	for i := range o.Spec.Spokes {
		spokes[o.Spec.Spokes[i].Site] = &o.Spec.Spokes[i]
	}
	row := map[int]int{}
	for _, m := range o.Members {
		s := v.Plan.Site(m)
		one := LoomRow{Site: s.Key, Name: s.Name, Region: s.Region, Role: "direct", Hubs: []string{}, Pairs: make([]LoomPair, len(columns))}
		if o.IsHub(m) {
			one.Role = "hub"
		} else if spoke := spokes[s.Key]; spoke != nil {
			one.Role, one.Own = "spoke", len(spoke.Hubs) > 0
			one.Hubs = append(one.Hubs, o.Spec.HubOrder(*spoke)...)
		}
		row[m] = len(out.Rows)
		out.Rows = append(out.Rows, one)
	}
	for i := range o.Adjacencies {
		a := &o.Adjacencies[i]
		for _, ends := range [][2]int{{a.A, a.B}, {a.B, a.A}} {
			at, ok := place[ends[1]]
			if !ok {
				continue
			}
			pair := &out.Rows[row[ends[0]]].Pairs[at]
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
	Opens  string `json:"opens" enum:"a,b,both"`
	MTU    int    `json:"mtu"`
	Family string `json:"family"`
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
			Tunnel: v.Plan.Ident(t), LinkA: v.Plan.Link(&t.A).Key, LinkB: v.Plan.Link(&t.B).Key, MTU: t.MTU, Family: string(t.Family), Opens: "a",
		}
		if t.B.Calls {
			one.Opens = "b"
			if t.A.Calls {
				one.Opens = "both"
			}
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

// BothEnds is a tunnel as one sheet of two columns.
type BothEnds struct {
	Overlay string    `json:"overlay"`
	Tunnel  string    `json:"tunnel"`
	Rank    int       `json:"rank"`
	Of      int       `json:"of"`
	A       string    `json:"a"`
	B       string    `json:"b"`
	Lines   []EndLine `json:"lines"`
}

// EndLine is one parameter at both ends. Mirror says how the two belong
// together; Wrong what is the matter when they do not.
type EndLine struct {
	What   string `json:"what"`
	A      string `json:"a"`
	B      string `json:"b"`
	Mirror string `json:"mirror" doc:"same, crossed (A's is what B was told of A), or own"`
	Wrong  string `json:"wrong"`
}

func bothEndsOf(v *desk.View, overlay, ident string) (BothEnds, bool) {
	for site := range v.Estate.Sites {
		for _, peer := range v.Plan.Peers(site) {
			if peer.Overlay.Spec.Key != overlay || v.Plan.Ident(peer.Tunnel) != ident || peer.Local != &peer.Tunnel.A {
				continue
			}
			for _, far := range v.Plan.Peers(peer.Remote.Site) {
				if far.Tunnel == peer.Tunnel {
					return sheetOf(v, overlay, ident, &peer, &far), true
				}
			}
		}
	}
	return BothEnds{}, false
}

func sheetOf(v *desk.View, overlay, ident string, a, b *tunnel.Peer) BothEnds {
	p := v.Plan
	out := BothEnds{Overlay: overlay, Tunnel: ident, Rank: a.Rank, Of: len(a.Adjacency.Tunnels), A: p.Site(a.Local.Site).Key, B: p.Site(b.Local.Site).Key}
	linkA, linkB := p.Link(a.Local), p.Link(b.Local)
	add := func(what string, x, y any, mirror, wrong string) {
		out.Lines = append(out.Lines, EndLine{what, fmt.Sprint(x), fmt.Sprint(y), mirror, wrong})
	}
	unless := func(good bool, wrong string) string {
		if good {
			return ""
		}
		return wrong
	}
	listOf := func(list []netip.Prefix) string {
		text := ""
		for i, q := range list {
			if i > 0 {
				text += "\n"
			}
			text += q.String()
		}
		return text
	}
	opens := func(calls bool) string {
		return map[bool]string{true: "opens the session", false: "waits to be called"}[calls]
	}
	addresses := func(port *tunnel.Port) string { return listOf(valid(port.Address4, port.Address6)) }
	add("WAN link", linkA.Key+" ("+linkA.Provider+")", linkB.Key+" ("+linkB.Provider+")", "own", "")
	add("how it is reached", linkA.Reach, linkB.Reach, "own", unless(linkA.Reach.Callable() || linkB.Reach.Callable(), "neither end can be called"))
	add("underlay", linkA.UnderlayOf(), linkB.UnderlayOf(), "same", unless(linkA.UnderlayOf() == linkB.UnderlayOf(), "the links attach to different underlays"))
	add("who opens it", opens(a.Local.Calls), opens(b.Local.Calls), "own", unless(a.Local.Calls || b.Local.Calls, "nobody opens it"))
	add("interface", a.Interface, b.Interface, "own", "")
	add("listens on UDP port", a.Local.UDP, b.Local.UDP, "crossed", "")
	add("calls", orNone(a.Endpoint), orNone(b.Endpoint), "crossed", unless(dials(a) && dials(b), "an end that opens it does not know where to call"))
	add("address in the tunnel", addresses(a.Local), addresses(b.Local), "own", unless(len(valid(a.Local.Address4, a.Local.Address6)) > 0, "the transit pool has no room for it"))
	add("own public key", orNone(p.PublicKey(a.Local.Site)), orNone(p.PublicKey(b.Local.Site)), "crossed", "")
	add("the peer's public key", orNone(a.PublicKey), orNone(b.PublicKey), "crossed",
		unless(a.PublicKey != "" && b.PublicKey != "" && a.PublicKey == p.PublicKey(b.Local.Site) && b.PublicKey == p.PublicKey(a.Local.Site), "an end does not have the other's key"))
	psk := map[bool]string{true: "one for this tunnel", false: "none"}[a.Overlay.Spec.PresharedKeys]
	add("pre-shared key", psk, psk, "same", "")
	add("outside IP version", a.Tunnel.Family, b.Tunnel.Family, "same", "")
	add("MTU of the link", linkA.MTUOf(), linkB.MTUOf(), "own", "")
	add("MTU in the tunnel", a.Tunnel.MTU, b.Tunnel.MTU, "same", unless(a.Tunnel.Wanted >= a.Tunnel.MTU, fmt.Sprintf("the links leave only %d bytes", a.Tunnel.Wanted)))
	add("keepalive", seconds(a.Keepalive), seconds(b.Keepalive), "own", "")
	add("allowed prefixes", listOf(a.Allowed), listOf(b.Allowed), "own", "")
	return out
}

// dials reports whether an end that opens the tunnel knows where to call.
func dials(p *tunnel.Peer) bool { return !p.Local.Calls || p.Endpoint != "" }

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func seconds(n int) string {
	if n == 0 {
		return "none"
	}
	return fmt.Sprintf("every %d s", n)
}

// KeyVerdict says what a pasted key is.
type KeyVerdict struct {
	Good bool   `json:"good"`
	Text string `json:"text"`
}

func verdictOn(v *desk.View, site int, text string) KeyVerdict {
	if _, err := estate.ParseKey(text); err != nil {
		return KeyVerdict{false, err.Error()}
	}
	for i := range v.Estate.Sites {
		if trimmed(text) == v.Plan.PublicKey(i) {
			if i == site {
				return KeyVerdict{true, "this is the public key of " + v.Plan.Site(i).Key}
			}
			return KeyVerdict{false, "this is the public key of " + v.Plan.Site(i).Key + ", not of " + v.Plan.Site(site).Key}
		}
	}
	return KeyVerdict{false, "this is a well-formed key, but that of no site; the design has another for " + v.Plan.Site(site).Key}
}

func (s *Server) loom(a huma.API) {
	d := s.Desk
	overlay := func(ctx context.Context, at desk.Place, key string) (*desk.View, int, error) {
		v, err := d.View(ctx, at)
		if err != nil {
			return nil, 0, refusal(err)
		}
		i := slices.IndexFunc(v.Plan.Overlays, func(o tunnel.Overlay) bool { return o.Spec.Key == key })
		if i < 0 {
			return nil, 0, huma.Error404NotFound(fmt.Sprintf("there is no overlay %q", key))
		}
		return v, i, nil
	}
	huma.Register(a, operation("get-loom", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/loom", "Read an overlay pair by pair"),
		func(ctx context.Context, in *struct {
			InDraft
			Overlay string `path:"overlay" maxLength:"40"`
		}) (*answer[Loom], error) {
			v, i, err := overlay(ctx, in.place(), in.Overlay)
			if err != nil {
				return nil, err
			}
			return tagged(v, loomOf(v, &v.Plan.Overlays[i])), nil
		})
	const pairPath = "/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/pairs/{a}/{b}"
	huma.Register(a, operation("get-pair", http.MethodGet, pairPath, "Read all that can join two sites"),
		func(ctx context.Context, in *struct {
			InDraft
			Overlay string `path:"overlay" maxLength:"40"`
			A       string `path:"a" maxLength:"40"`
			B       string `path:"b" maxLength:"40"`
		}) (*answer[PairSheet], error) {
			v, i, err := overlay(ctx, in.place(), in.Overlay)
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
	huma.Register(a, operation("get-both-ends", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/both-ends", "Read a tunnel at both ends, line by line"),
		func(ctx context.Context, in *struct {
			InDraft
			Overlay string `query:"overlay" required:"true" maxLength:"40"`
			Tunnel  string `query:"tunnel" required:"true" maxLength:"200"`
		}) (*answer[BothEnds], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			sheet, ok := bothEndsOf(v, in.Overlay, in.Tunnel)
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
		}) (*answer[KeyVerdict], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			site := v.Plan.SiteIndex(in.Site)
			if site < 0 {
				return nil, huma.Error404NotFound(fmt.Sprintf("there is no site %q", in.Site))
			}
			return tagged(v, verdictOn(v, site, in.Body.Key)), nil
		})
}
