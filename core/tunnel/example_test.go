package tunnel_test

import (
	"fmt"

	"wideknot/core/tunnel"
	"wideknot/examples"
)

func ExampleDerive() {
	e, err := examples.Estate("three-sites")
	if err != nil {
		panic(err)
	}
	p := tunnel.Derive(e)
	for _, peer := range p.Peers(p.SiteIndex("withybrook")) {
		fmt.Println(peer.Interface, peer.Local.Address4, "calls", peer.Endpoint, "MTU", peer.Tunnel.MTU)
	}
	// Output:
	// millgate-1 100.96.0.3/31 calls 203.0.113.10:51821 MTU 1440
	// millgate-2 100.96.0.5/31 calls 203.0.113.10:51822 MTU 1368
}
