package linux

import _ "embed"

//go:embed units/wideknot.service
var unitApply []byte

//go:embed units/wideknot-guard.service
var unitGuard []byte

//go:embed units/wideknot-ways.service
var unitWays []byte

// units are what systemd runs at boot, and while the gateway is up.
var units = []struct {
	name string
	text []byte
}{{"wideknot.service", unitApply}, {"wideknot-guard.service", unitGuard}, {"wideknot-ways.service", unitWays}}
