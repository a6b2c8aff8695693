package diff

import (
	"fmt"
	"iter"
	"net/netip"
	"reflect"
	"slices"
	"strings"

	"wideknot/core/route"

	"wideknot/core/tunnel"
)

// A move is a route of a site before and after; one may be nil.
type move struct {
	site    string
	was, is *route.Route
}

// moves lists the routes that another way carries now, by site and prefix.
// A route depends on the site's own tunnels, on who holds its prefix and how
// that site is joined, and on how the hubs are joined. Only routes for which
// one of these differs are looked at, so the cost grows with the change and
// not with the estate.
func moves(old, new *route.Map) iter.Seq[move] {
	return func(yield func(move) bool) {
		reach := reachOf(old, new)
		oldFew, newFew := old.Narrow(reach.prefixes), new.Narrow(reach.prefixes)
		for _, site := range sitesOfBoth(old.Plan, new.Plan) {
			a, b := oldFew, newFew
			if reach.all || reach.sites[site] {
				a, b = old, new
			}
			if !movesOf(a, b, site, yield) {
				return
			}
		}
	}
}

func sitesOfBoth(old, new *tunnel.Plan) []string {
	keys := map[string]bool{}
	for _, p := range []*tunnel.Plan{old, new} {
		for i := range p.Estate.Sites {
			keys[p.Estate.Sites[i].Key] = true
		}
	}
	return sorted(keys)
}

// movesOf compares the tables of one site.
func movesOf(old, new *route.Map, site string, yield func(move) bool) bool {
	was, is := table(old, site), table(new, site)
	for i, j := 0, 0; i < len(was) || j < len(is); {
		order := 0
		switch {
		case i == len(was):
			order = 1
		case j == len(is):
			order = -1
		default:
			order = netip.Prefix.Compare(was[i].Prefix, is[j].Prefix)
		}
		switch {
		case order < 0:
			if !yield(move{site, &was[i], nil}) {
				return false
			}
			i++
		case order > 0:
			if !yield(move{site, nil, &is[j]}) {
				return false
			}
			j++
		default:
			if !sameWay(old, new, &was[i], &is[j]) && !yield(move{site, &was[i], &is[j]}) {
				return false
			}
			i, j = i+1, j+1
		}
	}
	return true
}

func table(m *route.Map, site string) []route.Route {
	i := m.Plan.SiteIndex(site)
	if i < 0 {
		return nil
	}
	return slices.DeleteFunc(m.Table(i), func(r route.Route) bool { return r.Kind == route.Connected })
}

// sameWay reports whether two routes for one prefix are carried alike: by
// tunnels between the same links, with the same parts, to the same neighbour
// and site. Sites have other places in the other estate; their keys are the
// same.
func sameWay(old, new *route.Map, was, is *route.Route) bool {
	if len(was.Hops) == 0 || len(is.Hops) == 0 {
		return len(was.Hops) == len(is.Hops) && was.Kind == is.Kind
	}
	sharing := route.Sharing(was.Hops)
	if old.Plan.Site(was.To).Key != new.Plan.Site(is.To).Key || sharing != route.Sharing(is.Hops) {
		return false
	}
	for i := range sharing {
		a, b := &was.Hops[i], &is.Hops[i]
		near, far := old.Plan.Sides(a.End)
		nearNow, farNow := new.Plan.Sides(b.End)
		if old.Plan.Site(a.Via).Key != new.Plan.Site(b.Via).Key || a.Weight != b.Weight ||
			old.Plan.Link(near).Key != new.Plan.Link(nearNow).Key || old.Plan.Link(far).Key != new.Plan.Link(farNow).Key {
			return false
		}
	}
	return true
}

// A scope is what routes can have moved: all those of some sites, and those to
// some prefixes at every site.
type scope struct {
	all      bool
	sites    map[string]bool
	prefixes map[netip.Prefix]bool
}

func reachOf(old, new *route.Map) scope {
	out := scope{sites: map[string]bool{}, prefixes: map[netip.Prefix]bool{}}
	if len(old.Plan.Overlays) != len(new.Plan.Overlays) {
		out.all = true
		return out
	}
	for i := range old.Plan.Overlays {
		was, is := &old.Plan.Overlays[i], &new.Plan.Overlays[i]
		if was.Spec.Key != is.Spec.Key || hubsDiffer(old.Plan, new.Plan, was, is) {
			out.all = true
			return out
		}
		if !reflect.DeepEqual(was.Spec.Pins, is.Spec.Pins) {
			for _, pin := range slices.Concat(was.Spec.Pins, is.Spec.Pins) {
				out.sites[pin.Site] = true
			}
		}
		joins, joinsNow := joinsOf(old.Plan, was), joinsOf(new.Plan, is)
		for _, site := range sitesOfBoth(old.Plan, new.Plan) {
			held, heldNow := sharedOf(old.Plan, was, site), sharedOf(new.Plan, is, site)
			same := slices.Equal(held, heldNow)
			a, b := joins[site], joinsNow[site]
			if !same || !slices.Equal(a, b) {
				out.sites[site] = true
			}
			// How the site is joined counts for others by cost alone.
			if !same || !slices.EqualFunc(a, b, func(x, y join) bool { return x.far == y.far && x.cost == y.cost && x.nth == y.nth }) {
				for _, p := range slices.Concat(held, heldNow) {
					out.prefixes[p] = true
				}
			}
		}
	}
	return out
}

