package linux_test

import (
	"fmt"
	"os"

	"wideknot/core/estate"
	"wideknot/core/render/linux"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

func ExampleSite() {
	file, err := os.Open("../../../examples/three-sites.yaml")
	if err != nil {
		panic(err)
	}
	defer file.Close()
	e, _, err := estate.Read(file)
	if err != nil {
		panic(err)
	}
	m := route.Build(tunnel.Derive(e))
	for _, f := range linux.Site(m, m.Plan.SiteIndex("stonebeck"), linux.NoKeys) {
		fmt.Println(f.Path)
	}
	// Output:
	// stonebeck/README.txt
	// stonebeck/wg/millgate-1.conf
	// stonebeck/interfaces.ip
	// stonebeck/network.ip
	// stonebeck/filter.nft
	// stonebeck/sysctl.conf
}
