package desk

import (
	"slices"
	"strings"
	"testing"

	"wideknot/core/gateway"
)

// Ends of tunnels are listed as they are asked for, what needs attention first, and counted beyond what
// is listed.
func TestEndsAreFound(t *testing.T) {
	tunnels := []gateway.Tunnel{
		{Interface: "hub-1", Overlay: "ops", Peer: "hub", PeerLink: "fibre", Link: "cable"},
		{Interface: "hub-2", Overlay: "ops", Peer: "hub", PeerLink: "fibre", Link: "cell"},
		{Interface: "moor-1", Overlay: "ops", Peer: "moor", PeerLink: "cable", Link: "cable"},
		{Interface: "moor-2", Overlay: "mesh", Peer: "moor", PeerLink: "cable", Link: "cable"},
	}
	runs := &shown{tunnels: tunnels, at: map[string]int{}, ways: []gateway.Way{{ID: 1, Groups: []gateway.Group{{Place: 1, Members: []gateway.Member{{Interface: "moor-1", Weight: 1}}}}}}}
	state := &gateway.State{Site: "fen"}
	for i := range tunnels {
		runs.at[tunnels[i].Interface] = i
		state.Tunnels = append(state.Tunnels, gateway.TunnelState{Interface: tunnels[i].Interface, Up: i != 3, Beyond: i == 1})
	}
	state.Tunnels = append(state.Tunnels, gateway.TunnelState{Interface: "old-9", Up: true}) // the release has it no longer
	state.Ways = []gateway.WayState{{ID: 1, Group: 1}}
	for _, c := range []struct {
		name string
		ends Ends
		want string // in order
		all  int
		dead int
	}{
		{"all", Ends{}, "moor-2 hub-2 moor-1 hub-1 old-9", 5, 1},
		{"the first", Ends{Most: 2}, "moor-2 hub-2", 5, 1},
		{"to a site", Ends{Peer: "moor"}, "moor-2 moor-1", 2, 1},
		{"by a link", Ends{Link: "cable"}, "moor-2 moor-1 hub-1", 3, 1},
		{"of an overlay, by a link", Ends{Overlay: "ops", Link: "cable"}, "moor-1 hub-1", 2, 0},
		{"one", Ends{Overlay: "ops", Tunnel: tunnels[2].Ident("fen")}, "moor-1", 1, 0},
		{"one of another overlay", Ends{Overlay: "none", Tunnel: tunnels[2].Ident("fen")}, "", 0, 0},
		{"words", Ends{Words: "OPS  moor"}, "moor-1", 1, 0},
		{"a word for what is left over", Ends{Words: "old"}, "old-9", 1, 0},
		{"words that are nowhere", Ends{Words: "moor hub"}, "", 0, 0},
		{"words beside a link", Ends{Words: "hub", Link: "cell"}, "hub-2", 1, 0},
	} {
		g := &GatewayNow{GatewayRow: GatewayRow{Site: "fen"}}
		g.list(&c.ends, state, runs)
		var is []string
		for _, e := range g.Ends {
			is = append(is, e.Interface)
		}
		if got := strings.Join(is, " "); got != c.want || g.Matching != c.all || g.MatchingDead != c.dead {
			t.Errorf("%s: %q of %d, %d dead", c.name, got, g.Matching, g.MatchingDead)
		}
	}
	g := &GatewayNow{GatewayRow: GatewayRow{Site: "fen"}}
	g.list(&Ends{Most: 1, Words: "moor-1"}, state, runs)
	if !slices.ContainsFunc(g.Ends, func(e TunnelNow) bool { return e.Carries && e.Peer == "moor" && e.PeerLink == "cable" }) {
		t.Errorf("%+v", g.Ends)
	}
}
