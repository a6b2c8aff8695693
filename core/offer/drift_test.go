package offer

import (
	"encoding/base64"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
)

// What somebody set by hand is taken into the design as far as it has words for it; the design
// then makes what the gateway runs, and what it does not is told.
func TestDriftIsTaken(t *testing.T) {
	e, err := examples.Estate("two-hubs")
	if err != nil {
		t.Fatal(err)
	}
	e.Allocations = tunnel.Derive(e).Allocations()
	of := func(e *estate.Estate) *gateway.Config { return gateway.Of(route.Build(tunnel.Derive(e)), 2) }
	key := base64.StdEncoding.EncodeToString(make([]byte, 32))
	for _, c := range []struct {
		name  string
		set   func(s *estate.Site) // what the design would say, where it has words
		spoil func(c *gateway.Config)
		taken string
		left  string // part of it; empty for nothing
	}{
		{"nothing", nil, nil, "", ""},
		{"a device", func(s *estate.Site) { s.Links[0].Device = "eth7" }, nil, "WAN link fibre leaves by device eth7", ""},
		{"a next hop", func(s *estate.Site) { s.Links[0].NextHop = []netip.Addr{netip.MustParseAddr("203.0.113.9")} }, nil, "the next hop of WAN link fibre is 203.0.113.9", ""},
		{"rates", func(s *estate.Site) { s.Links[0].UpMbps, s.Links[0].DownMbps = 2.5, 50 }, nil, "WAN link fibre sends 2.5 Mbit/s; WAN link fibre gets 50 Mbit/s", ""},
		{"an MTU", func(s *estate.Site) { s.Links[0].MTU = 1400 }, nil, "WAN link fibre takes packets of 1400 bytes", ""},
		{"a key", func(s *estate.Site) { s.Gateway.PublicKey = key }, nil, "the key of its tunnels is " + key, ""},
		{"a prefix more", func(s *estate.Site) {
			s.Subnets = append(s.Subnets, estate.Subnet{Prefix: netip.MustParsePrefix("172.20.1.0/24"), Share: []string{"ops"}})
		}, nil, "172.20.1.0/24 is shared", ""},
		{"a prefix less", func(s *estate.Site) { s.Subnets[0].Share = nil }, nil, "10.50.3.0/24 is shared no more", ""},
		{"what has no words", nil, func(c *gateway.Config) { c.Tunnels[0].WireGuard.Keepalive = 7 }, "", "tunnel first-1"},
		{"one tunnel's MTU", nil, func(c *gateway.Config) { c.Tunnels[0].MTU -= 40 }, "", "MTU 1440 → 1400"},
		{"both", func(s *estate.Site) { s.Links[0].Device = "eth7" }, func(c *gateway.Config) {
			c.Rules = append(c.Rules, gateway.Rule{Priority: 5, Family: gateway.IPv4, NoLonger: true})
		}, "WAN link fibre leaves by device eth7", "rule 5"},
	} {
		other := e.Clone()
		if c.set != nil {
			c.set(&other.Sites[2])
		}
		runs := of(other)
		if c.spoil != nil {
			c.spoil(runs)
		}
		d, err := Drifted(e, e, e.Sites[2].Key, runs)
		if err != nil {
			t.Fatal(err)
		}
		if got := strings.Join(d.Taken, "; "); got != c.taken {
			t.Errorf("%s: %q is taken, not %q", c.name, got, c.taken)
		}
		if left := strings.Join(d.Left, "; "); (left == "") != (c.left == "") || !strings.Contains(left, c.left) {
			t.Errorf("%s: left is %q, not %q", c.name, left, c.left)
		}
		if slices.ContainsFunc(estate.Validate(e), func(estate.Problem) bool { return true }) || e.Sites[2].Links[0].Device == "eth7" {
			t.Errorf("%s: the design that was asked of changed", c.name)
		}
	}
	if _, err := Drifted(e, e, "atlantis", of(e)); err == nil {
		t.Error("a site that is not there drifts")
	}
	draft := e.Clone() // what else it changed stays
	draft.Sites[2].Links[0].NextHop = []netip.Addr{netip.MustParseAddr("203.0.113.99")}
	draft.Sites[2].Subnets = append(draft.Sites[2].Subnets, estate.Subnet{Prefix: netip.MustParsePrefix("172.20.7.0/24"), Share: []string{"ops"}})
	other := e.Clone()
	other.Sites[2].Links[0].Device = "eth7"
	d, err := Drifted(e, draft, e.Sites[2].Key, of(other))
	if err != nil || len(d.Taken) != 1 || len(d.Left) != 0 || d.Site.Links[0].Device != "eth7" || !slices.Equal(d.Site.Links[0].NextHop, draft.Sites[2].Links[0].NextHop) || len(d.Site.Subnets[1].Share) != 1 {
		t.Errorf("into a draft with edits of its own: %+v, %v", d, err)
	}
}
