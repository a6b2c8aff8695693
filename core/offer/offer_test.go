package offer

import (
	"net/netip"
	"reflect"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/gateway"
)

const (
	ownKey   = "hSDwCYkwp1R0i33ctD73Wg2/Og0mOBr066SpjqqbTmo="
	otherKey = "3p7bfXt9wbTTW2HC7OQ1Nz+DQ8hbeGdNrfx+FG+IK08="
)

func two() *estate.Estate {
	return &estate.Estate{Sites: []estate.Site{
		{Key: "tarn", Links: []estate.Link{
			{Key: "fibre", Reach: estate.Static, Addresses: []netip.Addr{netip.MustParseAddr("192.0.2.7")}, Device: "wan0", MTU: 1500, NextHop: []netip.Addr{netip.MustParseAddr("192.0.2.1")}},
		}, Subnets: []estate.Subnet{{Prefix: netip.MustParsePrefix("10.1.0.0/24")}}},
		{Key: "weir", Subnets: []estate.Subnet{{Prefix: netip.MustParsePrefix("10.9.0.0/16")}}},
	}}
}

// as is what the gateway sees where the design is right.
func as() *gateway.Offers {
	return &gateway.Offers{Devices: []gateway.Device{
		{Name: "wan0", MTU: 1500, Addresses: []netip.Prefix{netip.MustParsePrefix("192.0.2.7/24")}, NextHops: []netip.Addr{netip.MustParseAddr("192.0.2.1")}, Outside: netip.MustParseAddrPort("192.0.2.7:5000")},
		{Name: "lan0", MTU: 1500, Addresses: []netip.Prefix{netip.MustParsePrefix("10.1.0.1/24")}},
	}}
}

func TestWhatIsRightDiffersNowhere(t *testing.T) {
	for _, o := range Of(two(), "tarn", as()) {
		if o.Differs || o.Missing || o.Open() || o.Matters != "" {
			t.Errorf("%+v", o)
		}
	}
	if Of(two(), "nowhere", as()) != nil {
		t.Error("a site that is not there has offers")
	}
}

// Each difference is one offer, and taking it ends it.
func TestDifferencesAreOfferedAndTaken(t *testing.T) {
	outside := netip.MustParseAddrPort("198.51.100.9:7000")
	for _, test := range []struct {
		name  string
		seen  func(*gateway.Offers)
		said  func(*estate.Site)
		id    string
		words string // in Seen
	}{
		{"key", func(o *gateway.Offers) { o.PublicKey = ownKey }, nil, "public-key", ownKey},
		{"key changed", func(o *gateway.Offers) { o.PublicKey = ownKey }, func(s *estate.Site) { s.Gateway.PublicKey = otherKey }, "public-key", ownKey},
		{"mtu", func(o *gateway.Offers) { o.Devices[0].MTU = 1492 }, nil, "link:fibre:mtu", "1492"},
		{"next hop", func(o *gateway.Offers) { o.Devices[0].NextHops = []netip.Addr{netip.MustParseAddr("192.0.2.254")} }, nil, "link:fibre:next-hop", "192.0.2.254"},
		{"device", nil, func(s *estate.Site) { s.Links[0].Device = "" }, "link:fibre:device", "wan0"},
		{"static, but behind NAT", func(o *gateway.Offers) { o.Devices[0].Outside = outside }, nil, "link:fibre:reach", "behind NAT, seen as 198.51.100.9"},
		{"another address", func(o *gateway.Offers) {
			o.Devices[0].Addresses = []netip.Prefix{netip.MustParsePrefix("192.0.2.8/24")}
			o.Devices[0].Outside = netip.MustParseAddrPort("192.0.2.8:1")
		}, nil, "link:fibre:reach", "static 192.0.2.8"},
		{"nat, but is not", nil, func(s *estate.Site) { s.Links[0].Reach, s.Links[0].Addresses = estate.NAT, nil }, "link:fibre:reach", "not behind NAT"},
		{"forwarded elsewhere", func(o *gateway.Offers) { o.Devices[0].Outside = outside }, func(s *estate.Site) {
			s.Links[0].Reach, s.Links[0].Outside, s.Links[0].Addresses = estate.Forwarded, netip.MustParseAddr("198.51.100.1"), nil
		}, "link:fibre:reach", "forwarded 198.51.100.9"},
		{"a prefix nobody wrote down", func(o *gateway.Offers) {
			o.Behind = []gateway.Behind{{Prefix: netip.MustParsePrefix("10.9.4.0/24"), Via: netip.MustParseAddr("10.1.0.9"), Device: "lan0"}}
		}, nil, "subnet:10.9.4.0/24", "behind router 10.1.0.9"},
	} {
		t.Run(test.name, func(t *testing.T) {
			e, seen := two(), as()
			if test.seen != nil {
				test.seen(seen)
			}
			if test.said != nil {
				test.said(&e.Sites[0])
			}
			before := *e.Site("tarn")
			var open []Item
			for _, o := range Of(e, "tarn", seen) {
				if o.Open() {
					open = append(open, o)
				}
			}
			if len(open) != 1 || open[0].ID != test.id || !strings.Contains(open[0].Seen, test.words) || open[0].Matters == "" {
				t.Fatalf("open are %+v", open)
			}
			if strings.HasPrefix(test.id, "subnet:") != (len(open[0].Collides) == 1 && open[0].Collides[0] == "weir 10.9.0.0/16") {
				t.Errorf("it collides with %v", open[0].Collides)
			}
			site, err := Take(e.Site("tarn"), Of(e, "tarn", seen), []string{test.id})
			if err != nil {
				t.Fatal(err)
			}
			if !reflect.DeepEqual(before, *e.Site("tarn")) {
				t.Error("the design itself was changed")
			}
			e.Sites[0] = *site
			if problems := estate.ValidateSite(e, site); len(problems) > 0 {
				t.Errorf("what was taken is not valid: %v", problems)
			}
			for _, o := range Of(e, "tarn", seen) {
				if o.Open() {
					t.Errorf("it is offered still: %+v", o)
				}
			}
			if _, err := Take(site, Of(e, "tarn", seen), []string{test.id}); err == nil {
				t.Error("what is not offered any more is taken")
			}
		})
	}
}

// A part of what the survey has is nothing new.
func TestAPartOfASurveyedSubnetIsKnown(t *testing.T) {
	seen := as()
	seen.Devices[1].Addresses[0] = netip.MustParsePrefix("10.1.0.1/26")
	for _, o := range Of(two(), "tarn", seen) {
		if o.Missing || o.Open() {
			t.Errorf("%+v", o)
		}
	}
}

// What the design has and nobody sees is said, and is nothing to take.
func TestAbsentSubnets(t *testing.T) {
	e := two()
	e.Sites[0].Subnets = append(e.Sites[0].Subnets, estate.Subnet{Prefix: netip.MustParsePrefix("10.2.0.0/24")})
	for _, o := range Of(e, "tarn", as()) {
		if o.ID == "absent:10.2.0.0/24" {
			if !o.Differs || o.Open() {
				t.Errorf("%+v", o)
			}
			return
		}
	}
	t.Error("nothing says that 10.2.0.0/24 is not seen")
}
