package rollout

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"wideknot/core/gateway"
)

// An address is looked up as by going through all that a table has: the longest prefix wins, of one
// prefix a route before what is connected, and that before a discard.
func TestTablesFindTheLongestPrefix(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	prefix := func() netip.Prefix {
		text := fmt.Sprintf("10.%d.%d.%d/%d", r.IntN(2), r.IntN(4), r.IntN(256), r.IntN(33))
		if r.IntN(3) == 0 {
			text = fmt.Sprintf("fd00:%x::%x/%d", r.IntN(3), r.IntN(300), r.IntN(129))
		}
		return netip.MustParsePrefix(text).Masked()
	}
	type kept struct{ bits, rank, value int }
	for range 500 {
		c := &gateway.Config{}
		for range r.IntN(12) {
			c.Discards = append(c.Discards, gateway.Discard{Table: []int{gateway.DefaultTable, 7}[r.IntN(2)], Prefix: prefix()})
		}
		for range r.IntN(4) {
			c.Filter.Own = append(c.Filter.Own, prefix())
		}
		for range r.IntN(20) {
			c.Routes = append(c.Routes, gateway.Route{Table: []int{gateway.DefaultTable, 7}[r.IntN(2)], Prefix: prefix()})
			if r.IntN(3) == 0 && len(c.Discards) > 0 {
				d := c.Discards[r.IntN(len(c.Discards))]
				c.Routes = append(c.Routes, gateway.Route{Table: d.Table, Prefix: d.Prefix})
			}
		}
		tables := tablesOf(c)
		for range 40 {
			a, number, least := prefix().Addr(), []int{gateway.DefaultTable, 7}[r.IntN(2)], r.IntN(2)
			best := kept{-1, 0, nothing}
			meet := func(table int, p netip.Prefix, rank, value int) {
				if table == number && p.Contains(a) && p.Bits() >= least && (p.Bits() > best.bits || p.Bits() == best.bits && rank >= best.rank) {
					best = kept{p.Bits(), rank, value}
				}
			}
			for _, d := range c.Discards {
				meet(d.Table, d.Prefix, 0, discarded)
			}
			for _, p := range c.Filter.Own {
				meet(gateway.DefaultTable, p, 1, connected)
			}
			for i := range c.Routes {
				meet(c.Routes[i].Table, c.Routes[i].Prefix, 2, i)
			}
			if got := tables[number].find(a, least); got != best.value {
				t.Fatalf("%v in table %d of %+v, at least %d bits: %d, and should be %d", a, number, c, least, got, best.value)
			}
		}
	}
}
