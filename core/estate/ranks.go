package estate

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
)

// A LinkChoice is a link in an order of links. One that shares the load with
// the one before it has the same rank; the weights say in what proportion.
type LinkChoice struct {
	Key    string `json:"key" maxLength:"40"`
	Shares bool   `json:"shares,omitempty" doc:"the load with the one before it"`
	Weight int    `json:"weight,omitempty" minimum:"1" maximum:"16" doc:"its part among those that share; 1 when none is given"`
}

// shares reports whether the choice of a place is one of several that share the
// load; beside, whether it does with the one before it.
func shares(order []LinkChoice, at int) (any, beside bool) {
	beside = at > 0 && order[at].Shares
	return beside || at+1 < len(order) && order[at+1].Shares, beside
}

// ChoicesText writes an order of links down for people.
func ChoicesText(order []LinkChoice) string {
	var text strings.Builder
	for i, c := range order {
		sharing, beside := shares(order, i)
		switch {
		case beside:
			text.WriteString(" beside ")
		case i > 0:
			text.WriteString(", then ")
		}
		text.WriteString(c.Key)
		if sharing {
			text.WriteString(" × " + strconv.Itoa(max(1, c.Weight)))
		}
	}
	return text.String()
}

// RankLinks orders the links of a site: those whose keys are given come first,
// in that order, the others keep theirs behind them, as do those among them
// that share the load. It reports whether any rank or weight changed.
func (s *Site) RankLinks(first []LinkChoice) bool {
	first = slices.DeleteFunc(slices.Clone(first), func(c LinkChoice) bool { return s.Link(c.Key) == nil })
	order := slices.Clone(first)
	rest := slices.Clone(s.Links)
	slices.SortStableFunc(rest, func(a, b Link) int { return cmp.Compare(a.RankOf(), b.RankOf()) })
	for i, l := range rest {
		if slices.ContainsFunc(first, func(c LinkChoice) bool { return c.Key == l.Key }) {
			continue
		}
		at := slices.IndexFunc(s.Links, func(o Link) bool { return o.Key == l.Key })
		before := i > 0 && len(order) > len(first) && slices.Contains(s.SharesWith(at), order[len(order)-1].Key)
		order = append(order, LinkChoice{l.Key, before, l.Weight})
	}
	links := slices.Clone(s.Links)
	changed := false
	rank := 0
	for i, c := range order {
		sharing, beside := shares(order, i)
		if !beside {
			rank++
		}
		l := &links[slices.IndexFunc(links, func(l Link) bool { return l.Key == c.Key })]
		weight := 0
		if sharing {
			weight = max(1, c.Weight)
		}
		changed = changed || l.RankOf() != rank || l.Weight != weight
		l.Rank, l.Weight = rank, weight
	}
	if changed {
		s.Links = links
	}
	return changed
}
