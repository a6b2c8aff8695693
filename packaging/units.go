// Package packaging holds what installs the program on a machine.
package packaging

import "embed"

// Units are the systemd units of a gateway, as the Debian package has them.
//
//go:embed wideknot-gateway.service wideknot-gateway-guard.service wideknot-devices.service
var Units embed.FS
