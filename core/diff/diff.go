// Package diff compares two derivations as an engineer speaks of them: sites,
// tunnels and routes, and the text of each site's files.
package diff

import (
	"cmp"
	"fmt"
	"net/netip"
	"reflect"
	"slices"

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
	for m := range moves(old, new) {
		touched[m.site] = true
		d.Moves = append(d.Moves, m.inWords(old, new))
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
	return compare(byKey(old), byKey(new), whatOfSite)
}

func whatOfSite(was, is *estate.Site) []string {
	if was == is || reflect.DeepEqual(*was, *is) {
		return nil
	}
	out := fields("", *was, *is, "links", "subnets", "gateway")
	out = append(out, fields("gateway ", was.Gateway, is.Gateway)...)
	out = append(out, parts("link", was.Links, is.Links, func(l estate.Link) string { return l.Key })...)
	return append(out, parts("subnet", was.Subnets, is.Subnets, func(n estate.Subnet) string { return n.Prefix.String() })...)
}

func overlays(old, new *estate.Estate) Set {
	byKey := func(e *estate.Estate) map[string]*estate.Overlay {
		out := map[string]*estate.Overlay{}
		for i := range e.Overlays {
			out[e.Overlays[i].Key] = &e.Overlays[i]
		}
		return out
	}
	return compare(byKey(old), byKey(new), whatOfOverlay)
}

func whatOfOverlay(was, is *estate.Overlay) []string {
	out := fields("", *was, *is, "spokes")
	return append(out, parts("spoke", was.Spokes, is.Spokes, func(s estate.Spoke) string { return s.Site })...)
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

// A view is what a tunnel comes to, without its place in memory. Its two
// sides are in the order of the ident.
type view struct {
	rank, mtu     int
	weight, whole int // of its share of the load, 0 where it shares with none
	sides         [2]side
}

type side struct {
	port               int
	face, endpoint     string
	address4, address6 netip.Prefix
	calls              bool
}

// tunnels are named by overlay and ident.
func tunnels(old, new *tunnel.Plan) Set {
	same := sameAdjacencies(old, new)
	return compare(views(old, same), views(new, same), func(was, is view) []string {
		if was == is {
			return nil
		}
		var out []string
		say := func(word string, a, b any) {
			if a != b {
				out = append(out, fmt.Sprintf("%s: %v became %v", word, a, b))
			}
		}
		say("rank", was.rank, is.rank)
		if was.weight != is.weight || was.whole != is.whole {
			say("part of the flows", was.part(), is.part())
		}
		say("MTU", was.mtu, is.mtu)
		for i := range was.sides {
			a, b := was.sides[i], is.sides[i]
			say("port", a.port, b.port)
			say("interface", a.face, b.face)
			say("address", a.address4, b.address4)
			say("address", a.address6, b.address6)
			say("endpoint", a.endpoint, b.endpoint)
			say("can open it", a.calls, b.calls)
		}
		return out
	})
}

// part says what part of the flows of its turn the tunnel takes.
func (v *view) part() string {
	if v.weight == 0 {
		return "all"
	}
	return fmt.Sprintf("%d of %d", v.weight, v.whole)
}

// sameAdjacencies reports which places hold adjacencies that are the same in
// both plans, and so need not be looked at: most, after an edit.
func sameAdjacencies(old, new *tunnel.Plan) func(overlay, adjacency int) bool {
	outside := make([]bool, min(len(old.Estate.Sites), len(new.Estate.Sites)))
	for i := range outside {
		was, is := old.Site(i), new.Site(i)
		outside[i] = was.Key == is.Key && reflect.DeepEqual(was.Links, is.Links)
	}
	return func(overlay, adjacency int) bool {
		if overlay >= len(old.Overlays) || overlay >= len(new.Overlays) {
			return false
		}
		was, is := &old.Overlays[overlay], &new.Overlays[overlay]
		if was.Spec.Key != is.Spec.Key || adjacency >= len(was.Adjacencies) || adjacency >= len(is.Adjacencies) {
			return false
		}
		a, b := &was.Adjacencies[adjacency], &is.Adjacencies[adjacency]
		return a.A == b.A && a.B == b.B && max(a.A, a.B) < len(outside) && outside[a.A] && outside[a.B] && slices.Equal(a.Tunnels, b.Tunnels)
	}
}

func views(p *tunnel.Plan, skip func(overlay, adjacency int) bool) map[string]view {
	out := map[string]view{}
	for i := range p.Overlays {
		o := &p.Overlays[i]
		for j := range o.Adjacencies {
			if skip(i, j) {
				continue
			}
			for k := range o.Adjacencies[j].Tunnels {
				t := &o.Adjacencies[j].Tunnels[k]
				first, second := p.InIdentOrder(t)
				v := view{rank: k + 1, mtu: t.MTU}
				if share := o.Adjacencies[j].Share(k); share != nil {
					v.weight, v.whole = share.Weight, share.Whole
				}
				for n, port := range []*tunnel.Port{first, second} {
					v.sides[n] = side{port.UDP, port.Interface, p.Endpoint(t, port), port.Address4, port.Address6, port.Calls}
				}
				out[o.Spec.Key+" "+p.Ident(t)] = v
			}
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
