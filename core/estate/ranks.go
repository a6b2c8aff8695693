package estate

import (
	"cmp"
	"slices"
)

// RankLinks orders the links of a site: those whose keys are given come first,
// in that order, the others keep theirs behind them. It reports whether any
// rank changed.
func (s *Site) RankLinks(first []string) bool {
	place := func(l *Link) int {
		if i := slices.Index(first, l.Key); i >= 0 {
			return i
		}
		return len(first) + l.RankOf()
	}
	order := make([]int, len(s.Links))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(place(&s.Links[a]), place(&s.Links[b])) })
	changed := false
	for rank, i := range order {
		changed = changed || s.Links[i].RankOf() != rank+1
	}
	if changed {
		links := slices.Clone(s.Links)
		for rank, i := range order {
			links[i].Rank = rank + 1
		}
		s.Links = links
	}
	return changed
}
