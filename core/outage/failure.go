package outage

import (
	"fmt"
	"slices"
	"strings"

	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// Kind is what sort of part fails.
type Kind string

// The kinds of part, in the order in which they are listed.
const (
	Gateway  Kind = "gateway"  // gateway:SITE
	Link     Kind = "link"     // link:SITE/LINK
	Fate     Kind = "fate"     // fate:GROUP, all links with the shared fate
	Provider Kind = "provider" // provider:NAME, all links of the provider
	Underlay Kind = "underlay" // underlay:NAME, all links on it
	Region   Kind = "region"   // region:KEY, all gateways in it
)

// Kinds lists all kinds.
var Kinds = []Kind{Gateway, Link, Fate, Provider, Underlay, Region}

// A Part is what can fail, written KIND:NAME.
type Part struct {
	Kind Kind
	Name string
}

// String writes the part as ParsePart reads it.
func (p Part) String() string { return string(p.Kind) + ":" + p.Name }

// MarshalText writes the part.
func (p Part) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// ParsePart reads KIND:NAME. Whether an estate has such a part is for
// Model to say.
func ParsePart(text string) (Part, error) {
	kind, name, found := strings.Cut(text, ":")
	if !found || !slices.Contains(Kinds, Kind(kind)) || name == "" {
		return Part{}, fmt.Errorf("%q is no part that can fail: write link:SITE/LINK, gateway:SITE, fate:GROUP, provider:NAME, underlay:NAME or region:KEY", text)
	}
	return Part{Kind(kind), name}, nil
}

// A set is what a failure takes away: links and gateways, by number.
type set struct {
	parts []Part
	links []int
	gates []int
}

// Parts lists everything that can fail alone in the estate: gateways and links
// that have tunnels, and what several of them have in common.
func (m *Model) Parts() []Part {
	var out []Part
	common := map[Part]int{}
	var order []Part
	add := func(p Part) {
		if common[p] == 0 {
			order = append(order, p)
		}
		common[p]++
	}
	for i := range m.Plan.Estate.Sites {
		if len(m.Plan.Ends(i)) == 0 {
			continue
		}
		site := m.Plan.Site(i)
		out = append(out, Part{Gateway, site.Key})
		for j := range site.Links {
			l := &site.Links[j]
			if l.NoTunnels {
				continue
			}
			out = append(out, Part{Link, site.Key + "/" + l.Key})
			for _, g := range l.SharedFate {
				add(Part{Fate, g})
			}
			if l.Provider != "" {
				add(Part{Provider, l.Provider})
			}
			add(Part{Underlay, l.UnderlayOf()})
		}
		if site.Region != "" {
			add(Part{Region, site.Region})
		}
	}
	for _, p := range order {
		if common[p] > 1 { // what one link has alone fails with that link
			out = append(out, p)
		}
	}
	slices.SortStableFunc(out, func(a, b Part) int { return slices.Index(Kinds, a.Kind) - slices.Index(Kinds, b.Kind) })
	return out
}

// failing resolves parts to links and gateways. It names the part that the
// estate does not have.
func (m *Model) failing(parts []Part) (set, error) {
	takes := m.index(parts)
	for _, p := range parts {
		if _, found := takes[p]; !found {
			return set{}, fmt.Errorf("the estate has no %s", p)
		}
	}
	return takes.of(parts), nil
}

// Kills says which tunnels die with some parts: those over their links, and all
// of their gateways. It errs when the estate has no such part.
func (m *Model) Kills(parts ...Part) (route.Dead, error) {
	f, err := m.failing(parts)
	if err != nil {
		return nil, err
	}
	dead := make([]bool, len(m.sites))
	for _, l := range f.links {
		dead[l] = true
	}
	for _, g := range f.gates {
		for l := m.links[g]; l < m.links[g+1]; l++ {
			dead[l] = true
		}
	}
	return func(t *tunnel.Tunnel) bool {
		return dead[m.links[t.A.Site]+t.A.Link] || dead[m.links[t.B.Site]+t.B.Link]
	}, nil
}

// An index finds what each part takes without looking through the estate.
type index map[Part]set

// of joins what some parts take, the links in their order.
func (x index) of(parts []Part) set {
	f := set{parts: parts}
	for _, p := range parts {
		f.links = append(f.links, x[p].links...)
		f.gates = append(f.gates, x[p].gates...)
	}
	slices.Sort(f.links)
	return f
}

func (m *Model) index(parts []Part) index {
	out := index{}
	wanted := map[Part]bool{}
	for _, p := range parts {
		wanted[p] = true
	}
	put := func(p Part, link, gate int) {
		if !wanted[p] {
			return
		}
		s := out[p]
		if link >= 0 {
			s.links = append(s.links, link)
		} else {
			s.gates = append(s.gates, gate)
		}
		out[p] = s
	}
	for i := range m.Plan.Estate.Sites {
		site := m.Plan.Site(i)
		put(Part{Gateway, site.Key}, -1, i)
		put(Part{Region, site.Region}, -1, i)
		for j := range site.Links {
			l := &site.Links[j]
			n := m.links[i] + j
			put(Part{Link, site.Key + "/" + l.Key}, n, 0)
			for _, g := range l.SharedFate {
				put(Part{Fate, g}, n, 0)
			}
			put(Part{Provider, l.Provider}, n, 0)
			put(Part{Underlay, l.UnderlayOf()}, n, 0)
		}
	}
	return out
}
