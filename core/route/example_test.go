package route_test

import (
	"fmt"
	"net/netip"

	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
)

func twoHubs() *route.Map {
	e, err := examples.Estate("two-hubs")
	if err != nil {
		panic(err)
	}
	return route.Build(tunnel.Derive(e))
}

func ExampleMap_Table() {
	m := twoHubs()
	for _, r := range m.Table(m.Plan.SiteIndex("tarn")) {
		if r.Kind != route.Overlay {
			continue
		}
		first, second := r.Hops[0], r.Hops[1]
		fmt.Printf("%s by %s; %s stands by, behind by %s\n", r.Prefix, first.Interface, second.Interface, second.Why)
	}
	// Output:
	// 10.50.1.0/24 by first-1; second-2 stands by, behind by path cost
	// 10.50.2.0/24 by first-1; second-2 stands by, behind by path cost
	// 10.50.4.0/24 by first-1; second-2 stands by, behind by path cost
}

func ExampleMap_Follow() {
	m := twoHubs()
	t := m.Follow(route.Packet{From: netip.MustParseAddr("10.50.3.5"), To: netip.MustParseAddr("10.50.4.5")})
	for _, s := range t.Forward.Steps {
		fmt.Println(m.Plan.Site(s.Site).Key, "sends by", s.Hop.Interface)
	}
	fmt.Println(t.Forward.End, "back:", t.Return.End, "symmetric:", t.Symmetric)
	// Output:
	// tarn sends by first-1
	// first sends by weir-3
	// delivered back: delivered symmetric: true
}
