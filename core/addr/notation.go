package addr

import (
	"fmt"
	"math/bits"
	"net/netip"
	"strings"
)

// cutLength takes ADDRESS/LENGTH apart, with space around the slash or in its
// place.
func cutLength(text string) (address, length string, ok bool) {
	if address, length, ok = strings.Cut(text, "/"); !ok {
		words := strings.Fields(text)
		if len(words) != 2 {
			return "", "", false
		}
		address, length = words[0], words[1]
	}
	return strings.TrimSpace(address), strings.TrimSpace(length), true
}

// maskBits reads an IPv4 mask such as 255.255.255.0 as a length; it is negative
// for an address that is no mask.
func maskBits(text string) (length int, isMask bool) {
	a, err := netip.ParseAddr(text)
	if err != nil || !a.Is4() {
		return 0, false
	}
	mask := uint32(low64(a))
	ones := bits.LeadingZeros32(^mask)
	if mask<<ones != 0 {
		return -1, true
	}
	return ones, true
}

func low64(a netip.Addr) (n uint64) {
	for _, b := range a.AsSlice()[max(0, a.BitLen()/8-8):] {
		n = n<<8 | uint64(b)
	}
	return n
}

// cutRange takes FIRST-LAST apart, if both are addresses.
func cutRange(text string) (low, high netip.Addr, ok bool) {
	first, last, found := strings.Cut(strings.ReplaceAll(text, "–", "-"), "-")
	if !found {
		return low, high, false
	}
	low, errLow := netip.ParseAddr(strings.TrimSpace(first))
	high, errHigh := netip.ParseAddr(strings.TrimSpace(last))
	return low, high, errLow == nil && errHigh == nil && CheckAddr(low) == nil && CheckAddr(high) == nil
}

// mostCovering bounds how many prefixes an error proposes for a range.
const mostCovering = 8

// rangePrefix returns the one prefix that is exactly a range.
func rangePrefix(low, high netip.Addr) (netip.Prefix, error) {
	switch {
	case low.BitLen() != high.BitLen():
		return netip.Prefix{}, fmt.Errorf("the range %s-%s begins in one IP version and ends in the other", low, high)
	case high.Less(low):
		return netip.Prefix{}, fmt.Errorf("the range %s-%s ends before it begins", low, high)
	}
	list, more := covering(low, high)
	if len(list) == 1 {
		return list[0], nil
	}
	words := make([]string, len(list))
	for i, p := range list {
		words[i] = p.String()
	}
	end := ""
	if more {
		end = " and more"
	}
	return netip.Prefix{}, fmt.Errorf("the range %s-%s is not one prefix; it is covered by %s%s: give each its own row", low, high, strings.Join(words, ", "), end)
}

// covering lists the fewest prefixes that are exactly a range, in order, at most
// mostCovering of them.
func covering(low, high netip.Addr) (list []netip.Prefix, more bool) {
	for len(list) < mostCovering {
		// The widest prefix that begins at low and does not go past high.
		prefix := netip.PrefixFrom(low, low.BitLen())
		for prefix.Bits() > 0 {
			wider := netip.PrefixFrom(low, prefix.Bits()-1)
			if wider.Masked().Addr() != low || high.Less(lastOf(wider)) {
				break
			}
			prefix = wider
		}
		list = append(list, prefix)
		if lastOf(prefix) == high {
			return list, false
		}
		low = lastOf(prefix).Next()
	}
	return list, true
}

// lastOf returns the last address of a prefix.
func lastOf(p netip.Prefix) netip.Addr {
	raw := p.Masked().Addr().AsSlice()
	for i := p.Bits(); i < len(raw)*8; i++ {
		raw[i/8] |= 1 << (7 - i%8)
	}
	a, _ := netip.AddrFromSlice(raw)
	return a
}
