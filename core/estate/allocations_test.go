package estate

import (
	"net/netip"
	"testing"
)

func TestAdopt(t *testing.T) {
	lot := func(transit string, slots, ports [2]int) TunnelLot {
		return TunnelLot{Transit: []netip.Prefix{netip.MustParsePrefix(transit)}, Slots: slots, Ports: ports}
	}
	seat := func(a string) SiteSeat { return SiteSeat{Addresses: []netip.Addr{netip.MustParseAddr(a)}} }
	held := Allocations{
		Keys:    map[string]string{"a": "ka"},
		Tunnels: map[string]map[string]TunnelLot{"o": {"a/x h/x": lot("10.0.0.0/31", [2]int{1, 1}, [2]int{1000, 1000})}},
		Sites:   map[string]map[string]SiteSeat{"p": {"a": seat("10.1.0.1")}},
	}
	other := Allocations{
		Keys: map[string]string{"a": "other", "b": "kb"},
		Tunnels: map[string]map[string]TunnelLot{"o": {
			"a/x h/x": lot("10.0.0.8/31", [2]int{8, 8}, [2]int{1008, 1008}), // known
			"b/x h/x": lot("10.0.0.0/31", [2]int{1, 2}, [2]int{1000, 1001}), // its block is taken
			"c/x h/x": lot("10.0.0.4/31", [2]int{1, 1}, [2]int{1000, 1003}), // its slot at h is taken
			"d/x h/x": lot("10.0.0.6/31", [2]int{1, 4}, [2]int{1000, 1004}), // fits
		}, "q": {"a/x b/x": lot("10.0.0.6/31", [2]int{9, 9}, [2]int{1, 1})}}, // its block is d's now
		Sites: map[string]map[string]SiteSeat{"p": {"b": seat("10.1.0.1"), "c": seat("10.1.0.3")}},
	}
	got := held.Adopt(other)
	want := Allocations{
		Keys: map[string]string{"a": "ka", "b": "kb"},
		Tunnels: map[string]map[string]TunnelLot{"o": {
			"a/x h/x": held.Tunnels["o"]["a/x h/x"], "d/x h/x": other.Tunnels["o"]["d/x h/x"],
		}},
		Sites: map[string]map[string]SiteSeat{"p": {"a": seat("10.1.0.1"), "c": seat("10.1.0.3")}},
	}
	if !got.Equal(want) {
		t.Errorf("%+v", got)
	}
	if !got.Adopt(got).Equal(got) || !(Allocations{}).Adopt(got).Equal(got) || !got.Adopt(Allocations{}).Equal(got) {
		t.Error("adopting the same, or nothing, changes something")
	}
	if got.Equal(held) || !(Allocations{}).Equal(Allocations{}) {
		t.Error("records are not told apart")
	}
	if len(held.Tunnels["o"]) != 1 {
		t.Error("adopting changed what was there")
	}
}
