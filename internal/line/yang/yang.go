// Package yang publishes the modules that gateways and servers speak by.
package yang

import _ "embed" // for the modules

// Tunnel is the text of wideknot-tunnel.yang, by which gateways of target restconf
// learn of their tunnels beside the standard models.
//
//go:embed wideknot-tunnel.yang
var Tunnel string

// Gateway is the text of wideknot-gateway.yang: all that a gateway of ours is to be,
// and what it reports.
//
//go:embed wideknot-gateway.yang
var Gateway string
