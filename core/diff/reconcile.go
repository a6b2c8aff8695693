package diff

import (
	"reflect"

	"wideknot/core/estate"
)

// Choice says whose side of a conflict is taken.
type Choice string

// The choices.
const (
	Mine   Choice = "mine"   // what the draft has
	Theirs Choice = "theirs" // what was released meanwhile
)

// A Conflict is a part of the estate that two changed in different ways since
// their common base.
type Conflict struct {
	Part   string   `json:"part"` // "head ", "site KEY" or "overlay KEY"
	Name   string   `json:"name"`
	Mine   []string `json:"mine"` // what each did, in words
	Theirs []string `json:"theirs"`
	Choice Choice   `json:"choice,omitempty"` // empty while open
}

// Reconcile brings mine, which was made from base, up to theirs, which was made
// from base too: what only one of them changed is taken from that one; where
// both changed a part differently, the choice for that part counts, and without
// one theirs stands for the time being. Overlays lose what names a site that is
// not there any more. Of allocations, theirs stay.
func Reconcile(base, mine, theirs *estate.Estate, choices map[string]Choice) (*estate.Estate, []Conflict) {
	r := reconciler{choices: choices, conflicts: []Conflict{}}
	out := &estate.Estate{Format: estate.Format, Allocations: theirs.Allocations.Adopt(mine.Allocations)}
	about := reconcile(&r, "head ", list(base.About), list(mine.About), list(theirs.About), aboutParts)
	out.About = about[0]
	out.Sites = reconcile(&r, "site ", base.Sites, mine.Sites, theirs.Sites, siteParts)
	out.Overlays = reconcile(&r, "overlay ", base.Overlays, mine.Overlays, theirs.Overlays, overlayParts)
	return out.WithoutStrangers(), r.conflicts
}

func list[T any](one T) []T { return []T{one} }

// A kind of part: its key and name, and what became of it, in words.
type kind[T any] struct {
	key, name func(T) string
	what      func(was, is *T) []string
}

var (
	aboutParts = kind[estate.About]{
		func(estate.About) string { return "" }, func(a estate.About) string { return a.Name },
		func(was, is *estate.About) []string { return fields("", *was, *is) },
	}
	siteParts = kind[estate.Site]{
		func(s estate.Site) string { return s.Key }, func(s estate.Site) string { return s.Name }, whatOfSite,
	}
	overlayParts = kind[estate.Overlay]{
		func(o estate.Overlay) string { return o.Key }, func(o estate.Overlay) string { return o.Key }, whatOfOverlay,
	}
)

type reconciler struct {
	choices   map[string]Choice
	conflicts []Conflict
}

func reconcile[T any](r *reconciler, prefix string, base, mine, theirs []T, k kind[T]) []T {
	was, own := index(base, k.key), index(mine, k.key)
	var out []T
	decide := func(key string, theirs *T) *T {
		b, m := was[key], own[key]
		switch {
		case same(m, theirs), same(b, m):
			return theirs
		case same(b, theirs):
			return m
		}
		c := Conflict{Part: prefix + key, Mine: k.say(b, m), Theirs: k.say(b, theirs), Choice: r.choices[prefix+key]}
		for _, x := range []*T{m, theirs, b} {
			if x != nil {
				c.Name = k.name(*x)
				break
			}
		}
		r.conflicts = append(r.conflicts, c)
		if c.Choice == Mine {
			return m
		}
		return theirs
	}
	seen := map[string]bool{}
	for i := range theirs {
		key := k.key(theirs[i])
		seen[key] = true
		if x := decide(key, &theirs[i]); x != nil {
			out = append(out, *x)
		}
	}
	for i := range mine {
		if key := k.key(mine[i]); !seen[key] {
			if x := decide(key, nil); x != nil {
				out = append(out, *x)
			}
		}
	}
	return out
}

func index[T any](list []T, key func(T) string) map[string]*T {
	out := make(map[string]*T, len(list))
	for i := range list {
		out[key(list[i])] = &list[i]
	}
	return out
}

func same[T any](a, b *T) bool {
	if a == nil || b == nil {
		return a == b
	}
	return reflect.DeepEqual(*a, *b)
}

func (k kind[T]) say(was, is *T) []string {
	switch {
	case is == nil:
		return []string{"deleted"}
	case was == nil:
		return []string{"added"}
	}
	return k.what(was, is)
}

// Words says what became of the head, the sites and the overlays of an estate.
func Words(was, is *estate.Estate) []string {
	out := fields("", was.About, is.About)
	for _, set := range []Set{sites(was, is), overlays(was, is)} {
		for _, c := range set.Changed {
			out = append(out, c.What...)
		}
	}
	return out
}
