package sample_test

import (
	"fmt"

	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

func ExampleEstate() {
	e, err := sample.Estate(sample.Options{Sites: 10, Links: 3, Hubs: 2})
	if err != nil {
		panic(err)
	}
	fmt.Println(len(e.Sites), "sites,", tunnel.Derive(e).Tunnels(), "tunnels")
	// Output: 12 sites, 189 tunnels
}
