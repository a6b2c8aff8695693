package route

import "cmp"

// A weight orders paths. All its parts add up along a path and none depends on
// the direction in which it is walked; tie makes the least path unique. So the
// return path is the forward path reversed, and every part of a least path is
// itself least: hop-by-hop forwarding follows the same path.
type weight struct {
	cost int32
	hops int32
	key  int32  // places of the hubs on the way in key order
	tie  uint64 // sums of hashes of the two keys of each step
}

func (w weight) plus(v weight) weight {
	return weight{w.cost + v.cost, w.hops + v.hops, w.key + v.key, w.tie + v.tie}
}

func (w weight) compare(v weight) int {
	return cmp.Or(cmp.Compare(w.cost, v.cost), cmp.Compare(w.hops, v.hops), cmp.Compare(w.key, v.key), cmp.Compare(w.tie, v.tie))
}

// like reports whether two are the same but for the hash of keys.
func (w weight) like(v weight) bool { return w.cost == v.cost && w.hops == v.hops && w.key == v.key }

// Rule names what set a winner apart from a loser, in the order in which the
// rules are asked (section 7 of the domain).
type Rule string

// The rules.
const (
	Pinned     Rule = "pinned by the engineer"
	PathCost   Rule = "path cost"
	FewerHops  Rule = "fewer hops"
	HubOrder   Rule = "hub order"
	TunnelRank Rule = "tunnel rank"
	KeyOrder   Rule = "key order"
	// Limits sets tunnels between the same two sites apart for what is held to limits of
	// latency, jitter and loss: those within come first.
	Limits Rule = "limits"
	// LoadSharing sets nothing apart: the two share the load, as was asked for.
	LoadSharing Rule = "load sharing"
)

func (w weight) rule(v weight) Rule {
	switch {
	case w.cost != v.cost:
		return PathCost
	case w.hops != v.hops:
		return FewerHops
	}
	return KeyOrder
}
