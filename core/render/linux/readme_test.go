package linux_test

import (
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/render/linux"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// file renders one file of a site of a document.
func file(t *testing.T, document, site, path string) string {
	t.Helper()
	e, _, err := estate.Read(strings.NewReader(document))
	if err != nil {
		t.Fatal(err)
	}
	m := route.Build(tunnel.Derive(e))
	for _, f := range bundle(t, m, m.Plan.SiteIndex(site), linux.NoKeys) {
		if f.Path == site+"/"+path {
			return string(f.Text)
		}
	}
	return ""
}

const neighbours = `wideknot: 1
estate: {name: Neighbours}
sites:
  - key: hub
    name: Hub
    links: [{key: fibre, reach: static, addresses: [203.0.113.1], device: eth0, next_hop: [203.0.113.2]}]
    subnets: [{prefix: 10.1.0.0/24, share: [ops]}, {prefix: 10.1.1.0/24, share: [ops]}]
  - key: depot
    name: Depot
    gateway: {placement: one-armed, lan_address: 10.2.0.9, upstream: 10.2.0.1}
    links:
      - {key: cable, reach: forwarded, outside: 198.51.100.7, addresses: [192.168.0.2]}
      - {key: cell, reach: nat, rank: 2, device: wwan0, next_hop: [192.168.8.1]}
    subnets: [{prefix: 10.2.0.0/24, share: [ops]}]
overlays:
  - {key: ops, shape: hub-and-spoke, transit: [100.96.0.0/24], hubs: [hub], spokes: [{site: depot}]}
`

// What is excepted from breakout, and a far end that is reached by the LAN's router, that router does
// not send to the gateway, which would send it back. Another link is not the router's business.
func TestWhatTheLANsRouterKeeps(t *testing.T) {
	const loops = `wideknot: 1
estate: {name: Loops}
sites:
  - key: hub
    name: Hub
    links:
      - {key: fibre, reach: static, addresses: [203.0.113.1], device: eth0, next_hop: [203.0.113.2]}
    subnets: [{prefix: 10.1.0.0/24, share: [ops]}]
  - key: depot
    name: Depot
    gateway: {placement: one-armed, lan_device: lan0, lan_address: 10.2.0.9, upstream: 10.2.0.1}
    links:
      - {key: cable, reach: nat, device: DEVICE, next_hop: [10.2.0.1]}
    subnets: [{prefix: 10.2.0.0/24, share: [ops]}]
overlays:
  - {key: ops, shape: hub-and-spoke, transit: [100.96.0.0/24], hubs: [hub], spokes: [{site: depot}]BREAKOUT}
`
	const breakout = ", breakout: {hubs: [hub], sites: [depot], except: [198.51.100.0/24]}"
	for _, test := range []struct {
		device, breakout      string
		steered, except, pins bool
	}{
		{"lan0", breakout, true, true, true},
		{"wan0", breakout, true, true, false},
		{"lan0", "", false, false, false},
	} {
		readme := file(t, strings.NewReplacer("DEVICE", test.device, "BREAKOUT", test.breakout).Replace(loops), "depot", "README.txt")
		for text, want := range map[string]bool{
			"    from 10.2.0.0/24 route 0.0.0.0/0 via 10.2.0.9\n": test.steered,
			"    route 198.51.100.0/24 its own way\n":             test.except,
			"    route 203.0.113.1/32 its own way\n":              test.pins,
		} {
			if strings.Contains(readme, text) != want {
				t.Errorf("by %s%s: %q is there: %v\n%s", test.device, test.breakout, text, !want, readme)
			}
		}
	}
}

// The work for neighbouring routers follows from the design, and so does what
// the design does not know.
func TestReadmeNamesTheNeighboursWork(t *testing.T) {
	readme := file(t, neighbours, "depot", "README.txt")
	for _, want := range []string{
		"forward inbound UDP 51820 to 192.168.0.2 port 51820",
		"Work for the LAN's router 10.2.0.1: these prefixes lie behind this gateway.",
		"route 10.1.0.0/23 via 10.2.0.9",
		"The design names no device and next hop for cable.",
		"wg genkey > /etc/wideknot/private.key",
	} {
		if !strings.Contains(readme, want) {
			t.Errorf("no %q in\n%s", want, readme)
		}
	}
	if strings.Contains(file(t, neighbours, "hub", "README.txt"), "Work for") {
		t.Error("the hub's neighbours have no work")
	}
}

// With several links a tunnel's packets are marked for the link it was made
// for; with one there is nothing to choose.
func TestMarks(t *testing.T) {
	if conf := file(t, neighbours, "depot", "wg/hub-2.conf"); !strings.Contains(conf, "FwMark = 8401") {
		t.Errorf("no mark for the cell link:\n%s", conf)
	}
	if conf := file(t, neighbours, "depot", "wg/hub-1.conf"); strings.Contains(conf, "FwMark") {
		t.Errorf("a mark for a link whose way out is not known:\n%s", conf)
	}
	rules, links := file(t, neighbours, "depot", "rules.ip"), file(t, neighbours, "depot", "links.ip")
	if !strings.Contains(rules, "rule add from all fwmark 0x20d1/0xffff lookup 8401 priority 8401 protocol 199\n") ||
		!strings.Contains(links, "route replace 0.0.0.0/0 proto 199 via 192.168.8.1 dev wwan0 table 8401\n") {
		t.Errorf("the cell link has no table:\n%s%s", rules, links)
	}
	if rules := file(t, neighbours, "hub", "rules.ip"); rules != "" {
		t.Errorf("a site with one link has rules:\n%s", rules)
	}
}

// Ports are opened as narrowly as the far end is known.
func TestOpenings(t *testing.T) {
	filter := file(t, neighbours, "hub", "filter.nft")
	if !strings.Contains(filter, "udp dport 51820 ip saddr != 198.51.100.7 drop") {
		t.Errorf("the forwarded link may be called from anywhere:\n%s", filter)
	}
	if strings.Contains(filter, "udp dport 51821 ip saddr") {
		t.Errorf("a link behind NAT is expected at an address:\n%s", filter)
	}
}
