// Package bundle renders what one gateway gets, by the target that its site
// names: the one place that screens, archives and the command line ask.
package bundle

import (
	"wideknot/core/estate"
	"wideknot/core/render"
	"wideknot/core/render/linux"
	"wideknot/core/render/restconf"
	"wideknot/core/route"
)

// Site renders the configuration of one site, for its own target where none is
// given. Keys are for linux bundles; a device with RESTCONF makes its own. The
// error is of text that must not stand in a configuration.
func Site(m *route.Map, site int, target estate.Target, keys linux.Keys) ([]render.File, error) {
	if target == "" {
		target = m.Plan.Site(site).Gateway.Target
	}
	if target == estate.TargetRestconf {
		return restconf.Site(m, site)
	}
	return linux.Site(m, site, keys)
}
