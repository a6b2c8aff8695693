package desk

import (
	"testing"

	"wideknot/core/gateway"
)

// Configurations of many tunnels are made once while they are used; others each time.
func TestHeavyConfigurationsAreKept(t *testing.T) {
	var h heavy
	made := 0
	ask := func(site string, tunnels int) {
		c := h.of(atRelease{1, 2, site}, func() *gateway.Config {
			made++
			return &gateway.Config{Site: site, Tunnels: make([]gateway.Tunnel, tunnels)}
		})
		if c.Site != site {
			t.Errorf("asked for %s: %s", site, c.Site)
		}
	}
	for _, c := range []struct {
		site    string
		tunnels int
		made    int
	}{
		{"a", heavyTunnels, 1}, {"a", heavyTunnels, 1},
		{"spoke", heavyTunnels - 1, 2}, {"spoke", heavyTunnels - 1, 3},
		{"b", heavyTunnels, 4}, {"c", heavyTunnels, 5}, {"d", heavyTunnels, 6}, {"a", heavyTunnels, 6},
		{"e", heavyTunnels, 7}, {"a", heavyTunnels, 7}, {"b", heavyTunnels, 8}, // b was used longest ago
	} {
		if ask(c.site, c.tunnels); made != c.made || len(h.kept) > mostHeavy {
			t.Errorf("%s: %d made, %d kept", c.site, made, len(h.kept))
		}
	}
}
