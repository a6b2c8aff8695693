package route

import (
	"cmp"
	"net/netip"
	"slices"

	"wideknot/core/addr"
)

// A holding is a prefix at a site.
type holding struct {
	prefix netip.Prefix
	site   int
	subnet int
}

// holdings are prefixes in address order, with the lengths that occur among
// them, so that finding the narrowest around an address tries only those.
type holdings struct {
	list     []holding
	lengths4 []int // the narrowest first
	lengths6 []int
}

func compareHoldings(a, b holding) int {
	return cmp.Or(addr.Compare(a.prefix, b.prefix), cmp.Compare(a.site, b.site))
}

func newHoldings(list []holding) holdings {
	slices.SortFunc(list, compareHoldings)
	return holdings{list: list}.measured()
}

func (h holdings) measured() holdings {
	var four, six [129]bool
	for i := range h.list {
		if p := h.list[i].prefix; p.Addr().Is4() {
			four[p.Bits()] = true
		} else {
			six[p.Bits()] = true
		}
	}
	h.lengths4, h.lengths6 = nil, nil
	for bits := 128; bits >= 0; bits-- {
		if four[bits] {
			h.lengths4 = append(h.lengths4, bits)
		}
		if six[bits] {
			h.lengths6 = append(h.lengths6, bits)
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
	lengths := h.lengths4
	if a.Is6() {
		lengths = h.lengths6
	}
	for _, bits := range lengths {
		prefix, _ := a.Prefix(bits)
		i, _ := slices.BinarySearchFunc(h.list, prefix, func(x holding, p netip.Prefix) int { return addr.Compare(x.prefix, p) })
		for ; i < len(h.list) && h.list[i].prefix == prefix; i++ {
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
