package route

import (
	"net/netip"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/tunnel"
)

// twoHubs is a site "tarn" between two hubs, "van" with its own order of them,
// and what a case puts in place of $words.
const twoHubs = `
wideknot: 1
estate: {name: Two hubs}
sites:
  - key: first
    name: First
    gateway: {switches: true}
    links: [{key: a, reach: static, addresses: [203.0.113.1], device: wan0, next_hop: [203.0.113.254]}]
    subnets: [{prefix: 10.1.0.0/24, zone: control, share: [ops]}]
  - key: second
    name: Second
    gateway: {switches: true}
    links: [{key: a, reach: static, addresses: [203.0.113.2], device: wan0, next_hop: [203.0.113.254]}]
    subnets: [{prefix: 10.2.0.0/24, zone: control, share: [ops]$second}]
  - key: tarn
    name: Tarn
    gateway: {switches: $yes$tarn}
    links:
      - {key: a, reach: nat, rank: 1, device: wan0, next_hop: [192.168.0.1]$fibre}
      - {key: b, reach: nat, rank: 2, device: wan1, next_hop: [192.168.1.1]$cell}
    subnets:
      - {prefix: 10.3.0.0/24, zone: control, share: [ops]}
      - {prefix: 10.3.1.0/24, zone: guest$guest}
      - {prefix: 'fd00:3::/64', zone: control, share: [ops]}
  - key: van
    name: Van
    gateway: {switches: true}
    links: [{key: a, reach: nat, device: wan0, next_hop: [192.168.0.1]}]
    subnets: [{prefix: 10.4.0.0/24, zone: control, share: [ops]$van}, {prefix: 'fd00:4::/64', zone: control, share: [ops]}]
overlays:
  - {key: ops, shape: hub-and-spoke, transit: [100.96.0.0/16, 'fd96::/48'], hubs: [first, second], spokes: [{site: tarn}, {site: van}]$ops}
`

