// Package yang publishes the module by which gateways of target restconf learn
// of their tunnels.
package yang

import _ "embed" // for the module

// Module is the text of wideknot-tunnel.yang.
//
//go:embed wideknot-tunnel.yang
var Module string
