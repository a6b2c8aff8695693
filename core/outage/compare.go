package outage

import (
	"cmp"
	"slices"
)

// A Change is a site that one failure hits harder, or less hard, in one state
// of an estate than in another. What a state does not have cannot fail there.
type Change struct {
	Part Part
	Site string
	Was  Verdict
	Now  Verdict
}

// Better reports whether the site is better off now.
func (c *Change) Better() bool { return c.Now < c.Was }

// Compare says at which sites the single failures of two states differ, what
// got worse first. Sites that only one of them has are left out.
func Compare(old, new *Model, was, now []Outcome) []Change {
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
