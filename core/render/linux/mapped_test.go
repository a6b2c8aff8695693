package linux_test

import (
	"net/netip"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/render/linux"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// mapped is the example estate with subnets of both families that other
// prefixes stand for.
func mapped(t *testing.T) (*route.Map, linux.Keys) {
	m, keys := example(t, "three-sites")
	e := m.Plan.Estate.Clone()
	e.Sites[2].Subnets = append(e.Sites[2].Subnets,
		estate.Subnet{Prefix: netip.MustParsePrefix("192.168.40.0/24"), Map: netip.MustParsePrefix("10.40.9.0/24"), Share: []string{"ops"}},
		estate.Subnet{Prefix: netip.MustParsePrefix("fd00:1:2:3::/64"), Map: netip.MustParsePrefix("fd00:9:9:9::/64"), Share: []string{"ops"}})
	return route.Build(tunnel.Derive(e)), keys
}
