package addr

import (
	"fmt"
	"math/bits"
	"net/netip"
	"strings"
)

// ParseAddr reads an IPv4 or IPv6 address. This is the one place where a text
// becomes an address: a zone, such as %eth0, which may hold anything and means
// nothing on another machine, and an IPv4 address in IPv6 form are errors.
func ParseAddr(text string) (netip.Addr, error) {
	trimmed := strings.TrimSpace(text)
	a, err := netip.ParseAddr(trimmed)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("%q is not an IPv4 or IPv6 address", trimmed)
	}
	if err := CheckAddr(a); err != nil {
		return netip.Addr{}, err
	}
	return a, nil
}

// CheckAddr says what ParseAddr would refuse of an address that came another
// way. The zero Addr is none and passes.
func CheckAddr(a netip.Addr) error {
	switch {
	case a.Zone() != "":
		return fmt.Errorf("%q has a zone after %%; leave it out", a)
	case a.Is4In6():
		return fmt.Errorf("%q is an IPv4 address in IPv6 form; write the IPv4 address", a)
	}
	return nil
}

// Alike counts the bits with which two addresses of one family begin alike.
func Alike(a, b netip.Addr) (n int) {
	one, other := a.AsSlice(), b.AsSlice()
	for i := range min(len(one), len(other)) {
		if differ := one[i] ^ other[i]; differ != 0 {
			return n + bits.LeadingZeros8(differ)
		}
		n += 8
	}
	return n
}
