package check

import (
	"fmt"

	"wideknot/core/estate"
)

// maxSkew is how far a gateway's clock may be off, in seconds, before
// handshakes and certificates fail.
const maxSkew = 60

// clocks warns of gateways whose clock is off.
func clocks(in *Input, report func(Finding)) {
	members(in.Plan, func(_ int, site *estate.Site) {
		if skew := site.Gateway.ClockSkewS; skew > maxSkew || skew < -maxSkew {
			report(Finding{
				Code: "gateway/clock", Severity: Warning,
				Title:    fmt.Sprintf("the clock of %s is off by %.0f s", site.Key, skew),
				Why:      "Handshakes carry a time and are refused when it runs backwards; certificates seem expired or not yet valid.",
				Fix:      "Set the clock, and let the gateway keep it by NTP.",
				Subjects: []Subject{{Site: site.Key}},
			})
		}
	})
}
