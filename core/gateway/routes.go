package gateway

import (
	"cmp"
	"net/netip"
	"slices"
	"sync"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/route"
)

// farEnds lists the far ends of tunnels that are numbered by site, each by the
// tunnels of its adjacency in their order.
func (k *making) farEnds() {
	for i := 0; i < len(k.peers); {
		peer := &k.peers[i]
		if peer.Overlay.Spec.Numbering != estate.PerSite {
			i++
			continue
		}
		var groups []Group
		for ; i < len(k.peers) && k.peers[i].Adjacency == peer.Adjacency; i++ {
			groups = append(groups, Group{Place: len(groups) + 1, Members: []Member{{k.peers[i].Interface, 1}}})
		}
		for _, far := range []netip.Prefix{peer.Remote.Address4, peer.Remote.Address6} {
			if far.IsValid() {
				k.out.Routes = append(k.out.Routes, Route{Prefix: far.Masked(), Way: k.ways.add(groups)})
			}
		}
	}
}

// table adds the routes of a table, and its discards. Where one prefix has a route
// by tunnels and one that must stay outside them, the latter stands. Those of a table
// that may be steered say to which site they lead, where hubs tell of it.
func (k *making) table(number int, routes []route.Route, steered bool) {
	room := joinings.Get().(*joining)
	defer joinings.Put(room)
	discards, others := room.discards[:0], room.others[:0]
	var outside map[netip.Prefix]bool
	if len(routes) > 1 {
		k.out.Routes = slices.Grow(k.out.Routes, len(routes))
	}
	for i := range routes {
		if r := &routes[i]; r.Link != nil && !outside[r.Prefix] {
			if outside == nil {
				outside = map[netip.Prefix]bool{}
			}
			outside[r.Prefix] = true
			k.out.Routes = append(k.out.Routes, Route{Table: number, Prefix: r.Prefix, Via: r.NextHop, Device: r.Link.Device})
		}
	}
	for i := range routes {
		r := &routes[i]
		if r.Kind == route.Breakout && number == DefaultTable {
			continue // those are among the extras
		}
		if len(r.Hops) > 0 && !outside[r.Prefix] {
			out := Route{Table: number, Prefix: r.Prefix, Way: k.ways.of(r.Hops)}
			if steered && len(k.out.Tellings) > 0 {
				if overlay, to, ok := k.routes.Steered(r); ok {
					out.Telling, out.To = k.told[overlay], k.numbers[overlay][to]
				}
			}
			k.out.Routes = append(k.out.Routes, out)
		}
		if r.Discards() {
			discards = append(discards, r.Prefix)
		} else {
			others = append(others, r.Prefix)
		}
	}
	room.discards, room.others = discards, others
	joined := room.merged()
	if len(joined) > 1 {
		k.out.Discards = slices.Grow(k.out.Discards, len(joined))
	}
	for _, p := range joined {
		k.out.Discards = append(k.out.Discards, Discard{Table: number, Prefix: p})
	}
}

// A joining is the room in which the discards of a table are joined: it takes as much as the
// routes themselves, and is used again.
type joining struct {
	discards []netip.Prefix
	others   []netip.Prefix // what the table has besides
	wholes   []whole
}

// A whole is discards that are one together.
type whole struct {
	prefix netip.Prefix
	from   int // of its parts among the outer ones, until those of the next whole
}

var joinings = sync.Pool{New: func() any { return new(joining) }}

