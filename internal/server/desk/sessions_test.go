package desk

import (
	"net/netip"
	"testing"
)

// Echoes have no ports, and none is shown of them.
func TestSidesOfFlows(t *testing.T) {
	for side, want := range map[string]string{
		"10.0.0.1:443": "10.0.0.1:443", "10.0.0.1:0": "10.0.0.1", "[2001:db8::1]:53": "[2001:db8::1]:53", "[2001:db8::1]:0": "2001:db8::1",
	} {
		if is := hostOf(netip.MustParseAddrPort(side)); is != want {
			t.Errorf("%s is shown as %s, not %s", side, is, want)
		}
	}
}
