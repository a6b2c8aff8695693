package gateway

import (
	"fmt"
	"net/netip"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"wideknot/golden"
)

const somebody = "hSDwCYkwp1R0i33ctD73Wg2/Og0mOBr066SpjqqbTmo="

// What a gateway reports may come from anybody: each value is spoiled by itself, and what is
// said of it, or that it is taken, is held to the letter.
func TestReportsAreChecked(t *testing.T) {
	a, ap := netip.MustParseAddr, netip.MustParseAddrPort
	state := fullState()
	state.Trial = TrialState{Token: "t-1", Left: 5, LastToken: "t-0", LastOutcome: "confirmed", LastReason: "none", Trouble: "none"}
	samples := &Samples{Epoch: "e1", Now: "2026-12-01T10:00:00Z", List: []Sample{
		{Sequence: 1, At: "2026-12-01T10:00:00Z", Seconds: 10},
		{
			Sequence: 2, At: "2026-12-01T10:00:10Z", Seconds: 60, Digest: "ab",
			Tunnels: []TunnelSample{{Interface: "weir-1", Probes: 10, Missed: 1, LostOut: 1, LostBack: 1, LatencyUs: 5, MaxLatencyUs: 6, JitterUs: 1, Dead: 2}},
			Links:   []LinkSample{{Link: "fibre", Down: 1}}, Ways: []WayState{{FirstWay, 1}},
		},
	}}
	looked := &Looked{
		Tunnels: []LookedTunnel{{
			Interface: "weir-1", Port: 51820, PublicKey: somebody, Peers: []string{somebody}, Lacks: []netip.Prefix{netip.MustParsePrefix("10.2.0.0/16")},
			Endpoint: ap("198.51.100.1:51820"), Resolved: []netip.AddrPort{ap("198.51.100.1:51820")},
		}},
		Links: state.Links, Arrivals: []Arrived{{Port: 51820, From: ap("198.51.100.1:51820"), Message: Data, Count: 3}}, Silent: []netip.Addr{a("10.1.0.1")}, Begun: []Begun{{a("10.1.0.9"), 3}}, For: 6000,
	}
	offers := &Offers{
		At: "2026-12-01T10:00:00Z", PublicKey: somebody, NextKey: somebody,
		Devices: []Device{{Name: "wan0", MTU: 1500, Addresses: []netip.Prefix{netip.MustParsePrefix("203.0.113.2/24")}, NextHops: []netip.Addr{a("203.0.113.1")}, Outside: ap("203.0.113.2:4000")}},
		Behind:  []Behind{{Prefix: netip.MustParsePrefix("10.9.0.0/16"), Via: a("10.1.0.9"), Device: "lan0"}},
	}
	look := &Look{Interfaces: []string{"weir-1"}, For: 6000, Hosts: []netip.Addr{a("10.1.0.9")}}
	var text strings.Builder
	for _, c := range []struct {
		name  string
		of    any
		check func() error
	}{{"state", state, state.check}, {"samples", samples, samples.check}, {"looked", looked, looked.check}, {"offers", offers, offers.check}, {"look", look, look.Check}} {
		if err := c.check(); err != nil {
			t.Fatal(c.name, err)
		}
		eachSpoiled(reflect.ValueOf(c.of).Elem(), c.name, func(path string) { fmt.Fprintf(&text, "%s: %v\n", path, c.check()) })
	}
	golden.Text(t, filepath.Join("testdata", "reports.txt"), []byte(text.String()))
}

// eachSpoiled calls check while one value is what it cannot be, each in turn: texts with a space,
// numbers below and far above, addresses with a zone, prefixes with host bits, items twice.
func eachSpoiled(v reflect.Value, path string, check func(path string)) {
	was := reflect.New(v.Type()).Elem()
	was.Set(v)
	try := func(how string) {
		check(path + " " + how)
		v.Set(was)
	}
	switch at := v.Addr().Interface().(type) {
	case *netip.Addr:
		*at = netip.MustParseAddr("fe80::1%x")
		try("with a zone")
		*at = netip.MustParseAddr("::ffff:192.0.2.1")
		try("that is mapped")
		return
	case *netip.AddrPort:
		*at = netip.MustParseAddrPort("[fe80::1%x]:5")
		try("with a zone")
		return
	case *netip.Prefix:
		*at = netip.MustParsePrefix("10.255.0.1/8")
		try("with host bits")
		*at = netip.Prefix{}
		try("that is none")
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			eachSpoiled(v.Field(i), path+"."+v.Type().Field(i).Name, check)
		}
	case reflect.Slice:
		if v.Len() > 0 {
			v.Set(reflect.Append(v, v.Index(0)))
			try("with the first twice")
		}
		for i := range v.Len() {
			eachSpoiled(v.Index(i), fmt.Sprintf("%s[%d]", path, i), check)
		}
	case reflect.String:
		v.SetString("a b")
		try("with a space")
		v.SetString(strings.Repeat("x", 300))
		try("that is long")
		v.SetString("")
		try("that is empty")
	case reflect.Int:
		v.SetInt(-1 << 41)
		try("below")
		v.SetInt(1 << 41)
		try("above")
	}
}