// merged joins discards where that changes no lookup: one that lies within another
// stays by itself, and so do those between which and their whole another route of
// the table would come. Discards are mostly in address order, and are overwritten.
func (j *joining) merged() []netip.Prefix {
	discards, others := j.discards, j.others
	inOrder := func(a, b netip.Prefix) int {
		return cmp.Or(a.Addr().Compare(b.Addr()), cmp.Compare(a.Bits(), b.Bits()))
	}
	if !slices.IsSortedFunc(discards, inOrder) {
		slices.SortFunc(discards, inOrder)
	}
	var inner []netip.Prefix
	outer := discards[:0]
	wholes := j.wholes[:0]
	for _, p := range discards {
		switch n := len(outer); {
		case n > 0 && outer[n-1] == p:
		case n > 0 && addr.Covers(outer[n-1], p):
			inner = append(inner, p)
		default:
			outer = append(outer, p)
			wholes = append(wholes, whole{p, n})
			for n := len(wholes); n > 1; n = len(wholes) {
				joined, ok := addr.Joined(wholes[n-2].prefix, wholes[n-1].prefix)
				if !ok {
					break
				}
				wholes = wholes[:n-1]
				wholes[n-2].prefix = joined
			}
		}
	}
	j.wholes = wholes
	out := outer[:0] // it is read ahead of where it is written
	for i, w := range wholes {
		to := len(outer)
		if i+1 < len(wholes) {
			to = wholes[i+1].from
		}
		if parts := outer[w.from:to]; len(parts) > 1 && slices.ContainsFunc(others, func(o netip.Prefix) bool { return between(w.prefix, o, parts) }) {
			out = append(out, parts...)
		} else {
			out = append(out, w.prefix)
		}
	}
	if len(inner) > 0 {
		out = append(out, slices.Compact(inner)...)
		slices.SortFunc(out, inOrder)
	}
	return out
}

// between reports whether a prefix lies within a whole, and around one of its parts.
func between(whole, p netip.Prefix, parts []netip.Prefix) bool {
	return addr.Covers(whole, p) && slices.ContainsFunc(parts, func(part netip.Prefix) bool { return part != p && addr.Covers(p, part) })
}

// rules sends packets into the table that is meant for them: a tunnel's own
// packets, by their mark, into the one that leaves by its link; and what
// route.Extras names into the table made for it.
func (k *making) rules(extras []route.Extra) {
	for _, family := range []Family{IPv4, IPv6} {
		for i := range k.out.Links {
			l := &k.out.Links[i]
			at := slices.IndexFunc(l.NextHops, func(a netip.Addr) bool { return FamilyOf(a) == family })
			if l.Mark == 0 || at < 0 {
				continue
			}
			k.out.Routes = append(k.out.Routes, Route{Table: l.Mark, Prefix: all(family), Via: l.NextHops[at], Device: l.Device})
			k.out.Rules = append(k.out.Rules, Rule{Priority: l.Mark, Family: family, Mark: l.Mark, Mask: LinkMask, Table: l.Mark})
			if own := k.ownOf(l, family); len(own) > 0 {
				k.out.Rules = append(k.out.Rules, Rule{Priority: l.Mark - FirstMark + FirstSource, Family: family, From: own, Table: l.Mark})
			}
		}
		exits := false
		for i := range extras {
			x := &extras[i]
			if !slices.ContainsFunc(x.Routes, func(r route.Route) bool { return FamilyOf(r.Prefix.Addr()) == family }) {
				continue
			}
			if x.Last && !exits {
				exits = true
				k.out.Rules = append(k.out.Rules, Rule{Priority: FirstTable + i, Family: family, NoLonger: true})
			}
			k.ruleOf(x, i, family)
		}
	}
}

// ownOf lists the addresses from which a link carries tunnels of IPsec: their key
// exchange has no mark.
func (k *making) ownOf(l *Link, family Family) (out []netip.Prefix) {
	for i := range k.out.Tunnels {
		t := &k.out.Tunnels[i]
		if t.IPsec == nil || t.Link != l.Key || !t.IPsec.Local.IsValid() || FamilyOf(t.IPsec.Local) != family {
			continue
		}
		if p := netip.PrefixFrom(t.IPsec.Local, t.IPsec.Local.BitLen()); !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	return out
}

// ruleOf sends packets into the table of an extra. Those asked last leave room for
// the rule before them.
func (k *making) ruleOf(x *route.Extra, i int, family Family) {
	r := Rule{Priority: FirstTable + i, Family: family, Arriving: x.Arriving, Table: FirstTable + i}
	if x.Last {
		r.Priority++
	}
	if x.Place > 0 {
		r.Mark, r.Mask = x.Place*PlaceUnit, PlaceMask
	}
	for _, p := range x.From {
		if FamilyOf(p.Addr()) == family {
			r.From = append(r.From, p)
		}
	}
	if len(x.From) > 0 && len(r.From) == 0 {
		return
	}
	k.out.Rules = append(k.out.Rules, r)
}

func all(f Family) netip.Prefix {
	if f == IPv4 {
		return netip.PrefixFrom(netip.IPv4Unspecified(), 0)
	}
	return netip.PrefixFrom(netip.IPv6Unspecified(), 0)
}
