// Package addr computes with IPv4 and IPv6 prefixes: which overlap, which are
// free, and which few cover many exactly.
package addr

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
)

// ParsePrefix reads a prefix such as 10.16.4.0/24 and says what it had to
// normalise: surrounding space, set host bits, letter case, a mask in place of
// the length (10.16.4.0/255.255.255.0, or with a space between), a range that is
// exactly one prefix (10.16.4.0-10.16.4.255). The note is empty when the text was
// already in its canonical form. A bare address is an error, for its length would
// be a guess; so is a range that no single prefix covers exactly.
func ParsePrefix(text string) (prefix netip.Prefix, note string, err error) {
	trimmed := strings.TrimSpace(text)
	if low, high, ok := cutRange(trimmed); ok {
		if prefix, err = rangePrefix(low, high); err != nil {
			return netip.Prefix{}, "", err
		}
		return prefix, fmt.Sprintf("the range %s is %s", trimmed, prefix), nil
	}
	address, length, ok := cutLength(trimmed)
	if !ok {
		return netip.Prefix{}, "", fmt.Errorf("%q has no length; write it as ADDRESS/LENGTH, such as 10.16.4.0/24", trimmed)
	}
	if bits, isMask := maskBits(length); isMask && !strings.Contains(address, ":") {
		if bits < 0 {
			return netip.Prefix{}, "", fmt.Errorf("%q is not a mask: its ones must come before its zeros, such as 255.255.255.0", length)
		}
		length = strconv.Itoa(bits)
	}
	given, err := netip.ParsePrefix(address + "/" + length)
	if err != nil {
		return netip.Prefix{}, "", fmt.Errorf("%q is not an IPv4 or IPv6 prefix", trimmed)
	}
	if given.Addr().Is4In6() {
		return netip.Prefix{}, "", fmt.Errorf("%q is an IPv4 address in IPv6 form; write the IPv4 prefix", trimmed)
	}
	prefix = given.Masked()
	if prefix.String() == text {
		return prefix, "", nil
	}
	if prefix != given {
		return prefix, fmt.Sprintf("host bits were set: %s became %s", trimmed, prefix), nil
	}
	return prefix, fmt.Sprintf("%q became %s", text, prefix), nil
}

// Covers reports whether every address of inner is also in outer.
func Covers(outer, inner netip.Prefix) bool {
	return outer.Bits() <= inner.Bits() && outer.Contains(inner.Addr())
}

// Nth returns the n-th subnet (from 0) of the given length inside super, and
// false when super has no such subnet.
func Nth(super netip.Prefix, bits int, n uint64) (netip.Prefix, bool) {
	width := bits - super.Bits()
	if width < 0 || bits > super.Addr().BitLen() || width < 64 && n>>width != 0 {
		return netip.Prefix{}, false
	}
	bytes := super.Masked().Addr().AsSlice()
	shift := super.Addr().BitLen() - bits
	// Add n << shift to the address, byte by byte from the right.
	carry := n
	for i := len(bytes) - 1 - shift/8; i >= 0 && carry > 0; i-- {
		low := uint64(bytes[i]) + (carry<<(shift%8))&0xff
		bytes[i] = byte(low)
		carry = carry>>(8-shift%8) + low>>8
		shift -= shift % 8
	}
	address, _ := netip.AddrFromSlice(bytes)
	return netip.PrefixFrom(address, bits), true
}

// Moved is the address at the same place in another prefix of equal length. Where that is
// none, or the same one, the address stays.
func Moved(a netip.Addr, from, to netip.Prefix) netip.Addr {
	if from == to || !to.IsValid() {
		return a
	}
	host, network := a.AsSlice(), to.Addr().AsSlice()
	for i := range host {
		mask := byte(0xff)
		if bits := to.Bits() - i*8; bits < 8 {
			mask = ^(byte(0xff) >> max(bits, 0))
		}
		host[i] = network[i]&mask | host[i]&^mask
	}
	out, _ := netip.AddrFromSlice(host)
	return out
}
