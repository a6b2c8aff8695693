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

// Degree is how badly something fails.
type Degree string

// The degrees. What is slow has a latency and a jitter beyond any limits, what is lossy a
// loss; both still carry.
const (
	Dead  Degree = ""
	Slow  Degree = "slow"
	Lossy Degree = "lossy"
)

// A Part is what can fail, written KIND:NAME or, where it is not dead, DEGREE:KIND:NAME.
type Part struct {
	Kind   Kind
	Name   string
	Degree Degree
}

// String writes the part as ParsePart reads it.
func (p Part) String() string {
	text := string(p.Kind) + ":" + p.Name
	if p.Degree != Dead {
		text = string(p.Degree) + ":" + text
	}
	return text
}

// whole is the part, dead.
func (p Part) whole() Part { return Part{Kind: p.Kind, Name: p.Name} }

// MarshalText writes the part.
func (p Part) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// ParsePart reads KIND:NAME or DEGREE:KIND:NAME. Whether an estate has such a part is
// for Model to say.
func ParsePart(text string) (Part, error) {
	degree, rest := Dead, text
	for _, d := range []Degree{Slow, Lossy} {
		if after, ok := strings.CutPrefix(text, string(d)+":"); ok {
			degree, rest = d, after
		}
	}
	kind, name, found := strings.Cut(rest, ":")
	if !found || !slices.Contains(Kinds, Kind(kind)) || name == "" {
		return Part{}, fmt.Errorf("%q is no part that can fail: write link:SITE/LINK, gateway:SITE, fate:GROUP, provider:NAME, underlay:NAME or region:KEY, with slow: or lossy: before it where it is not dead", text)
	}
	return Part{Kind(kind), name, degree}, nil
}

// A set is what a failure takes away: links and gateways, by number; and the links that
// it makes worse.
type set struct {
	parts       []Part
	links       []int
	gates       []int
	slow, lossy []int
	within      []int // links of the gateways
}

// Parts lists everything that can fail alone in the estate: gateways and links
// that have tunnels, and what several of them have in common. Where overlays have limits,
// what makes tunnels of theirs slow or lossy is a failure too.
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
		out = append(out, Part{Kind: Gateway, Name: site.Key})
		for j := range site.Links {
			l := &site.Links[j]
			if l.NoTunnels {
				continue
			}
			out = append(out, Part{Kind: Link, Name: site.Key + "/" + l.Key})
			for _, g := range l.SharedFate {
				add(Part{Kind: Fate, Name: g})
			}
			if l.Provider != "" {
				add(Part{Kind: Provider, Name: l.Provider})
			}
			add(Part{Kind: Underlay, Name: l.UnderlayOf()})
		}
		if site.Region != "" {
			add(Part{Kind: Region, Name: site.Region})
		}
	}
	for _, p := range order {
		if common[p] > 1 { // what one link has alone fails with that link
			out = append(out, p)
		}
	}
	out = append(out, m.degraded(out)...)
	slices.SortStableFunc(out, func(a, b Part) int { return slices.Index(Kinds, a.Kind) - slices.Index(Kinds, b.Kind) })
	return out
}

// degraded lists those of the parts, in a degree that limits notice, whose links carry
// tunnels of overlays with such limits. Gateways and regions fail whole.
func (m *Model) degraded(parts []Part) (out []Part) {
	if !m.limited {
		return nil
	}
	notices := map[Degree][]bool{Slow: make([]bool, len(m.sites)), Lossy: make([]bool, len(m.sites))} // by link
	for i := range m.nets {
		limits := m.nets[i].limits
		if limits == nil {
			continue
		}
		for _, ends := range m.nets[i].ends {
			for _, l := range ends {
				notices[Slow][l] = notices[Slow][l] || limits.LatencyMs > 0 || limits.JitterMs > 0
				notices[Lossy][l] = notices[Lossy][l] || limits.LossPercent > 0
			}
		}
	}
	takes := m.index(parts)
	for _, p := range parts {
		if p.Kind == Gateway || p.Kind == Region {
			continue
		}
		for _, d := range []Degree{Slow, Lossy} {
			if slices.ContainsFunc(takes[p].links, func(l int) bool { return notices[d][l] }) {
				out = append(out, Part{p.Kind, p.Name, d})
			}
		}
	}
	return out
}

// failing resolves parts to links and gateways. It names the part that the
// estate does not have.
func (m *Model) failing(parts []Part) (set, error) {
	takes := m.index(parts)
	for _, p := range parts {
		if _, found := takes[p.whole()]; !found {
			return set{}, fmt.Errorf("the estate has no %s", p.whole())
		}
	}
	return takes.of(parts), nil
}

// Kills says which tunnels some parts take away, or make slow or lossy: those over their
// links, and all of their gateways. It errs when the estate has no such part.
func (m *Model) Kills(parts ...Part) (route.Failing, error) {
	f, err := m.failing(parts)
	if err != nil {
		return route.Failing{}, err
	}
	over := func(links []int) func(t *tunnel.Tunnel) bool {
		hit := make([]bool, len(m.sites))
		for _, l := range links {
			hit[l] = true
		}
		return func(t *tunnel.Tunnel) bool { return hit[m.links[t.A.Site]+t.A.Link] || hit[m.links[t.B.Site]+t.B.Link] }
	}
	dead := slices.Clone(f.links)
	for _, g := range f.gates {
		dead = append(dead, m.linksOf(g)...)
	}
	return route.Failing{Dead: over(dead), Slow: over(f.slow), Lossy: over(f.lossy)}, nil
}

// linksOf numbers the links of a site.
func (m *Model) linksOf(site int) (out []int) {
	for l := m.links[site]; l < m.links[site+1]; l++ {
		out = append(out, l)
	}
	return out
}

// An index finds what each part takes, when it is dead, without looking through the
// estate. What it takes of a gateway that is not dead is its links.
type index map[Part]set

// of joins what some parts take, the links in their order.
func (x index) of(parts []Part) set {
	f := set{parts: parts}
	for _, p := range parts {
		takes := x[p.whole()]
		switch p.Degree {
		case Slow:
			f.slow = append(append(f.slow, takes.links...), takes.within...)
		case Lossy:
			f.lossy = append(append(f.lossy, takes.links...), takes.within...)
		default:
			f.links = append(f.links, takes.links...)
			f.gates = append(f.gates, takes.gates...)
		}
	}
	slices.Sort(f.links)
	slices.Sort(f.slow)
	slices.Sort(f.lossy)
	return f
}

func (m *Model) index(parts []Part) index {
	out := index{}
	wanted := map[Part]bool{}
	for _, p := range parts {
		wanted[p.whole()] = true
	}
	put := func(kind Kind, name string, link, gate int) {
		p := Part{Kind: kind, Name: name}
		if !wanted[p] {
			return
		}
		s := out[p]
		if link >= 0 {
			s.links = append(s.links, link)
		} else {
			s.gates, s.within = append(s.gates, gate), append(s.within, m.linksOf(gate)...)
		}
		out[p] = s
	}
	for i := range m.Plan.Estate.Sites {
		site := m.Plan.Site(i)
		put(Gateway, site.Key, -1, i)
		put(Region, site.Region, -1, i)
		for j := range site.Links {
			l := &site.Links[j]
			n := m.links[i] + j
			put(Link, site.Key+"/"+l.Key, n, 0)
			for _, g := range l.SharedFate {
				put(Fate, g, n, 0)
			}
			put(Provider, l.Provider, n, 0)
			put(Underlay, l.UnderlayOf(), n, 0)
		}
	}
	return out
}
