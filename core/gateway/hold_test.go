package gateway

import (
	"strings"
	"testing"
)

// What gateways hold tunnels for, and how.
func TestHoldsAreChecked(t *testing.T) {
	for _, c := range []struct {
		hold  Hold
		wrong string // in the error; empty for none
	}{
		{Hold{Interfaces: []string{"tarn-1"}, Seconds: 60}, ""},
		{Hold{Interfaces: []string{"tarn-1"}, Seconds: MaxHold, As: HoldSlow}, ""},
		{Hold{Interfaces: []string{"tarn-1"}, Seconds: 0, As: HoldLossy}, ""},
		{Hold{Interfaces: []string{"tarn-1"}, As: "late"}, `held as "late"`},
		{Hold{Interfaces: []string{"tarn-1"}, Seconds: MaxHold + 1}, "in seconds"},
		{Hold{Interfaces: []string{"tarn-1"}, Seconds: -1}, "in seconds"},
		{Hold{Interfaces: []string{"tarn 1"}}, "interface"},
		{Hold{Interfaces: []string{"tarn-1", "tarn-1"}}, "tunnel to hold"},
		{Hold{Interfaces: make([]string, maxTunnels+1)}, "tunnels to hold"},
	} {
		if err := c.hold.Check(); (err == nil) != (c.wrong == "") || err != nil && !strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%d s of %d as %q: %v", c.hold.Seconds, len(c.hold.Interfaces), c.hold.As, err)
		}
	}
}
