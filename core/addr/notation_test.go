package addr

import (
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
)

func TestNotations(t *testing.T) {
	for _, c := range []struct{ text, want, says string }{
		{"10.1.1.0/255.255.255.0", "10.1.1.0/24", "became 10.1.1.0/24"},
		{"10.1.1.0 255.255.255.0", "10.1.1.0/24", "became 10.1.1.0/24"},
		{"10.1.1.0 /24", "10.1.1.0/24", "became 10.1.1.0/24"},
		{"10.1.1.1 /24", "10.1.1.0/24", "host bits"},
		{"10.1.1.0/ 24", "10.1.1.0/24", "became 10.1.1.0/24"},
		{"0.0.0.0 0.0.0.0", "0.0.0.0/0", "became"},
		{"10.1.1.9/255.255.255.255", "10.1.1.9/32", "became"},
		{"10.1.0.0-10.1.255.255", "10.1.0.0/16", "the range"},
		{"10.1.0.0 – 10.1.0.0", "10.1.0.0/32", "the range"},
		{"2001:db8::-2001:db8::ffff", "2001:db8::/112", "the range"},
		{"0.0.0.0-255.255.255.255", "0.0.0.0/0", "the range"},

		{"10.1.1.0/255.0.255.0", "", "not a mask"},
		{"10.1.1.0/ffff:ff00::", "", "not an IPv4"},
		{"10.1.0.0-10.1.0.255", "10.1.0.0/24", "the range"},
		{"10.1.0.0-10.1.0.254", "", "covered by 10.1.0.0/25, 10.1.0.128/26, 10.1.0.192/27, 10.1.0.224/28"},
		{"10.1.1.0", "", "no length"},
		{"10.1.1.0/33", "", "not an IPv4"},
		{"2001:db8::/255.255.255.0", "", "not an IPv4 or IPv6 prefix"},
		{"10.1.0.0-10.1.2.255", "", "covered by 10.1.0.0/23, 10.1.2.0/24:"},
		{"10.1.0.9-10.1.0.1", "", "ends before it begins"},
		{"10.1.0.0-2001:db8::", "", "one IP version"},
		{"0.0.0.1-255.255.255.254", "", "and more"},
	} {
		got, note, err := ParsePrefix(c.text)
		said := note
		if err != nil {
			said = err.Error()
		}
		if (err == nil) != (c.want != "") || err == nil && got.String() != c.want || !strings.Contains(said, c.says) {
			t.Errorf("%q: %v, %q, %v; want %s, %s", c.text, got, note, err, c.want, c.says)
		}
	}
}

func TestParseAddrKnowsNoZones(t *testing.T) {
	for text, good := range map[string]bool{
		"10.1.1.1": true, " 2001:db8::1 ": true, "fe80::1": true,
		"fe80::1%lo": false, "fe80::1%lo]:51820\n[Peer]": false, "::ffff:10.1.1.1": false, "10.1.1.1/24": false, "": false, "10.1.1.1\n10.1.1.2": false,
	} {
		if a, err := ParseAddr(text); (err == nil) != good {
			t.Errorf("%q: %v, %v", text, a, err)
		}
	}
}

// A range is covered exactly, and by no more prefixes than it must.
func TestCoveringIsExact(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	for range 2000 {
		x, y := random.Uint32N(1<<12), random.Uint32N(1<<12)
		low, high := netip.AddrFrom4([4]byte{10, 0, byte(min(x, y) >> 8), byte(min(x, y))}), netip.AddrFrom4([4]byte{10, 0, byte(max(x, y) >> 8), byte(max(x, y))})
		list, more := covering(low, high)
		if more {
			continue
		}
		for a := low.Prev(); a != high.Next().Next(); a = a.Next() {
			n := 0
			for _, p := range list {
				if p.Contains(a) {
					n++
				}
			}
			if inside := !a.Less(low) && !high.Less(a); inside && n != 1 || !inside && n != 0 {
				t.Fatalf("%s-%s by %v: %s is in %d of them", low, high, list, a, n)
			}
		}
		if fewest := Aggregate(list); len(fewest) != len(list) {
			t.Fatalf("%s-%s by %v, %v would do", low, high, list, fewest)
		}
	}
}
