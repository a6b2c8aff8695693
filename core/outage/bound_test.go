package outage

import (
	"fmt"
	"net/netip"
	"testing"

	"wideknot/core/estate"
)

// Whatever policy an estate has, looking at its subnets has an end: where there
// are too many kinds of them, policies are left out.
func TestKindsOfSubnetsAreBounded(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	e := small()
	policy := &estate.Policy{Default: estate.Permit}
	for i := range 4000 {
		policy.Rules = append(policy.Rules, estate.Rule{Action: estate.Deny, Protocol: "tcp", Ports: []string{fmt.Sprint(1 + i)}, To: estate.Party{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 3, byte(i >> 8), byte(i)}), 32)}})
	}
	for i := range 4000 {
		e.Sites[2].Subnets = append(e.Sites[2].Subnets, estate.Subnet{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 3, byte(i >> 8), byte(i)}), 32), Zone: fmt.Sprint("z", i%60), Share: []string{"ops"}})
	}
	e.Overlays[0].Policy = policy
	m := modelOf(e)
	if m.policies[0] != nil || len(m.profiles.kinds) > 8 {
		t.Errorf("%d profiles, with policies", len(m.profiles.kinds))
	}
}
