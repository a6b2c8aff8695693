// Package diff compares two derivations as an engineer speaks of them: sites,
// tunnels and routes, and the text of each site's files.
package diff

import (
	"cmp"
	"fmt"
	"net/netip"
	"reflect"
	"slices"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// A Change is one thing that is in both but differs, and in what.
type Change struct {
	Name string   `json:"name"`
	What []string `json:"what"`
}

// A Set compares things by name.
type Set struct {
	Added   []string `json:"added"`
	Removed []string `json:"removed"`
	Changed []Change `json:"changed"`
}

// Empty reports whether nothing differs.
func (s *Set) Empty() bool { return len(s.Added)+len(s.Removed)+len(s.Changed) == 0 }

// A Move is a route that another tunnel carries now. From and To put the way
// in words; they are empty where there was, or is, no route.
type Move struct {
	Site   string       `json:"site"`
	Prefix netip.Prefix `json:"prefix"`
	From   string       `json:"from,omitempty"`
	To     string       `json:"to,omitempty"`
	Why    string       `json:"why"`
}

// A Diff is what differs between two derivations.
type Diff struct {
	Sites    Set      `json:"sites"`
	Overlays Set      `json:"overlays"`
	Tunnels  Set      `json:"tunnels"`
	Moves    []Move   `json:"moves"`
	Touched  []string `json:"touched"` // sites whose tunnels or routes differ
}

// Compare compares an older derivation with a newer one. Everything is listed
// in key order.
func Compare(old, new *route.Map) *Diff {
	d := &Diff{
		Sites:    sites(old.Plan.Estate, new.Plan.Estate),
		Overlays: overlays(old.Plan.Estate, new.Plan.Estate),
		Tunnels:  tunnels(old.Plan, new.Plan),
		Moves:    []Move{},
	}
	touched := map[string]bool{}
	for _, t := range slices.Concat(d.Tunnels.Added, d.Tunnels.Removed, names(d.Tunnels.Changed)) {
		for _, site := range endsOf(t) {
			touched[site] = true
		}
	}
	keys := map[string]bool{}
	for _, m := range []*route.Map{old, new} {
		for i := range m.Plan.Estate.Sites {
			keys[m.Plan.Estate.Sites[i].Key] = true
		}
	}
	for _, site := range sorted(keys) {
		moves := moved(old, new, site)
		if len(moves) > 0 {
			touched[site] = true
		}
		d.Moves = append(d.Moves, moves...)
	}
	d.Touched = sorted(touched)
	return d
}

func names(changes []Change) []string {
	out := make([]string, len(changes))
	for i, c := range changes {
		out[i] = c.Name
	}
	return out
}

func sorted(set map[string]bool) []string {
	out := make([]string, 0, len(set))
	for key := range set {
		out = append(out, key)
	}
	slices.Sort(out)
	return out
}

// compare builds a set from two maps by name.
func compare[T any](old, new map[string]T, what func(old, new T) []string) Set {
	set := Set{Added: []string{}, Removed: []string{}, Changed: []Change{}}
	for name, is := range new {
		was, ok := old[name]
		if !ok {
			set.Added = append(set.Added, name)
		} else if w := what(was, is); len(w) > 0 {
			set.Changed = append(set.Changed, Change{name, w})
		}
	}
	for name := range old {
		if _, ok := new[name]; !ok {
			set.Removed = append(set.Removed, name)
		}
	}
	slices.Sort(set.Added)
	slices.Sort(set.Removed)
	slices.SortFunc(set.Changed, func(a, b Change) int { return cmp.Compare(a.Name, b.Name) })
	return set
}

func sites(old, new *estate.Estate) Set {
	byKey := func(e *estate.Estate) map[string]*estate.Site {
		out := map[string]*estate.Site{}
		for i := range e.Sites {
			out[e.Sites[i].Key] = &e.Sites[i]
		}
		return out
	}
	return compare(byKey(old), byKey(new), func(was, is *estate.Site) []string {
		out := fields("", *was, *is, "links", "subnets", "gateway")
		out = append(out, fields("gateway ", was.Gateway, is.Gateway)...)
		out = append(out, parts("link", was.Links, is.Links, func(l estate.Link) string { return l.Key })...)
		return append(out, parts("subnet", was.Subnets, is.Subnets, func(n estate.Subnet) string { return n.Prefix.String() })...)
	})
}

func overlays(old, new *estate.Estate) Set {
	byKey := func(e *estate.Estate) map[string]*estate.Overlay {
		out := map[string]*estate.Overlay{}
		for i := range e.Overlays {
			out[e.Overlays[i].Key] = &e.Overlays[i]
		}
		return out
	}
	return compare(byKey(old), byKey(new), func(was, is *estate.Overlay) []string {
		out := fields("", *was, *is, "spokes")
		return append(out, parts("spoke", was.Spokes, is.Spokes, func(s estate.Spoke) string { return s.Site })...)
	})
}

// parts compares two lists of things with keys.
func parts[T any](kind string, old, new []T, key func(T) string) []string {
	was, is := map[string]T{}, map[string]T{}
	for _, x := range old {
		was[key(x)] = x
	}
	for _, x := range new {
		is[key(x)] = x
	}
	set := compare(was, is, func(a, b T) []string { return fields("", a, b) })
	var out []string
	for _, name := range set.Added {
		out = append(out, kind+" "+name+" added")
	}
	for _, name := range set.Removed {
		out = append(out, kind+" "+name+" removed")
	}
	for _, c := range set.Changed {
		for _, w := range c.What {
			out = append(out, kind+" "+c.Name+" "+w)
		}
	}
	return out
}

// fields names the fields of two structs that differ, with both values.
func fields(prefix string, old, new any, except ...string) []string {
	was, is := reflect.ValueOf(old), reflect.ValueOf(new)
	var out []string
	for i := range was.NumField() {
		name := jsonName(was.Type().Field(i))
		if slices.Contains(except, name) || reflect.DeepEqual(was.Field(i).Interface(), is.Field(i).Interface()) {
			continue
		}
		out = append(out, fmt.Sprintf("%s%s: %s became %s", prefix, name, value(was.Field(i)), value(is.Field(i))))
	}
	return out
}

func jsonName(f reflect.StructField) string {
	name := f.Tag.Get("json")
	for i := range name {
		if name[i] == ',' {
			return name[:i]
		}
	}
	return name
}

func value(v reflect.Value) string {
	if v.Kind() == reflect.Pointer && !v.IsNil() {
		v = v.Elem()
	}
	if v.IsZero() {
		return "unset"
	}
	return fmt.Sprint(v.Interface())
}

// A view is what a tunnel comes to, without its place in memory.
type view struct {
	Rank                   int
	MTU                    int
	PortA, PortB           int
	FaceA, FaceB           string
	AddressesA, AddressesB string
	EndpointA, EndpointB   string
	CallsA, CallsB         bool
}

// tunnels are named by overlay and ident.
func tunnels(old, new *tunnel.Plan) Set {
	return compare(views(old), views(new), func(was, is view) []string {
		a, b := reflect.ValueOf(was), reflect.ValueOf(is)
		words := []string{"rank", "MTU", "port", "port", "interface", "interface", "addresses", "addresses", "endpoint", "endpoint", "who opens it", "who opens it"}
		var out []string
		for i := range a.NumField() {
			if a.Field(i).Interface() != b.Field(i).Interface() {
				out = append(out, fmt.Sprintf("%s: %v became %v", words[i], a.Field(i).Interface(), b.Field(i).Interface()))
			}
		}
		return out
	})
}

func views(p *tunnel.Plan) map[string]view {
	out := map[string]view{}
	for site := range p.Estate.Sites {
		for _, peer := range p.Peers(site) {
			name := peer.Overlay.Spec.Key + " " + p.Ident(peer.Tunnel)
			v := out[name]
			v.Rank, v.MTU = peer.Rank, peer.Tunnel.MTU
			addresses := fmt.Sprint(peer.Local.Address4, peer.Local.Address6)
			if &peer.Tunnel.A == peer.Local {
				v.PortA, v.FaceA, v.AddressesA, v.EndpointB, v.CallsA = peer.Local.UDP, peer.Interface, addresses, peer.Endpoint, peer.Local.Calls
			} else {
				v.PortB, v.FaceB, v.AddressesB, v.EndpointA, v.CallsB = peer.Local.UDP, peer.Interface, addresses, peer.Endpoint, peer.Local.Calls
			}
			out[name] = v
		}
	}
	return out
}

// endsOf takes the two sites out of a tunnel's name, "overlay a/x b/y".
func endsOf(name string) []string {
	var out []string
	word := 0
	start := 0
	for i := 0; i <= len(name); i++ {
		switch {
		case i == len(name) || name[i] == ' ':
			word, start = word+1, i+1
		case name[i] == '/' && word > 0:
			out = append(out, name[start:i])
			start = i + 1
		}
	}
	return out
}

// moved lists the routes of a site that another way carries now.
func moved(old, new *route.Map, site string) []Move {
	was, is := table(old, site), table(new, site)
	var out []Move
	for i, j := 0, 0; i < len(was) || j < len(is); {
		order := 0
		switch {
		case i == len(was):
			order = 1
		case j == len(is):
			order = -1
		default:
			order = addr.Compare(was[i].Prefix, is[j].Prefix)
		}
		switch {
		case order < 0:
			out = append(out, Move{Site: site, Prefix: was[i].Prefix, From: way(old, &was[i]), Why: "the prefix is not shared with this site any more"})
			i++
		case order > 0:
			out = append(out, Move{Site: site, Prefix: is[j].Prefix, To: way(new, &is[j]), Why: "the prefix is shared with this site now"})
			j++
		default:
			if from, to := way(old, &was[i]), way(new, &is[j]); from != to {
				out = append(out, Move{Site: site, Prefix: was[i].Prefix, From: from, To: to, Why: why(old, new, &was[i], &is[j])})
			}
			i, j = i+1, j+1
		}
	}
	return out
}

func table(m *route.Map, site string) []route.Route {
	i := m.Plan.SiteIndex(site)
	if i < 0 {
		return nil
	}
	return slices.DeleteFunc(m.Table(i), func(r route.Route) bool { return r.Kind == route.Connected })
}

// way says by what a route is carried: its first tunnel, named by its links.
func way(m *route.Map, r *route.Route) string {
	if len(r.Hops) == 0 {
		return string(r.Kind)
	}
	_, _, t := m.Plan.At(r.Hops[0].End)
	return fmt.Sprintf("%s via %s to %s", m.Plan.Ident(t), m.Plan.Site(r.Hops[0].Via).Key, m.Plan.Site(r.To).Key)
}

func why(old, new *route.Map, was, is *route.Route) string {
	// Sites have other places in the other estate; their keys are the same.
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
		return string(route.TunnelRank)
	}
	// The new way costs what the former did, so that one must cost more now.
	i := slices.IndexFunc(is.Hops, func(h route.Hop) bool { return key(new, h.Via) == former })
	if i < 0 {
		return "the former way is gone"
	}
	return fmt.Sprintf("path cost by %s: %d became %d", former, was.Hops[0].Cost, is.Hops[i].Cost)
}
