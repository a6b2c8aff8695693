package addr

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
)

// million draws prefixes of both families, of the lengths that estates use.
func million() []netip.Prefix {
	r := rand.New(rand.NewPCG(41, 42))
	out := make([]netip.Prefix, 1_000_000)
	for i := range out {
		if r.IntN(3) == 0 {
			bytes := [16]byte{0xfd}
			for j := 1; j < 8; j++ {
				bytes[j] = byte(r.Uint32())
			}
			out[i] = netip.PrefixFrom(netip.AddrFrom16(bytes), 40+r.IntN(25)).Masked()
			continue
		}
		n := r.Uint32()
		out[i] = netip.PrefixFrom(netip.AddrFrom4([4]byte{byte(n), byte(n >> 8), byte(n >> 16), byte(n >> 24)}), 16+r.IntN(13)).Masked()
	}
	return out
}

// BenchmarkMillion compares the search for collisions among a million random
// prefixes of a million owners with plainly sorting the same prefixes. The
// metric is the ratio of the two, taken in the same run.
func BenchmarkMillion(b *testing.B) {
	prefixes := million()
	held := make([]Held, len(prefixes))
	for i, p := range prefixes {
		held[i] = Held{p, i}
	}
	b.Run("sort", func(b *testing.B) {
		for b.Loop() {
			sorted := slices.Clone(prefixes)
			slices.SortFunc(sorted, netip.Prefix.Compare)
		}
	})
	b.Run("clashes", func(b *testing.B) {
		groups := 0
		for b.Loop() {
			groups = len(Clashes(held))
		}
		b.ReportMetric(float64(groups), "groups")
	})
}
