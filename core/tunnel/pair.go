package tunnel

import (
	"fmt"
	"slices"

	"wideknot/core/estate"
)

// usable is a link that may carry tunnels, with what pairing asks of it.
type usable struct {
	link     int
	key      string
	underlay string
	reach    estate.Reach
	v4, v6   bool
	rank     int
	mtu      int
	// Links that share the load have one place in the order of their rank, that
	// of the first key among them. Alone, a link's place is its key and its
	// weight 1.
	place  string
	weight int
}

func usableLinks(e *estate.Estate) [][]usable {
	out := make([][]usable, len(e.Sites))
	for i := range e.Sites {
		for j := range e.Sites[i].Links {
			l := &e.Sites[i].Links[j]
			if l.NoTunnels {
				continue
			}
			u := usable{
				link: j, key: l.Key, underlay: l.UnderlayOf(), reach: l.Reach,
				v4: l.Has(estate.V4), v6: l.Has(estate.V6), rank: l.RankOf(), mtu: l.MTUOf(),
				place: l.Key, weight: 1,
			}
			if mates := e.Sites[i].SharesWith(j); mates != nil {
				u.place, u.weight = mates[0], l.Weight
			}
			out[i] = append(out[i], u)
		}
	}
	return out
}

// Obstacle says why two links cannot carry a tunnel; it is empty when they can.
type Obstacle string

// The obstacles, in the order in which they are looked for.
const (
	NoObstacle     Obstacle = ""
	OtherUnderlay  Obstacle = "they attach to different underlays"
	OtherFamily    Obstacle = "they have no IP version in common"
	NeitherCanCall Obstacle = "both are outbound only, so neither can initiate the tunnel"
	KeptOut        Obstacle = "a link may not carry tunnels"
)

// meet finds the outside IP version on which two links can meet.
func meet(a, b *usable, want estate.Family) (estate.Family, Obstacle) {
	switch {
	case a.underlay != b.underlay:
		return "", OtherUnderlay
	case !a.reach.Callable() && !b.reach.Callable():
		return "", NeitherCanCall
	case a.v4 && b.v4 && want != estate.V6:
		return estate.V4, NoObstacle
	case a.v6 && b.v6 && want != estate.V4:
		return estate.V6, NoObstacle
	}
	return "", OtherFamily
}

// pair lists the tunnels between two sites, without their allocations.
func (o *Overlay) pair(p *Plan, a, b int, links [][]usable) []Tunnel {
	var room [8]candidate
	found := room[:0]
	for i := range links[a] {
		for j := range links[b] {
			if family, obstacle := meet(&links[a][i], &links[b][j], o.Spec.Family); obstacle == NoObstacle {
				found = append(found, candidate{a: &links[a][i], b: &links[b][j], family: family})
			}
		}
	}
	if len(found) > 1 {
		slices.SortFunc(found, compareCandidates)
		o.prefer(p.Site(a).Key, p.Site(b).Key, found)
		found = o.keep(found)
	}
	tunnels := make([]Tunnel, len(found))
	for i, c := range found {
		t := Tunnel{
			A:      Port{Site: a, Link: c.a.link, Calls: c.b.reach.Callable()},
			B:      Port{Site: b, Link: c.b.link, Calls: c.a.reach.Callable()},
			Family: c.family,
			Lead:   i,
		}
		natted := c.a.reach == estate.NAT || c.b.reach == estate.NAT || c.a.reach == estate.Forwarded || c.b.reach == estate.Forwarded
		t.Wanted = MTU(o.Spec.Transport, c.family, min(c.a.mtu, c.b.mtu), natted)
		t.MTU = t.Wanted
		if o.Needs6 {
			t.MTU = max(t.MTU, MinMTU6)
		}
		tunnels[i] = t
	}
	shareLoad(found, tunnels)
	return tunnels
}

// shareLoad gives their parts to tunnels over links that share the load: the
// product of the weights at both ends. Tunnels that the engineer put first share
// with none of the others.
func shareLoad(found []candidate, tunnels []Tunnel) {
	for i := 1; i < len(found); i++ {
		x, y := found[i-1], found[i]
		if x.placed != y.placed || comparePlaces(x, y) != 0 {
			continue
		}
		tunnels[i].Lead = tunnels[i-1].Lead
		tunnels[i-1].Weight, tunnels[i].Weight = x.weight(), y.weight()
	}
}

// prefer puts those candidates first that the engineer put first.
func (o *Overlay) prefer(a, b string, found []candidate) {
	for i := range o.Spec.TunnelOrder {
		order := &o.Spec.TunnelOrder[i]
		if !order.Of(a, b) {
			continue
		}
		place := func(c candidate) int {
			if at := slices.Index(order.First, estate.TunnelIdent(a, c.a.key, b, c.b.key)); at >= 0 {
				return at
			}
			return len(order.First)
		}
		slices.SortStableFunc(found, func(x, y candidate) int { return place(x) - place(y) })
		for i := range found {
			found[i].placed = found[i].placed || place(found[i]) < len(order.First)
		}
	}
}

// keep applies the pairing mode to candidates in rank order.
func (o *Overlay) keep(found []candidate) []candidate {
	switch o.Spec.Pairing {
	case estate.TopN:
		return found[:min(len(found), o.Spec.PairingLimit)]
	case estate.Matched:
		seen := map[*usable]bool{}
		return slices.DeleteFunc(found, func(c candidate) bool {
			again := seen[c.a]
			seen[c.a] = true
			return again
		})
	}
	return found
}

// A LinkPair is two links of adjacent sites and what keeps them apart, or the
// outside IP version when nothing does.
type LinkPair struct {
	A, B     *estate.Link
	Family   estate.Family
	Obstacle Obstacle
}

// LinkPairs lists every pair of links of an adjacency, those that could carry
// a tunnel and those that cannot.
func (p *Plan) LinkPairs(o *Overlay, a *Adjacency) []LinkPair {
	var out []LinkPair
	left, right := p.Site(a.A), p.Site(a.B)
	view := func(l *estate.Link) usable {
		return usable{key: l.Key, underlay: l.UnderlayOf(), reach: l.Reach, v4: l.Has(estate.V4), v6: l.Has(estate.V6)}
	}
	for i := range left.Links {
		for j := range right.Links {
			pair := LinkPair{A: &left.Links[i], B: &right.Links[j]}
			x, y := view(pair.A), view(pair.B)
			pair.Family, pair.Obstacle = meet(&x, &y, o.Spec.Family)
			if pair.A.NoTunnels || pair.B.NoTunnels {
				pair.Family, pair.Obstacle = "", KeptOut
			}
			out = append(out, pair)
		}
	}
	return out
}

// WhyApart explains an adjacency without tunnels, link pair by link pair.
func (p *Plan) WhyApart(o *Overlay, a *Adjacency) []string {
	left, right := p.Site(a.A), p.Site(a.B)
	switch {
	case len(left.Links) == 0:
		return []string{left.Key + " has no WAN link"}
	case len(right.Links) == 0:
		return []string{right.Key + " has no WAN link"}
	}
	var out []string
	for _, pair := range p.LinkPairs(o, a) {
		if pair.Obstacle != NoObstacle {
			out = append(out, fmt.Sprintf("%s/%s and %s/%s: %s", left.Key, pair.A.Key, right.Key, pair.B.Key, pair.Obstacle))
		}
	}
	return out
}
