package route

import (
	"cmp"
	"net/netip"
	"slices"

	"github.com/gaissmai/bart"

	"wideknot/core/addr"
)

// A holding is a prefix at a site.
type holding struct {
	prefix netip.Prefix
	site   int
	subnet int
	meets  bool // another one of its list
}

// within reports whether a site's own prefixes hold another's: packets for it could never
// arrive from elsewhere.
func (h *holding) within(own []netip.Prefix) bool { return h.meets && covered(own, h.prefix) }

// holdings are prefixes in address order, and for each prefix where in the list
// those begin that have it.
type holdings struct {
	list   []holding
	starts *bart.Table[int32]
}

func compareHoldings(a, b holding) int {
	return cmp.Or(netip.Prefix.Compare(a.prefix, b.prefix), cmp.Compare(a.site, b.site))
}

func newHoldings(list []holding) holdings {
	slices.SortFunc(list, compareHoldings)
	return sortedHoldings(list)
}

// sortedHoldings are the holdings of a list in order.
func sortedHoldings(list []holding) holdings {
	h := holdings{list, &bart.Table[int32]{}}
	var around []int // those that enclose one another and the next, the widest first
	for i := range list {
		for len(around) > 0 && !addr.Covers(list[around[len(around)-1]].prefix, list[i].prefix) {
			around = around[:len(around)-1]
		}
		if list[i].meets = len(around) > 0; list[i].meets {
			list[around[len(around)-1]].meets = true
		}
		around = append(around, i)
		if i == 0 || list[i].prefix != list[i-1].prefix {
			h.starts.Insert(list[i].prefix, int32(i))
		}
	}
	return h
}

// around finds the narrowest of the prefixes around an address, which several
// sites may have; ok is false when none holds it.
func (h *holdings) around(a netip.Addr) (found []holding, ok bool) {
	found = h.narrowest(a, func(*holding) bool { return true })
	return found, found != nil
}

// narrowest finds the narrowest of the prefixes around an address that are
// wanted, which several sites may have.
func (h *holdings) narrowest(a netip.Addr, wanted func(*holding) bool) (found []holding) {
	for prefix, start := range h.starts.Supernets(netip.PrefixFrom(a, a.BitLen())) {
		for i := int(start); i < len(h.list) && h.list[i].prefix == prefix; i++ {
			if wanted(&h.list[i]) {
				found = append(found, h.list[i])
			}
		}
		if found != nil {
			return found
		}
	}
	return nil
}
