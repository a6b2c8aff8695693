package rollout

import (
	"cmp"
	"net/netip"
	"slices"

	"wideknot/core/gateway"
)

// A table is what a gateway does with addresses, by their prefixes, in the order of those: what
// encloses a prefix stands before it.
type table []place

// A place of a table is a prefix, the index of its route or one of the below, and which place
// encloses it first, -1 for none.
type place struct {
	prefix    netip.Prefix
	value, up int32
}

// What a table's values are that are no index.
const (
	discarded = -1 - iota
	connected
	nothing
)

// tablesOf makes the tables of a configuration. Of one prefix that a table has twice, a route
// counts before what is connected, and that before a discard.
func tablesOf(c *gateway.Config) map[int]table {
	out := byNumber(len(c.Discards), func(i int) (int, place) { return c.Discards[i].Table, place{c.Discards[i].Prefix, discarded, -1} })
	own := byNumber(len(c.Filter.Own), func(i int) (int, place) { return gateway.DefaultTable, place{c.Filter.Own[i], connected, -1} })
	routes := byNumber(len(c.Routes), func(i int) (int, place) { return c.Routes[i].Table, place{c.Routes[i].Prefix, int32(i), -1} })
	for _, more := range []map[int]table{own, routes} {
		for number, t := range more {
			out[number] = merged(out[number], t)
		}
	}
	for _, t := range out {
		t.enclose()
	}
	return out
}

// byNumber puts each of n places into its table.
func byNumber(n int, one func(i int) (number int, p place)) map[int]table {
	out := map[int]table{}
	for i := 0; i < n; {
		number, p := one(i)
		t := out[number]
		if t == nil {
			t = make(table, 0, n-i)
		}
		for same := number; same == number; { // they mostly come one table after the other
			t = append(t, p)
			if i++; i == n {
				break
			}
			same, p = one(i)
		}
		out[number] = t
	}
	for _, t := range out {
		if !slices.IsSortedFunc(t, inOrder) {
			slices.SortStableFunc(t, inOrder)
		}
	}
	return out
}

func inOrder(a, b place) int {
	if c := a.prefix.Addr().Compare(b.prefix.Addr()); c != 0 {
		return c
	}
	return cmp.Compare(a.prefix.Bits(), b.prefix.Bits())
}

// merged is two tables in one. What comes later counts, be it of the second one or the same.
func merged(a, b table) table {
	out := make(table, 0, len(a)+len(b))
	add := func(p place) {
		if n := len(out); n > 0 && out[n-1].prefix == p.prefix {
			out[n-1] = p
		} else {
			out = append(out, p)
		}
	}
	for len(a) > 0 || len(b) > 0 {
		if len(b) == 0 || len(a) > 0 && inOrder(a[0], b[0]) <= 0 {
			add(a[0])
			a = a[1:]
		} else {
			add(b[0])
			b = b[1:]
		}
	}
	return out
}

// enclose finds what encloses what.
func (t table) enclose() {
	around := int32(-1)
	for i := range t {
		for around >= 0 && !t[around].prefix.Contains(t[i].prefix.Addr()) {
			around = t[around].up
		}
		t[i].up, around = around, int32(i)
	}
}

// find looks up the longest prefix of at least some bits that holds an address.
func (t table) find(a netip.Addr, least int) (value int) {
	for at := behind(len(t), func(i int) netip.Addr { return t[i].prefix.Addr() }, a) - 1; at >= 0; at = int(t[at].up) {
		if p := &t[at]; p.prefix.Contains(a) {
			if p.prefix.Bits() < least {
				return nothing
			}
			return int(p.value)
		}
	}
	return nothing
}

// behind is the first of n addresses in order that is greater than one, n where none is.
func behind(n int, at func(i int) netip.Addr, a netip.Addr) int {
	low, high := 0, n
	for low < high {
		if middle := (low + high) / 2; at(middle).Compare(a) <= 0 {
			low = middle + 1
		} else {
			high = middle
		}
	}
	return low
}

// sameTables reports whether the tables of two configurations are the same, index by index.
func sameTables(a, b *gateway.Config) bool {
	return slices.Equal(a.Filter.Own, b.Filter.Own) && slices.Equal(a.Discards, b.Discards) &&
		slices.EqualFunc(a.Routes, b.Routes, func(a, b gateway.Route) bool { return a.Table == b.Table && a.Prefix == b.Prefix })
}
