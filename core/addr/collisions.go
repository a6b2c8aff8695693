package addr

import (
	"encoding/binary"
	"net/netip"
	"slices"
)

// Two prefixes are either disjoint or one holds the other. Sorted by address
// and width they therefore form a forest in which a prefix's ancestors are
// exactly those that overlap it from outside. One sort and one pass build it:
// O(n log n), and no pair of prefixes is ever compared that need not be.

type node struct {
	prefix      int32 // index of one prefix of this node; all its members are equal
	parent      int32 // index of the narrowest node around it, or -1
	first, last int32 // members are sorted[first:last]
}

type key struct {
	hi, lo uint64
	order  uint64 // family, length, and the index that makes equal prefixes stable
}

func keyOf(p netip.Prefix, index int) key {
	bits := uint64(p.Bits())
	if p.Addr().Is4() {
		four := p.Addr().As4()
		return key{hi: uint64(binary.BigEndian.Uint32(four[:])) << 32, order: bits<<32 | uint64(index)}
	}
	sixteen := p.Addr().As16()
	return key{
		hi:    binary.BigEndian.Uint64(sixteen[:8]),
		lo:    binary.BigEndian.Uint64(sixteen[8:]),
		order: 1<<63 | bits<<32 | uint64(index),
	}
}

func (k key) six() bool  { return k.order>>63 == 1 }
func (k key) index() int { return int(uint32(k.order)) }

func compareKeys(a, b key) int {
	if a.order>>63 != b.order>>63 {
		if a.order < b.order {
			return -1
		}
		return 1
	}
	switch {
	case a.hi < b.hi:
		return -1
	case a.hi > b.hi:
		return 1
	case a.lo < b.lo:
		return -1
	case a.lo > b.lo:
		return 1
	case a.order < b.order:
		return -1
	case a.order > b.order:
		return 1
	}
	return 0
}

// forest sorts the prefixes and links each distinct one to the narrowest
// prefix around it. Invalid prefixes are left out. The second result lists the
// indices of prefixes in sorted order.
func forest(prefixes []netip.Prefix) ([]node, []int32) {
	keys := make([]key, 0, len(prefixes))
	for i, p := range prefixes {
		if p.IsValid() {
			keys = append(keys, keyOf(p.Masked(), i))
		}
	}
	slices.SortFunc(keys, compareKeys)
	sorted := make([]int32, len(keys))
	nodes := make([]node, 0, len(keys))
	open := make([]int32, 0, 130)
	for i, k := range keys {
		sorted[i] = int32(k.index())
		p := prefixes[k.index()]
		if i > 0 && sameBlock(keys[i-1], k) {
			nodes[len(nodes)-1].last++
			continue
		}
		for len(open) > 0 && !Covers(prefixes[nodes[open[len(open)-1]].prefix], p) {
			open = open[:len(open)-1]
		}
		parent := int32(-1)
		if len(open) > 0 {
			parent = open[len(open)-1]
		}
		open = append(open, int32(len(nodes)))
		nodes = append(nodes, node{prefix: int32(k.index()), parent: parent, first: int32(i), last: int32(i + 1)})
	}
	return nodes, sorted
}

func sameBlock(a, b key) bool {
	return a.hi == b.hi && a.lo == b.lo && a.order>>32 == b.order>>32
}

// Overlaps calls yield with the indices of every two prefixes that overlap,
// the wider first (of equals, the one given first), until yield returns false.
func Overlaps(prefixes []netip.Prefix, yield func(outer, inner int) bool) {
	nodes, sorted := forest(prefixes)
	for at := range nodes {
		members := sorted[nodes[at].first:nodes[at].last]
		for i, inner := range members {
			for _, equal := range members[:i] {
				if !yield(int(equal), int(inner)) {
					return
				}
			}
			for up := nodes[at].parent; up >= 0; up = nodes[up].parent {
				for _, outer := range sorted[nodes[up].first:nodes[up].last] {
					if !yield(int(outer), int(inner)) {
						return
					}
				}
			}
		}
	}
}

// Held is a prefix and who has it, such as the index of a site.
type Held struct {
	Prefix netip.Prefix
	Owner  int
}

// Clashes groups the prefixes that overlap a prefix of another owner. Each
// group lists indices into held: the widest prefix first, then those inside it
// in address order. Overlaps within one owner are not reported here.
func Clashes(held []Held) [][]int {
	prefixes := make([]netip.Prefix, len(held))
	for i, h := range held {
		prefixes[i] = h.Prefix
	}
	nodes, sorted := forest(prefixes)
	members := func(n int) []int32 { return sorted[nodes[n].first:nodes[n].last] }

	// owners[n] is the one owner of a node's members, or mixed.
	const none, mixed = -1, -2
	merge := func(a, b int) int {
		switch {
		case a == none || a == b:
			return b
		case b == none:
			return a
		}
		return mixed
	}
	own := make([]int, len(nodes))
	above := make([]int, len(nodes)) // owners of all ancestors
	below := make([]int, len(nodes)) // owners of all descendants
	for n := range nodes {
		own[n], above[n], below[n] = none, none, none
		for _, m := range members(n) {
			own[n] = merge(own[n], held[m].Owner)
		}
		if up := nodes[n].parent; up >= 0 {
			above[n] = merge(above[up], own[up])
		}
	}
	for n := len(nodes) - 1; n >= 0; n-- {
		if up := nodes[n].parent; up >= 0 {
			below[up] = merge(below[up], merge(below[n], own[n]))
		}
	}
	var groups [][]int
	var group []int
	flush := func() {
		if len(group) > 1 {
			groups = append(groups, group)
		}
		group = nil
	}
	for n := range nodes {
		if nodes[n].parent < 0 {
			flush()
		}
		around := merge(merge(above[n], below[n]), own[n])
		if around != mixed {
			continue
		}
		for _, m := range members(n) {
			group = append(group, int(m))
		}
	}
	flush()
	return groups
}
