package tunnel

import (
	"cmp"

	"wideknot/core/estate"
)

// A candidate is a pair of links that can carry a tunnel.
type candidate struct {
	a, b   *usable
	family estate.Family
	placed bool // by the engineer, for this pair of sites
}

// weight is the candidate's part among those that share the load.
func (c candidate) weight() int { return c.a.weight * c.b.weight }

// compareCandidates is the one rank order both ends share: a private underlay
// first, then the leading end's link rank, the other's, and the keys. Links
// that share the load stand together, the largest part first.
func compareCandidates(x, y candidate) int {
	return cmp.Or(
		comparePlaces(x, y),
		cmp.Compare(y.weight(), x.weight()),
		cmp.Compare(x.a.key, y.a.key),
		cmp.Compare(x.b.key, y.b.key),
	)
}

// comparePlaces does, but for candidates that share the load, which are equal.
func comparePlaces(x, y candidate) int {
	private := func(c candidate) int {
		if c.a.underlay != estate.Internet {
			return 0
		}
		return 1
	}
	return cmp.Or(
		private(x)-private(y),
		x.a.rank-y.a.rank,
		x.b.rank-y.b.rank,
		cmp.Compare(x.a.place, y.a.place),
		cmp.Compare(x.b.place, y.b.place),
	)
}
