package addr

import (
	"cmp"
	"net/netip"
	"slices"
)

// Free lists the largest aligned blocks of super that overlap nothing in used,
// in address order. Cost: O((n + k) · address length).
func Free(super netip.Prefix, used []netip.Prefix) []netip.Prefix {
	super = super.Masked()
	var inside []netip.Prefix
	for _, u := range used {
		if u.IsValid() && u.Overlaps(super) {
			inside = append(inside, u.Masked())
		}
	}
	slices.SortFunc(inside, netip.Prefix.Compare)
	return free(nil, super, inside)
}

func free(found []netip.Prefix, block netip.Prefix, used []netip.Prefix) []netip.Prefix {
	if len(used) == 0 {
		return append(found, block)
	}
	if slices.ContainsFunc(used, func(u netip.Prefix) bool { return Covers(u, block) }) {
		return found
	}
	low, high := Halves(block)
	split, _ := slices.BinarySearchFunc(used, high, netip.Prefix.Compare)
	found = free(found, low, used[:split])
	return free(found, high, used[split:])
}

// Halves splits a prefix into its two halves. The prefix must be shorter than
// a single address.
func Halves(p netip.Prefix) (low, high netip.Prefix) {
	low, _ = Nth(p, p.Bits()+1, 0)
	high, _ = Nth(p, p.Bits()+1, 1)
	return low, high
}

// BestFit returns a free block of the given length in super: the first one of
// the smallest gap that holds it, so that wide gaps stay wide. It is false
// when nothing fits.
func BestFit(super netip.Prefix, used []netip.Prefix, bits int) (netip.Prefix, bool) {
	var best netip.Prefix
	for _, gap := range Free(super, used) {
		if gap.Bits() <= bits && (!best.IsValid() || gap.Bits() > best.Bits()) {
			best = gap
		}
	}
	if !best.IsValid() {
		return netip.Prefix{}, false
	}
	return Nth(best, bits, 0)
}

// Aggregate covers exactly the addresses of the given prefixes with the fewest
// prefixes, in the order of Compare. It never covers an address that was not
// given.
func Aggregate(prefixes []netip.Prefix) []netip.Prefix {
	sorted := make([]netip.Prefix, 0, len(prefixes))
	inOrder := true
	for _, p := range prefixes {
		if !p.IsValid() {
			continue
		}
		p = p.Masked()
		if n := len(sorted); n > 0 && inOrder { // not so where two begin alike, whichever is longer
			inOrder = sorted[n-1].Addr().Compare(p.Addr()) < 0
		}
		sorted = append(sorted, p)
	}
	if !inOrder {
		slices.SortFunc(sorted, netip.Prefix.Compare)
	}
	out := sorted[:0]
	for _, p := range sorted {
		if len(out) > 0 && Covers(out[len(out)-1], p) {
			continue
		}
		out = append(out, p)
		for len(out) > 1 {
			joined, ok := Joined(out[len(out)-2], out[len(out)-1])
			if !ok {
				break
			}
			out = append(out[:len(out)-2], joined)
		}
	}
	return out
}

// Joined returns the prefix of which two are the lower and the upper half, and false where
// they are not.
func Joined(low, high netip.Prefix) (netip.Prefix, bool) {
	if low.Bits() == 0 || low.Bits() != high.Bits() {
		return netip.Prefix{}, false
	}
	joined := netip.PrefixFrom(low.Addr(), low.Bits()-1)
	if !joined.Contains(high.Addr()) || joined.Masked().Addr() != low.Addr() {
		return netip.Prefix{}, false
	}
	return joined, low.Addr() != high.Addr()
}

// Subtract returns what is left of the aggregated prefixes in from when every
// address of minus is taken out, again as the fewest prefixes.
func Subtract(from, minus []netip.Prefix) []netip.Prefix {
	var met []int // the places in from of those that lose something
	for _, m := range minus {
		m = m.Masked()
		after, _ := slices.BinarySearchFunc(from, m.Addr(), func(p netip.Prefix, a netip.Addr) int { return cmp.Or(p.Addr().Compare(a), -1) })
		if after > 0 && from[after-1].Overlaps(m) {
			met = append(met, after-1)
		}
		for ; after < len(from) && m.Overlaps(from[after]); after++ {
			met = append(met, after)
		}
	}
	slices.Sort(met)
	out := make([]netip.Prefix, 0, len(from))
	at := 0
	for _, i := range slices.Compact(met) {
		out = append(append(out, from[at:i]...), Free(from[i], minus)...)
		at = i + 1
	}
	return append(out, from[at:]...)
}
