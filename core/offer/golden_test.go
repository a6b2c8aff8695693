package offer

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/golden"
)

// All that is offered in each case, and the site once all of it is taken, is held to the letter.
func TestOffersAreGolden(t *testing.T) {
	prefix, address := netip.MustParsePrefix, netip.MustParseAddr
	none := func(*estate.Site, *gateway.Offers) {}
	fibre := func(do func(l *estate.Link, d *gateway.Device)) func(*estate.Site, *gateway.Offers) {
		return func(s *estate.Site, o *gateway.Offers) { do(&s.Links[0], &o.Devices[0]) }
	}
	second := func(s *estate.Site, o *gateway.Offers) {
		s.Links = append(s.Links, estate.Link{Key: "radio", Reach: estate.NAT, Device: "wan1"})
		o.Devices = append(o.Devices, gateway.Device{Name: "wan1", MTU: 1400, Addresses: []netip.Prefix{prefix("198.51.100.2/30")}, NextHops: []netip.Addr{address("198.51.100.1")}})
	}
	var b strings.Builder
	for _, c := range []struct {
		name string
		set  func(*estate.Site, *gateway.Offers)
	}{
		{"as designed", none},
		{"its next key is that of the design", func(s *estate.Site, o *gateway.Offers) {
			s.Gateway.PublicKey, o.PublicKey, o.NextKey = ownKey, otherKey, ownKey
		}},
		{"its next key is another one", func(s *estate.Site, o *gateway.Offers) {
			s.Gateway.PublicKey, o.PublicKey, o.NextKey = ownKey, ownKey, otherKey
		}},
		{"it has a next key, and the design none", func(_ *estate.Site, o *gateway.Offers) { o.PublicKey, o.NextKey = ownKey, otherKey }},
		{"the only device has another name than its link says", fibre(func(_ *estate.Link, d *gateway.Device) { d.Name = "wan9" })},
		{"of two devices none has its link's name, one its address", func(s *estate.Site, o *gateway.Offers) {
			second(s, o)
			s.Links[0].Device = "wan7"
		}},
		{"of two devices none has its link's name, nor an address", func(s *estate.Site, o *gateway.Offers) {
			second(s, o)
			s.Links[0].Device, s.Links[0].Addresses, s.Links[0].Reach = "wan7", nil, estate.NAT
		}},
		{"the link names none, the only one leads outward", fibre(func(l *estate.Link, d *gateway.Device) { l.Device, d.Name = "", "wan9" })},
		{"the link names none, none leads outward", fibre(func(l *estate.Link, d *gateway.Device) { l.Device, d.NextHops = "", nil })},
		{"two links name none, one by its address", func(s *estate.Site, o *gateway.Offers) {
			second(s, o)
			s.Links[0].Device, s.Links[1].Device = "", ""
		}},
		{"two links with their devices", second},
		{"a device too many", func(s *estate.Site, o *gateway.Offers) {
			second(s, o)
			s.Links = s.Links[:1]
		}},
		{"MTU of 575, which none has", fibre(func(_ *estate.Link, d *gateway.Device) { d.MTU = 575 })},
		{"MTU of 576", fibre(func(_ *estate.Link, d *gateway.Device) { d.MTU = 576 })},
		{"MTU of 9216", fibre(func(_ *estate.Link, d *gateway.Device) { d.MTU = 9216 })},
		{"MTU of 9217", fibre(func(_ *estate.Link, d *gateway.Device) { d.MTU = 9217 })},
		{"its underlay is none that STUN sees", fibre(func(l *estate.Link, d *gateway.Device) {
			l.Underlay, d.Outside = "lumenway", netip.MustParseAddrPort("198.51.100.9:1")
		})},
		{"nothing answered STUN", fibre(func(_ *estate.Link, d *gateway.Device) { d.Outside = netip.AddrPort{} })},
		{"dynamic, with the address outside", fibre(func(l *estate.Link, _ *gateway.Device) {
			l.Reach, l.Hostname, l.Addresses = estate.Dynamic, "tarn.example.net", nil
		})},
		{"dynamic, and behind NAT", fibre(func(l *estate.Link, d *gateway.Device) {
			l.Reach, l.Hostname, l.Addresses, d.Outside = estate.Dynamic, "tarn.example.net", nil, netip.MustParseAddrPort("198.51.100.9:1")
		})},
		{"behind NAT, as designed", fibre(func(l *estate.Link, d *gateway.Device) {
			l.Reach, l.Addresses, d.Outside = estate.NAT, nil, netip.MustParseAddrPort("198.51.100.9:1")
		})},
		{"forwarded, as designed", fibre(func(l *estate.Link, d *gateway.Device) {
			l.Reach, l.Addresses, l.Outside, d.Outside = estate.Forwarded, nil, address("198.51.100.9"), netip.MustParseAddrPort("198.51.100.9:1")
		})},
		{"forwarded, and not behind NAT", fibre(func(l *estate.Link, _ *gateway.Device) {
			l.Reach, l.Addresses, l.Outside, l.Forwards = estate.Forwarded, nil, address("198.51.100.9"), []string{"51820"}
		})},
		{"a wider subnet than the design's", func(_ *estate.Site, o *gateway.Offers) { o.Devices[1].Addresses[0] = prefix("10.1.0.1/16") }},
		{"a subnet on the device of a link that is a LAN too", func(_ *estate.Site, o *gateway.Offers) {
			o.Devices[0].NextHops = nil
			o.Behind = []gateway.Behind{{Prefix: prefix("10.7.0.0/24"), Via: address("192.0.2.9"), Device: "wan0"}}
		}},
		{"addresses that are no subnets", func(_ *estate.Site, o *gateway.Offers) {
			o.Devices[1].Addresses = append(o.Devices[1].Addresses, prefix("fe80::1/64"), prefix("10.2.0.1/32"), prefix("10.3.0.1/0"))
		}},
		{"the same subnet twice", func(_ *estate.Site, o *gateway.Offers) {
			o.Behind = []gateway.Behind{{Prefix: prefix("10.2.0.0/24"), Via: address("10.1.0.9"), Device: "lan0"}, {Prefix: prefix("10.2.0.0/24"), Via: address("10.1.0.8"), Device: "lan0"}}
		}},
		{"it sees nothing at all", func(_ *estate.Site, o *gateway.Offers) { *o = gateway.Offers{} }},
	} {
		e, seen := two(), as()
		c.set(&e.Sites[0], seen)
		list := Of(e, "tarn", seen)
		fmt.Fprintf(&b, "%s\n", c.name)
		var ids []string
		for i := range list {
			o := &list[i]
			text, err := json.Marshal(o)
			if err != nil {
				t.Fatal(err)
			}
			fmt.Fprintf(&b, "  %s", text)
			if o.Open() {
				ids = append(ids, o.ID)
				b.WriteString(" open")
			}
			b.WriteString("\n")
		}
		site, err := Take(e.Site("tarn"), list, ids)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		text, err := json.Marshal(site)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(&b, "  taken %s\n", text)
	}
	golden.Text(t, "testdata/offers.txt", []byte(b.String()))
}
