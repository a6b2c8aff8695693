package planning

import (
	"net/netip"
	"strings"
	"testing"

	"wideknot/core/estate"
)

const patterned = `wideknot: 1
estate:
  name: P
  regions: [{key: north, blocks: [10.0.0.0/22, "fd00::/62"]}]
  reserved: [{prefix: 10.0.2.0/24, for: the new works}]
sites:
  - {key: hub, name: Hub, region: north, links: [{key: a, reach: static, addresses: [192.0.2.1]}], subnets: [{prefix: 10.0.0.0/24, zone: control, share: [o]}]}
  - key: one
    name: One
    region: north
    demand_mbps: 7
    gateway: {max_tunnels: 5, public_key: xTIBA5rboUvnH4htodjb6e697QjLERt1NAB4mZqp8Dg=}
    links: [{key: copper, provider: P, reach: static, addresses: [192.0.2.2], shared_fate: [duct], rank: 2}]
    subnets: [{prefix: 10.0.1.0/25, zone: control, share: [o]}, {prefix: "fd00:0:0:1::/64", zone: control, share: [o]}, {prefix: 192.168.1.0/24, zone: guest}]
overlays:
  - {key: o, shape: hub-and-spoke, transit: [100.96.0.0/24], hubs: [hub], spokes: [{site: one, hubs: [hub]}]}
`

func TestLike(t *testing.T) {
	e, _, err := estate.Read(strings.NewReader(patterned))
	if err != nil {
		t.Fatal(err)
	}
	site, missing, err := Like(e, "one", "two", "Two")
	if err != nil || len(missing) > 0 {
		t.Fatalf("%v %v", missing, err)
	}
	if site.Key != "two" || site.DemandMbps != 7 || site.Gateway.MaxTunnels != 5 || site.Gateway.PublicKey != "" {
		t.Errorf("%+v", site)
	}
	if l := site.Links[0]; l.Key != "copper" || l.Rank != 2 || len(l.Addresses)+len(l.SharedFate) > 0 {
		t.Errorf("the link has what belongs to one place: %+v", l)
	}
	var prefixes []string
	for _, n := range site.Subnets {
		prefixes = append(prefixes, n.Prefix.String()+" "+n.Zone)
	}
	if got := strings.Join(prefixes, ", "); got != "10.0.1.128/25 control, fd00::/64 control, 192.168.1.0/24 guest" {
		t.Error(got)
	}
	site.Links[0].Addresses = []netip.Addr{netip.MustParseAddr("192.0.2.3")}
	joined := JoinLike(estate.Merge(e, &estate.Estate{Sites: []estate.Site{site}}), "one", "two")
	if problems := estate.Validate(joined); len(problems) > 0 {
		t.Error(problems)
	}
	if s := joined.Overlays[0].Spokes; len(s) != 2 || s[1].Site != "two" || s[1].Hubs[0] != "hub" || len(e.Overlays[0].Spokes) != 1 {
		t.Errorf("%+v", s)
	}
	e.About.Regions = nil
	if _, missing, _ := Like(e, "one", "two", ""); len(missing) != 2 {
		t.Errorf("without region block: %v", missing)
	}
	if _, _, err := Like(e, "nowhere", "two", ""); err == nil {
		t.Error("a pattern that there is not was taken")
	}
}

func TestOffersLeaveReservedBlocksAlone(t *testing.T) {
	e, _, err := estate.Read(strings.NewReader(patterned))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		region string
		v4     bool
		bits   int
		want   string
	}{
		{"", true, 24, "10.0.3.0/24 0"}, {"north", true, 26, "10.0.1.128/26 5"}, {"north", true, 23, ""}, {"south", true, 24, ""},
		{"", false, 64, "fd00::/64 2"}, {"", true, 8, ""},
	} {
		got := ""
		for _, o := range Offers(e, c.region, c.v4, c.bits) {
			got += o.Prefix.String() + " " + string(rune('0'+o.Left))
		}
		if got != c.want {
			t.Errorf("/%d in %q: %q, want %q", c.bits, c.region, got, c.want)
		}
	}
}
