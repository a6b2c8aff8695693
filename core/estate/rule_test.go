package estate

import (
	"net/netip"
	"testing"
)

func TestARuleInWords(t *testing.T) {
	for _, c := range []struct {
		rule Rule
		want string
	}{
		{Rule{Action: Deny}, "deny anywhere to anywhere"},
		{Rule{Action: Permit, From: Party{Zone: "users"}, Protocol: "any"}, "permit users to anywhere"},
		{
			Rule{
				Action: Permit, From: Party{Zone: "users", Site: "alderfold"},
				To: Party{Prefix: netip.MustParsePrefix("10.2.0.0/24")}, Protocol: "tcp", Ports: []string{"443", "8000-8010"},
			},
			"permit users at alderfold to 10.2.0.0/24 tcp 443, 8000-8010",
		},
	} {
		if got := c.rule.String(); got != c.want {
			t.Errorf("got %q, want %q", got, c.want)
		}
	}
}
