package linux_test

import (
	"fmt"

	"wideknot/core/render/linux"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
)

func ExampleSite() {
	e, err := examples.Estate("three-sites")
	if err != nil {
		panic(err)
	}
	m := route.Build(tunnel.Derive(e))
	files, err := linux.Site(m, m.Plan.SiteIndex("stonebeck"), linux.NoKeys)
	if err != nil {
		panic(err)
	}
	for _, f := range files {
		fmt.Println(f.Path)
	}
	// Output:
	// stonebeck/README.txt
	// stonebeck/apply
	// stonebeck/release
	// stonebeck/tunnels
	// stonebeck/ways
	// stonebeck/routes
	// stonebeck/discards
	// stonebeck/links.ip
	// stonebeck/rules.ip
	// stonebeck/rules6.ip
	// stonebeck/filter.nft
	// stonebeck/sysctl.conf
	// stonebeck/wg/millgate-1.conf
	// stonebeck/wideknot.service
	// stonebeck/wideknot-guard.service
	// stonebeck/wideknot-ways.service
	// stonebeck/manifest
}
