package check

import (
	"fmt"

	"wideknot/core/estate"
	"wideknot/core/tunnel"
	"wideknot/core/words"
)

// mtus reports tunnels too narrow for IPv6.
func mtus(in *Input, report func(Finding)) {
	p := in.Plan
	members(p, func(i int, site *estate.Site) {
		for _, e := range p.Ends(i) {
			o, _, t := p.At(e)
			if e.AtA && t.Wanted < tunnel.MinMTU6 {
				local, remote := p.Sides(e)
				narrow := local
				if p.Link(remote).MTUOf() < p.Link(local).MTUOf() {
					narrow = remote
				}
				why := "Many paths and hosts assume at least 1280 bytes."
				if o.Needs6 {
					why = "IPv6 runs inside and needs 1280 bytes (RFC 8200); the tunnel's packets will be fragmented outside."
				}
				report(Finding{
					Code: "mtu/small", Severity: Warning,
					Title:    fmt.Sprintf("tunnel %s of %s has room for %d bytes", p.Ident(t), o.Spec.Key, t.Wanted),
					Why:      why,
					Fix:      "Check the MTU of the narrower link; a typical one is 1500, PPPoE 1492.",
					Subjects: []Subject{{Site: p.Site(narrow.Site).Key, Link: p.Link(narrow).Key}, {Overlay: o.Spec.Key}},
				})
			}
		}
	})
}

// mixedMTU notes overlays in which a flow's MTU changes when it moves to a
// backup.
func mixedMTU(in *Input, report func(Finding)) {
	p := in.Plan
	for i := range p.Overlays {
		o := &p.Overlays[i]
		mixed := 0
		low, high := 1<<16, 0
		for j := range o.Adjacencies {
			tunnels := o.Adjacencies[j].Tunnels
			for k := range tunnels {
				low, high = min(low, tunnels[k].MTU), max(high, tunnels[k].MTU)
				if k > 0 && tunnels[k].MTU < tunnels[0].MTU {
					mixed++
					break
				}
			}
		}
		if mixed > 0 {
			report(Finding{
				Code: "mtu/mixed", Severity: Note,
				Title:    fmt.Sprintf("at %s of %s a backup tunnel is narrower than the first choice (%d to %d bytes)", words.Many(mixed, "pair", "pairs"), o.Spec.Key, low, high),
				Why:      "TCP is clamped and adapts; large datagrams that fit before are fragmented or lost after the move.",
				Fix:      "Keep datagrams below the narrowest tunnel, or give the links the same MTU.",
				Subjects: []Subject{{Overlay: o.Spec.Key}},
			})
		}
	}
}
