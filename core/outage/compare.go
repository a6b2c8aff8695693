package outage

import (
	"cmp"
	"slices"
)

// A Change is a site that one failure hits harder, or less hard, in one state
// of an estate than in another.
type Change struct {
	Part Part
	Site string
	Was  Verdict
	Now  Verdict
}

// Better reports whether the site is better off now.
func (c *Change) Better() bool { return c.Now < c.Was }

// Compare says at which sites the single failures of two states differ, what
// got worse first. Sites, and the failures of gateways and links, that only one
// of them has are left out. A fate that only one has in common is compared all
// the same: that nothing shares it any more is what was wanted.
func Compare(old, new *Model, was, now []Outcome) []Change {
	was, now = old.besides(was, now), new.besides(now, was)
	type place struct {
		part Part
		site string
	}
	verdicts := func(m *Model, list []Outcome) (map[place]Verdict, map[Part]bool) {
		out, parts := map[place]Verdict{}, map[Part]bool{}
		for i := range list {
			parts[list[i].Parts[0]] = true
			for _, s := range list[i].Sites {
				out[place{list[i].Parts[0], m.Plan.Site(s.Site).Key}] = s.Verdict
			}
		}
		return out, parts
	}
	before, partsBefore := verdicts(old, was)
	after, partsAfter := verdicts(new, now)
	var out []Change
	add := func(p place) {
		if before[p] != after[p] && partsBefore[p.part] && partsAfter[p.part] && old.Plan.SiteIndex(p.site) >= 0 && new.Plan.SiteIndex(p.site) >= 0 {
			out = append(out, Change{p.part, p.site, before[p], after[p]})
		}
	}
	for p := range before {
		add(p)
	}
	for p := range after {
		if _, both := before[p]; !both {
			add(p)
		}
	}
	slices.SortFunc(out, func(a, b Change) int {
		return cmp.Or(cmp.Compare(b.Now-b.Was, a.Now-a.Was), cmp.Compare(a.Part.String(), b.Part.String()), cmp.Compare(a.Site, b.Site))
	})
	return out
}

// besides adds to single failures what the other state has in common and this
// one has not.
func (m *Model) besides(mine, theirs []Outcome) []Outcome {
	known := map[Part]bool{}
	for i := range mine {
		known[mine[i].Parts[0]] = true
	}
	var more []Part
	for i := range theirs {
		if p := theirs[i].Parts[0]; !known[p] && p.Kind != Gateway && p.Kind != Link {
			more = append(more, p)
		}
	}
	return append(slices.Clone(mine), m.Singles(more)...)
}