// Rules that hold in combinations: what fails is written SITE/LINK-SITE/LINK.
func TestRulesTogether(t *testing.T) {
	breakout := "$ops , breakout: {hubs: [first, second], sites: [tarn]}"
	for _, c := range []struct {
		name     string
		change   []string // $WORD TEXT
		dead     string   // ends of tunnels
		from, to string
		forward  string
		back     string
		why      string
	}{
		{"breakout at the nearest hub", []string{breakout}, "", "10.3.0.9", "192.0.2.9", "tarn ops> first leaves", "first ops> tarn delivered", ""},
		{"breakout at the second hub comes straight back", []string{breakout}, "first-tarn", "10.3.0.9", "192.0.2.9", "tarn ops> second leaves", "second ops> tarn delivered", ""},
		{"breakout is no guest's", []string{breakout, "$guest , share: []"}, "", "10.3.1.9", "192.0.2.9", "tarn leaves", "none", "own internet link"},
		{"breakout asks the policy", []string{"$ops , breakout: {hubs: [first], sites: [tarn]}, policy: {default: permit, rules: [{action: deny, to: {prefix: 192.0.2.0/24}}]}"}, "", "10.3.0.9", "192.0.2.9", "tarn denied", "none", "rule 1"},
		{"breakout by a hub without the version", []string{breakout}, "", "fd00:3::9", "2001:db8::9", "tarn ops> first dies", "none", "no way to the internet for IPv6"},
		{"a known prefix that is not shared goes out by the hub", []string{breakout, "$van , map: 10.40.0.0/24"}, "", "10.3.0.9", "10.4.0.9", "tarn ops> first leaves", "first ops> tarn delivered", ""},
		{"a link for another zone", []string{"$fibre , zones: [office]"}, "", "10.3.0.9", "10.1.0.9", "tarn dies", "none", "keeps zone control off"},
		{"a zone kept off at the far end", []string{"$fibre , zones: [office]"}, "", "10.4.0.9", "10.3.0.9", "van ops> first ops> tarn dies", "none", "tarn keeps zone control off"},
		{"a farther hub's own LAN is not lost", nil, "first-tarn", "10.2.0.9", "10.3.0.9", "second ops> first ops> second ops> tarn delivered", "tarn ops> second delivered", ""},
		{"nested prefixes", []string{"$tarn ", "$van }, {prefix: 10.3.0.128/25, zone: control, share: [ops]"}, "", "10.4.0.9", "10.3.0.200", "van delivered", "van delivered", ""},
		{"the wider of nested prefixes cannot answer", []string{"$van }, {prefix: 10.3.0.128/25, zone: control, share: [ops]"}, "", "10.3.0.129", "10.3.0.9", "van ops> first ops> tarn dies", "none", "takes nothing from 10.3.0.129"},
		{"a rule's prefix is the mapped one", []string{"$van , map: 10.40.0.0/24", "$ops , policy: {default: permit, rules: [{action: deny, from: {prefix: 10.40.0.0/24}}]}"}, "", "10.4.0.9", "10.1.0.9", "van denied", "none", "rule 1"},
		{"a rule's prefix is not the real one", []string{"$van , map: 10.40.0.0/24", "$ops , policy: {default: permit, rules: [{action: deny, from: {prefix: 10.4.0.0/24}}]}"}, "", "10.4.0.9", "10.1.0.9", "van ops> first delivered", "first ops> van delivered", ""},
		{"beside a router without an address of the version", []string{"$tarn , placement: one-armed, lan_address: 10.3.0.2, upstream: 10.3.0.1"}, "", "fd00:4::9", "fd00:3::9", "van ops> first ops> tarn dies", "none", "no IPv6 address on its LAN"},
		{"beside a router with one", []string{"$tarn , placement: one-armed, lan_address: 10.3.0.2, upstream: 10.3.0.1, lan_address6: 'fd00:3::2'"}, "", "fd00:4::9", "fd00:3::9", "van ops> first ops> tarn delivered", "tarn ops> first ops> van delivered", ""},
		{"the second tunnel takes over", nil, "tarn/a-first", "10.3.0.9", "10.1.0.9", "tarn ops> first delivered", "first ops> tarn delivered", ""},
		{"where nothing switches it does not", []string{"$yes false"}, "tarn/a-first", "10.3.0.9", "10.1.0.9", "tarn dies", "none", "no automatic failover"},
	} {
		text := twoHubs
		for _, change := range c.change {
			word, with, _ := strings.Cut(change, " ")
			if !strings.Contains(text, word) {
				t.Fatalf("%s: no %q", c.name, word)
			}
			text = strings.Replace(text, word, with, 1)
		}
		text = strings.ReplaceAll(text, "$yes", "true")
		for _, word := range []string{"$second", "$tarn", "$fibre", "$cell", "$guest", "$van", "$ops"} {
			text = strings.ReplaceAll(text, word, "")
		}
		e, _, err := estate.Read(strings.NewReader(text))
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		m := Build(tunnel.Derive(e))
		dead := func(u *tunnel.Tunnel) bool {
			for _, ends := range strings.Fields(c.dead) {
				x, y, _ := strings.Cut(ends, "-")
				at := func(p *tunnel.Port, end string) bool {
					key := m.Plan.Site(p.Site).Key
					return end == key || end == key+"/"+m.Plan.Link(p).Key
				}
				if at(&u.A, x) && at(&u.B, y) || at(&u.A, y) && at(&u.B, x) {
					return true
				}
			}
			return false
		}
		got := m.FollowIn(Failing{Dead: dead}, Packet{From: netip.MustParseAddr(c.from), To: netip.MustParseAddr(c.to), Protocol: "udp", Port: 9})
		why := got.Forward.Why
		if got.Return != nil {
			why += got.Return.Why
		}
		if m.tell(&got.Forward) != c.forward || m.tell(got.Return) != c.back || !strings.Contains(why, c.why) {
			t.Errorf("%s: %q, back %q, %q\nwant %q, back %q, %q", c.name, m.tell(&got.Forward), m.tell(got.Return), why, c.forward, c.back, c.why)
		}
	}
}
