package rollout

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"slices"
	"strings"
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

// A list that is in order, and of which nothing lies in another part, is taken as it is.
func TestSpaces(t *testing.T) {
	for _, c := range []struct{ list, is string }{
		{"10.1.0.0/24", "10.1.0.0/24"},
		{"10.1.0.0/24 10.1.2.0/24 10.1.4.0/24", "10.1.0.0/24 10.1.2.0/24 10.1.4.0/24"},
		{"10.1.2.0/24 10.1.0.0/24 10.1.4.0/24", "10.1.0.0/24 10.1.2.0/24 10.1.4.0/24"},
		{"10.1.0.0/24 10.1.2.0/24 10.1.2.128/25", "10.1.0.0/24 10.1.2.0/24"},
		{"10.1.0.0/24 10.1.0.0/24", "10.1.0.0/24"},
	} {
		s := newSpace(prefixesOf(c.list))
		if !slices.Equal(s, prefixesOf(c.is)) {
			t.Errorf("%s: %v", c.list, s)
		}
		for text, held := range map[string]bool{"10.1.0.0": true, "10.1.0.255": true, "10.0.255.255": false, "10.1.1.0": false} {
			if a := netip.MustParseAddr(text); s.holds(a) != held {
				t.Errorf("%s holds %s: %v", c.list, text, !held)
			}
		}
	}
}

func prefixesOf(text string) (out []netip.Prefix) {
	for _, word := range strings.Fields(text) {
		out = append(out, netip.MustParsePrefix(word))
	}
	return out
}

// What stands beside a configuration's own tunnels arrives, and is kept off, as it is in its own.
func TestWhatStandsBesideIsFiltered(t *testing.T) {
	from := netip.MustParseAddr("192.0.2.1")
	tunnelTo := func(peer string, port int) gateway.Tunnel {
		return gateway.Tunnel{Interface: peer + "-1", Overlay: "ops", Link: "a", Peer: peer, PeerLink: "a", NextHop: gateway.Blackhole + port - 51819, WireGuard: &gateway.WireGuard{Port: port}}
	}
	of := func(tunnels ...gateway.Tunnel) *gateway.Config {
		c := &gateway.Config{Site: "tarn", Links: []gateway.Link{{Key: "a"}}, Tunnels: tunnels}
		for _, one := range tunnels {
			c.Filter.Arrivals = append(c.Filter.Arrivals, gateway.Arrival{Port: one.WireGuard.Port, From: from})
			c.Filter.Kept = append(c.Filter.Kept, gateway.Kept{Interface: one.Interface, Prefixes: prefixesOf("10.1.0.0/24")})
		}
		return c
	}
	first, second, third := tunnelTo("first", 51820), tunnelTo("second", 51821), tunnelTo("third", 51820) // as the first one's port
	got, want := At(of(first), of(first, second, third), Widened), of(first, second)
	if !slices.Equal(got.Filter.Arrivals, want.Filter.Arrivals) || !reflect.DeepEqual(got.Filter.Kept, want.Filter.Kept) {
		t.Errorf("%+v, not %+v", got.Filter, want.Filter)
	}
}

// Who sends some by other tunnels than the rest is known by a rule for it.
func TestWhoIsSteered(t *testing.T) {
	plain := &gateway.Config{Site: "plain", Rules: []gateway.Rule{{Mark: gateway.PlaceUnit, Mask: gateway.PlaceMask}}}
	held := &gateway.Config{Site: "held", Rules: append(slices.Clone(plain.Rules), gateway.Rule{Mark: gateway.LimitUnit, Mask: gateway.LimitMask})}
	n := NewNetwork([]Gateway{{Key: "plain", Old: plain, New: held}, {Key: "held", Old: held, New: plain}})
	for _, c := range []struct {
		stage Stage
		site  string
		is    bool
	}{{Old, "plain", false}, {Old, "held", true}, {New, "plain", true}, {New, "held", false}, {Old, "nowhere", false}} {
		if n.Steered([]Stage{c.stage, c.stage}, c.site) != c.is {
			t.Errorf("%s in %v: %v", c.site, c.stage, !c.is)
		}
	}
}
