package route_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
)

func sharing(t *testing.T, change ...string) *route.Map {
	t.Helper()
	e, err := examples.Estate("load-sharing", change...)
	if err != nil {
		t.Fatal(err)
	}
	return route.Build(tunnel.Derive(e))
}

// hopsText writes hops as INTERFACE:METRIC, with ×WEIGHT where they share.
func hopsText(hops []route.Hop) string {
	var out []string
	for _, h := range hops {
		text := fmt.Sprintf("%s:%d", h.Interface, h.Metric)
		if h.Weight > 0 {
			text += fmt.Sprintf("×%d", h.Weight)
		}
		out = append(out, text)
	}
	return strings.Join(out, " ")
}

func TestSharedHopsHaveOneMetric(t *testing.T) {
	m := sharing(t)
	for site, want := range map[string]string{"tarn": "overgill-1:100×3 overgill-2:100×1 overgill-3:110", "weir": "overgill-1:100"} {
		for _, r := range m.Table(m.Plan.SiteIndex(site)) {
			if got := hopsText(r.Hops); r.Kind == route.Overlay && got != want {
				t.Errorf("%s to %s: %s, want %s", site, r.Prefix, got, want)
			}
			if r.Kind == route.Overlay && site == "tarn" && (r.Hops[0].Why != route.LoadSharing || r.Hops[2].Why != route.TunnelRank || route.Sharing(r.Hops) != 2) {
				t.Errorf("%s: %q, %q, %d share", r.Prefix, r.Hops[0].Why, r.Hops[2].Why, route.Sharing(r.Hops))
			}
		}
	}
	// A default route through a hub is shared alike.
	m = sharing(t, "spokes: [{site: tarn}", "breakout: {hubs: [overgill], sites: [tarn]}, spokes: [{site: tarn}")
	for _, r := range m.Table(m.Plan.SiteIndex("tarn")) {
		if got := hopsText(r.Hops); r.Kind == route.Breakout && got != "overgill-1:100×3 overgill-2:100×1 overgill-3:110" {
			t.Errorf("%s: %s", r.Prefix, got)
		}
	}
}

// Answers to a flow that came by one of the tunnels that share the load prefer
// that tunnel, then its mates, then those that stand by, as any other packet.
func TestAnswersStayOnTheirTunnel(t *testing.T) {
	m := sharing(t)
	for site, want := range map[string]string{
		"tarn": "1 10.60.1.0/24 overgill-1:100 overgill-2:101 overgill-3:110; 1 10.60.3.0/24 overgill-1:100 overgill-2:101 overgill-3:110; " +
			"2 10.60.1.0/24 overgill-2:100 overgill-1:101 overgill-3:110; 2 10.60.3.0/24 overgill-2:100 overgill-1:101 overgill-3:110",
		"weir": "",
	} {
		i := m.Plan.SiteIndex(site)
		var tables []string
		for _, x := range m.Extras(i) {
			for _, r := range x.Routes {
				if x.Place > 0 && r.Prefix.Addr().Is4() {
					tables = append(tables, fmt.Sprint(x.Place, " ", r.Prefix, " ", hopsText(r.Hops)))
					if r.Hops[0].Interface != m.Marked(i)[x.Place-1][0] {
						t.Errorf("%s: what comes by %v goes back by %s", site, m.Marked(i)[x.Place-1], hopsText(r.Hops))
					}
				}
			}
		}
		if got := strings.Join(tables, "; "); got != want {
			t.Errorf("%s: %q\nwant %q", site, got, want)
		}
	}
}

func TestFollowNamesWhoShares(t *testing.T) {
	m := sharing(t, "addresses: [203.0.113.10], weight: 1", "addresses: [203.0.113.10], weight: 1, mtu: 1400")
	tr := m.Follow(route.Packet{From: netip.MustParseAddr("10.60.2.1"), To: netip.MustParseAddr("10.60.3.1")})
	if !tr.Arrives() || !tr.Symmetric || tr.MTU != 1340 {
		t.Errorf("%+v", tr)
	}
	s := m.Sheet(&tr.Forward, route.Failing{}).Steps
	if len(s) != 2 || s[0].Weight != 3 || len(s[0].Beside) != 1 || s[0].Beside[0] != (route.BesideSheet{Tunnel: "overgill/fibre tarn/copper", Interface: "overgill-2", Weight: 1}) || len(s[1].Beside) > 0 {
		t.Errorf("%+v", s)
	}
}
