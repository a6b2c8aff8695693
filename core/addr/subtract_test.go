package addr

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
)

// What is left is what is left of each prefix by itself, in any order of what is taken out.
func TestSubtract(t *testing.T) {
	for _, c := range []struct{ from, minus, left string }{
		{"10.0.0.0/8", "", "10.0.0.0/8"},
		{"10.0.0.0/24 10.0.2.0/24", "10.0.2.128/25", "10.0.0.0/24 10.0.2.0/25"},
		{"10.0.0.0/24 10.0.2.0/24 10.0.4.0/24", "10.0.0.0/22", "10.0.4.0/24"},
		{"10.0.0.0/24 fd00::/64", "0.0.0.0/0", "fd00::/64"},
		{"10.0.0.0/24", "10.0.1.0/24 fd00::/8", "10.0.0.0/24"},
	} {
		if left := Subtract(prefixes(c.from), prefixes(c.minus)); !slices.Equal(left, prefixes(c.left)) {
			t.Errorf("%s without %s is %v", c.from, c.minus, left)
		}
	}
	r := rand.New(rand.NewPCG(7, 7))
	some := func(n int) (out []netip.Prefix) {
		for range n {
			text := fmt.Sprintf("10.0.%d.%d/%d", r.IntN(8), r.IntN(256), 20+r.IntN(13))
			if r.IntN(4) == 0 {
				text = fmt.Sprintf("fd00::%x:%x/%d", r.IntN(4), r.IntN(1<<16), 108+r.IntN(21))
			}
			out = append(out, netip.MustParsePrefix(text)) // with bits behind its length
		}
		return out
	}
	for range 2000 {
		from, minus := Aggregate(some(r.IntN(12))), some(r.IntN(8))
		want := []netip.Prefix{}
		for _, p := range from {
			want = append(want, Free(p, minus)...)
		}
		if left := Subtract(from, minus); !slices.Equal(left, want) {
			t.Fatalf("%v without %v is %v, and should be %v", from, minus, left, want)
		}
	}
}
