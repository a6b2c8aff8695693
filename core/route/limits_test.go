package route_test

import (
	"net/netip"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// The zone that is held to limits leaves a tunnel beyond them, there and back; others,
// and what has nowhere better to go, stay. Two gateways must both choose by themselves.
func TestLimitsReorderTunnels(t *testing.T) {
	const document = `
wideknot: 1
estate: {name: Brindlewater}
sites:
  - key: hub
    gateway: {switches: true}
    links: [{key: a, reach: static, addresses: [203.0.113.1]}, {key: b, reach: static, addresses: [203.0.113.2], rank: 2}]
    subnets: [{prefix: 10.1.0.0/24, zone: voice, share: [ops]}, {prefix: 10.1.1.0/24, zone: bulk, share: [ops]}]
  - key: spoke
    gateway: {switches: true}
    links: [{key: c, reach: nat}]
    subnets: [{prefix: 10.2.0.0/24, zone: bulk, share: [ops]}, {prefix: 10.2.1.0/24, zone: bulk, share: [ops]}]
overlays:
  - key: ops
    shape: hub-and-spoke
    transit: [100.96.0.0/16]
    hubs: [hub]
    spokes: [{site: spoke}]
    probe: {limits: {latency_ms: 150, zones: [voice]}}
`
	is := func(e *estate.Estate, from, to string, slow, lossy bool) string {
		t.Helper()
		m := route.Build(tunnel.Derive(e))
		over := func(fails bool) route.Dead { // link a
			return func(u *tunnel.Tunnel) bool {
				return fails && (m.Plan.Link(&u.A).Key == "a" || m.Plan.Link(&u.B).Key == "a")
			}
		}
		failing := route.Failing{Slow: over(slow), Lossy: over(lossy)}
		trace := m.FollowIn(failing, route.Packet{From: netip.MustParseAddr(from), To: netip.MustParseAddr(to)})
		if !trace.Arrives() || !trace.Symmetric {
			t.Fatalf("%s to %s: %+v", from, to, trace)
		}
		s := m.Sheet(&trace.Forward, failing).Steps[0]
		return strings.TrimSpace(s.Tunnel + " " + string(s.Why) + " " + strings.Join(s.Beyond, ", "))
	}
	for _, test := range []struct {
		name, from, to string
		slow, lossy    bool
		change         func(e *estate.Estate)
		want           string
	}{
		{name: "nothing fails", from: "10.2.0.9", to: "10.1.0.9", want: "hub/a spoke/c tunnel rank"},
		{name: "slow", from: "10.2.0.9", to: "10.1.0.9", slow: true, want: "hub/b spoke/c limits"},
		{name: "slow, from the held zone", from: "10.1.0.9", to: "10.2.0.9", slow: true, want: "hub/b spoke/c limits"},
		{name: "slow, not held", from: "10.2.0.9", to: "10.1.1.9", slow: true, want: "hub/a spoke/c tunnel rank"},
		{name: "lossy, of which there is no limit", from: "10.2.0.9", to: "10.1.0.9", lossy: true, want: "hub/a spoke/c tunnel rank"},
		{name: "a gateway that does not switch", from: "10.2.0.9", to: "10.1.0.9", slow: true, change: func(e *estate.Estate) { e.Sites[1].Gateway.Switches = false }, want: "hub/a spoke/c tunnel rank"},
		{name: "a gateway of another make", from: "10.2.0.9", to: "10.1.0.9", slow: true, change: func(e *estate.Estate) { e.Sites[1].Gateway.Target = estate.TargetRestconf }, want: "hub/a spoke/c tunnel rank"},
		{name: "slow by the survey", from: "10.2.0.9", to: "10.1.0.9", change: func(e *estate.Estate) { e.Sites[0].Links[0].LatencyMs = 151 }, want: "hub/b spoke/c limits"},
		{name: "all beyond", from: "10.2.0.9", to: "10.1.0.9", change: func(e *estate.Estate) { e.Sites[1].Links[0].LatencyMs = 151 }, want: "hub/a spoke/c tunnel rank latency 151 ms of at most 150"},
	} {
		e, _, err := estate.Read(strings.NewReader(document))
		if err != nil {
			t.Fatal(err)
		}
		if test.change != nil {
			test.change(e)
		}
		if got := is(e, test.from, test.to, test.slow, test.lossy); got != test.want {
			t.Errorf("%s: %s, not %s", test.name, got, test.want)
		}
	}
}
