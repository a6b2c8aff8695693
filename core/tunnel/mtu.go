package tunnel

import (
	"wideknot/core/estate"
)

// MinMTU6 is the least MTU on which IPv6 may run, in bytes (RFC 8200,
// section 5).
const MinMTU6 = 1280

// MTU returns the MTU inside a tunnel over a link of the given MTU, in bytes.
// WireGuard adds an outer header (20 or 40), UDP (8) and its own (32). ESP in
// tunnel mode with AES-GCM-16 adds the outer header, UDP (8) where a NAT is on
// the way, SPI and sequence (8), IV (8) and ICV (16); what is inside, with two
// trailer bytes, is padded to four.
func MTU(transport estate.Transport, outside estate.Family, link int, natted bool) int {
	outer := 20
	if outside == estate.V6 {
		outer = 40
	}
	if transport != estate.IPsec {
		return link - outer - 8 - 32
	}
	fixed := outer + 8 + 8 + 16
	if natted {
		fixed += 8
	}
	return (link-fixed)/4*4 - 2
}
