package addr

import (
	"net/netip"
	"slices"
)

// A Summary is one prefix that stands for several, and what it covers beyond
// them: whoever uses it must know that traffic to the holes follows it too.
type Summary struct {
	Prefix netip.Prefix
	Covers []netip.Prefix // the given ones inside it, aggregated
	Holes  []netip.Prefix // the largest blocks inside that were not given
}

// Summarise proposes for each super prefix, such as a region's block, the
// narrowest prefix inside it that covers all given prefixes there. Super
// prefixes that hold none are left out; so are prefixes outside all of them.
func Summarise(supers, prefixes []netip.Prefix) []Summary {
	var out []Summary
	for _, super := range supers {
		var inside []netip.Prefix
		for _, p := range prefixes {
			if p.IsValid() && Covers(super, p) {
				inside = append(inside, p)
			}
		}
		if len(inside) == 0 {
			continue
		}
		inside = Aggregate(inside)
		s := Summary{Prefix: inside[0], Covers: inside}
		for slices.ContainsFunc(inside, func(p netip.Prefix) bool { return !Covers(s.Prefix, p) }) {
			s.Prefix = netip.PrefixFrom(s.Prefix.Addr(), s.Prefix.Bits()-1).Masked()
		}
		s.Holes = Free(s.Prefix, inside)
		out = append(out, s)
	}
	return out
}
