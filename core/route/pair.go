package route

import "wideknot/core/tunnel"

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

// PairSheet returns all that can join two sites in an overlay.
func (m *Map) PairSheet(overlay, x, y int) PairSheet {
	o := &m.Plan.Overlays[overlay]
	key := func(i int) string { return m.Plan.Site(i).Key }
	out := PairSheet{A: key(x), B: key(y), LinksA: []string{}, LinksB: []string{}, Tunnels: []PairTunnel{}, Kept: []PairLinks{}, Via: []string{}}
	adjacency := &tunnel.Adjacency{A: x, B: y}
	for i := range o.Adjacencies {
		if a := &o.Adjacencies[i]; a.A == x && a.B == y || a.A == y && a.B == x {
			adjacency, out.Joined, out.Kind, out.Cost = a, true, string(a.Kind), a.Cost
			out.A, out.B = key(a.A), key(a.B)
		}
	}
	for _, l := range m.Plan.Site(adjacency.A).Links {
		out.LinksA = append(out.LinksA, l.Key)
	}
	for _, l := range m.Plan.Site(adjacency.B).Links {
		out.LinksB = append(out.LinksB, l.Key)
	}
	carried := map[[2]string]bool{}
	for i := range adjacency.Tunnels {
		t := &adjacency.Tunnels[i]
		one := PairTunnel{
			Tunnel: m.Plan.Ident(t), LinkA: m.Plan.Link(&t.A).Key, LinkB: m.Plan.Link(&t.B).Key, MTU: t.MTU, Family: string(t.Family), Opens: t.Opens(&t.A, "a", "b"), Share: adjacency.Share(i),
		}
		carried[[2]string{one.LinkA, one.LinkB}] = true
		out.Tunnels = append(out.Tunnels, one)
	}
	for _, pair := range m.Plan.LinkPairs(o, adjacency) {
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
		out.Via = append(out.Via, m.Via(overlay, x, y)...)
	}
	for i := range o.Spec.TunnelOrder {
		out.Ordered = out.Ordered || o.Spec.TunnelOrder[i].Of(out.A, out.B)
	}
	return out
}
