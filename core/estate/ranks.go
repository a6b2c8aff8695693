package estate

import (
	"cmp"
	"fmt"
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

// LinkOrder lists the links of a site by their ranks, links of equal ranks as
// they stand in the document, those that share the load together.
func (s *Site) LinkOrder() []LinkChoice {
	byRank := make([]int, len(s.Links))
	for i := range byRank {
		byRank[i] = i
	}
	slices.SortStableFunc(byRank, func(a, b int) int { return cmp.Compare(s.Links[a].RankOf(), s.Links[b].RankOf()) })
	var out []LinkChoice
	for n, i := range byRank {
		l := &s.Links[i]
		if slices.ContainsFunc(out, func(c LinkChoice) bool { return c.Key == l.Key }) {
			continue
		}
		mates := s.SharesWith(i)
		if mates == nil {
			out = append(out, LinkChoice{Key: l.Key})
			continue
		}
		for _, j := range byRank[n:] {
			if o := &s.Links[j]; slices.Contains(mates, o.Key) {
				out = append(out, LinkChoice{o.Key, j != i, o.Weight})
			}
		}
	}
	return out
}

// A LinkPattern is the sites that have the same links in the same order, for
// the same zones.
type LinkPattern struct {
	Order []LinkChoice `json:"order"`
	Zones [][]string   `json:"zones" doc:"of each link in the order, the only ones it lets through; empty for all"`
	Sites []string     `json:"sites"`
}

// LinkPatterns sorts the sites that have links by pattern; the pattern of most
// sites comes first.
func (e *Estate) LinkPatterns() []LinkPattern {
	out := []LinkPattern{}
	known := map[string]int{}
	for i := range e.Sites {
		s := &e.Sites[i]
		if len(s.Links) == 0 {
			continue
		}
		p := LinkPattern{Order: s.LinkOrder()}
		for _, c := range p.Order {
			p.Zones = append(p.Zones, append([]string{}, s.Link(c.Key).Zones...))
		}
		id := fmt.Sprint(p.Order, p.Zones)
		at, ok := known[id]
		if !ok {
			at = len(out)
			known[id] = at
			out = append(out, p)
		}
		out[at].Sites = append(out[at].Sites, s.Key)
	}
	slices.SortStableFunc(out, func(a, b LinkPattern) int { return len(b.Sites) - len(a.Sites) })
	return out
}

// RankLinks orders the links of a site: those whose keys are given come first,
// in that order, the others keep theirs behind them, as do those among them
// that share the load. It reports whether any rank or weight changed.
func (s *Site) RankLinks(first []LinkChoice) bool {
	first = slices.DeleteFunc(slices.Clone(first), func(c LinkChoice) bool { return s.Link(c.Key) == nil })
	order := slices.Clone(first)
	led := false // some link of the group stays behind
	for _, c := range s.LinkOrder() {
		led = led && c.Shares
		if slices.ContainsFunc(first, func(f LinkChoice) bool { return f.Key == c.Key }) {
			continue
		}
		c.Shares, led = led, true
		order = append(order, c)
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
