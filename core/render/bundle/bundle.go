// Package bundle renders what one gateway gets, by the target that its site
// names: the one place that screens, archives and the command line ask.
package bundle

import (
	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/render"
	"wideknot/core/render/linux"
	"wideknot/core/render/restconf"
	"wideknot/core/route"
)

// Gateway is the target whose rendering is the configuration itself, as one document:
// what an agent of ours on the gateway reads.
const Gateway estate.Target = "gateway"

// Options say how a site is rendered.
type Options struct {
	Target  estate.Target // its own where none is given
	Release int           // 0 where it is none
	Keys    linux.Keys    // for linux bundles and those of an agent; a device with RESTCONF makes its own
}

// Site renders the configuration of one site. The error is of text that must not
// stand in a configuration.
func Site(m *route.Map, site int, o Options) ([]render.File, error) {
	return Write(m, site, gateway.Of(m, site), o)
}

// Write renders the configuration of one site, which is c.
func Write(m *route.Map, site int, c *gateway.Config, o Options) ([]render.File, error) {
	return write(m, site, c, o, "")
}

// write does it for somebody who may know the digest of the configuration.
func write(m *route.Map, site int, c *gateway.Config, o Options, digest string) ([]render.File, error) {
	if o.Target == "" {
		o.Target = m.Plan.Site(site).Gateway.Target
	}
	switch o.Target {
	case estate.TargetRestconf:
		return restconf.Write(m, site, c)
	case Gateway:
		if len(c.Tunnels) == 0 {
			return nil, nil
		}
		text, err := gateway.Write(c)
		if err != nil {
			return nil, err
		}
		secrets, err := linux.Secrets(c, o.Keys)
		return append([]render.File{{Path: c.Site + "/gateway.json", Text: text}}, secrets...), err
	}
	return linux.Write(c, linux.About{Name: m.Plan.Site(site).Name, Release: o.Release, Digest: digest}, o.Keys)
}