// A join is one tunnel of a site: the neighbour, what the adjacency costs, and
// the links of the nth tunnel and its share of the load.
type join struct {
	far          string
	cost, nth    int
	link, peer   string
	lead, weight int
}

func joinsOf(p *tunnel.Plan, o *tunnel.Overlay) map[string][]join {
	out := make(map[string][]join, len(o.Members))
	for i := range o.Adjacencies {
		a := &o.Adjacencies[i]
		for k := range a.Tunnels {
			t := &a.Tunnels[k]
			x, y := p.Site(t.A.Site).Key, p.Site(t.B.Site).Key
			link, peer := p.Link(&t.A).Key, p.Link(&t.B).Key
			out[x] = append(out[x], join{y, a.Cost, k, link, peer, t.Lead, t.Weight})
			out[y] = append(out[y], join{x, a.Cost, k, peer, link, t.Lead, t.Weight})
		}
	}
	for _, m := range o.Members {
		list := out[p.Site(m).Key]
		slices.SortFunc(list, func(a, b join) int {
			if a.far != b.far {
				return compareKeys(a.far, b.far)
			}
			return a.nth - b.nth
		})
	}
	return out
}

func compareKeys(a, b string) int {
	if a < b {
		return -1
	}
	return 1
}

// sharedOf lists what a site shares; nil when it is no member.
func sharedOf(p *tunnel.Plan, o *tunnel.Overlay, site string) []netip.Prefix {
	i := p.SiteIndex(site)
	if i < 0 || !o.Has(i) {
		return nil
	}
	return p.Site(i).Shared(o.Spec.Key)
}

// hubsDiffer reports whether an overlay has other hubs, or joins them in
// another way.
func hubsDiffer(old, new *tunnel.Plan, was, is *tunnel.Overlay) bool {
	between := func(p *tunnel.Plan, o *tunnel.Overlay) map[[2]string]int {
		out := map[[2]string]int{}
		for _, h := range o.Hubs {
			out[[2]string{p.Site(h).Key}] = 0
		}
		for i := range o.Adjacencies {
			if a := &o.Adjacencies[i]; len(a.Tunnels) > 0 && o.IsHub(a.A) && o.IsHub(a.B) {
				x, y := p.Site(a.A).Key, p.Site(a.B).Key
				out[[2]string{min(x, y), max(x, y)}] = a.Cost
			}
		}
		return out
	}
	return !reflect.DeepEqual(between(old, was), between(new, is))
}

// inWords puts a move as an engineer would.
func (m move) inWords(old, new *route.Map) Move {
	switch {
	case m.is == nil:
		return Move{Site: m.site, Prefix: m.was.Prefix, From: way(old, m.was), Why: "the prefix is not shared with this site any more"}
	case m.was == nil:
		return Move{Site: m.site, Prefix: m.is.Prefix, To: way(new, m.is), Why: "the prefix is shared with this site now"}
	}
	return Move{Site: m.site, Prefix: m.was.Prefix, From: way(old, m.was), To: way(new, m.is), Why: why(old, new, m.was, m.is)}
}

// way says by what a route is carried: its first tunnel, or those that share
// the load, named by their links.
func way(m *route.Map, r *route.Route) string {
	if len(r.Hops) == 0 {
		return string(r.Kind)
	}
	var tunnels []string
	for _, h := range r.Hops[:route.Sharing(r.Hops)] {
		_, _, t := m.Plan.At(h.End)
		name := m.Plan.Ident(t)
		if h.Weight > 0 {
			name += fmt.Sprintf(" × %d", h.Weight)
		}
		tunnels = append(tunnels, name)
	}
	return fmt.Sprintf("%s via %s to %s", strings.Join(tunnels, " + "), m.Plan.Site(r.Hops[0].Via).Key, m.Plan.Site(r.To).Key)
}

func why(old, new *route.Map, was, is *route.Route) string {
	key := func(m *route.Map, site int) string { return m.Plan.Site(site).Key }
	switch {
	case len(is.Hops) == 0:
		return "no path is left"
	case len(was.Hops) == 0:
		return "there is a path now"
	case key(old, was.To) != key(new, is.To):
		return "another site has the prefix, or is nearer"
	case is.Hops[0].Why == route.Pinned || was.Hops[0].Why == route.Pinned:
		return string(route.Pinned)
	case is.Hops[0].Cost != was.Hops[0].Cost:
		return fmt.Sprintf("path cost: %d became %d", was.Hops[0].Cost, is.Hops[0].Cost)
	}
	former := key(old, was.Hops[0].Via)
	if key(new, is.Hops[0].Via) == former {
		if route.Sharing(was.Hops) > 1 || route.Sharing(is.Hops) > 1 {
			return string(route.LoadSharing)
		}
		return string(route.TunnelRank)
	}
	// The new way costs what the former did, so that one must cost more now.
	i := slices.IndexFunc(is.Hops, func(h route.Hop) bool { return key(new, h.Via) == former })
	if i < 0 {
		return "the former way is gone"
	}
	return fmt.Sprintf("path cost by %s: %d became %d", former, was.Hops[0].Cost, is.Hops[i].Cost)
}
