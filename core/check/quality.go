package check

import (
	"fmt"
	"slices"

	"wideknot/core/tunnel"
	"wideknot/core/words"
)

// quality reports limits that nothing is held to or that gateways do not keep to, and pairs
// of sites of which no tunnel is within them by the survey's figures.
func quality(in *Input, report func(Finding)) {
	p := in.Plan
	for i := range p.Overlays {
		o := &p.Overlays[i]
		l := o.Spec.Limits()
		if l == nil {
			continue
		}
		zones := map[string]bool{}
		for _, site := range o.Members {
			subnets := p.Site(site).Subnets
			for j := range subnets {
				if subnets[j].SharedInto(o.Spec.Key) {
					zones[subnets[j].Zone] = true
				}
			}
		}
		for _, z := range l.Zones {
			if !zones[z] {
				report(Finding{
					Code: "limits/zone", Severity: Warning,
					Title:    fmt.Sprintf("zone %s is held to the limits of %s, and has no subnet there", z, o.Spec.Key),
					Why:      "A mistyped zone leaves the one that was meant on tunnels beyond the limits.",
					Fix:      "Choose a zone that the overlay shares, in Outages, Order and probes; or give a subnet the zone.",
					Subjects: []Subject{{Overlay: o.Spec.Key}},
				})
			}
		}
		var unkept []Subject
		for _, site := range o.Members {
			if !p.Site(site).Gateway.KeepsLimits(o.Spec) && len(p.Ends(site)) > 0 {
				unkept = append(unkept, Subject{Site: p.Site(site).Key})
			}
		}
		if n := len(unkept); n > 0 {
			report(Finding{
				Code: "limits/unkept", Severity: Warning,
				Title:    words.Many(n, "gateway of "+o.Spec.Key+" does", "gateways of "+o.Spec.Key+" do") + " not put tunnels in order by its limits",
				Why:      "Both ends of a tunnel have to: wideknot gateway does, for tunnels of WireGuard, and nothing else that is rendered for. Between these and others, what is held to limits goes as everything does.",
				Fix:      "Let wideknot gateway keep these gateways and say in Survey that they switch by themselves, or leave the limits out.",
				Subjects: append(unkept, Subject{Overlay: o.Spec.Key}),
			})
		}
		for j := range o.Adjacencies {
			a := &o.Adjacencies[j]
			within := func(t tunnel.Tunnel) bool { return len(l.Exceeded(p.Quality(&t))) == 0 }
			if len(a.Tunnels) == 0 || slices.ContainsFunc(a.Tunnels, within) {
				continue
			}
			report(Finding{
				Code: "limits/beyond", Severity: Warning,
				Title:    fmt.Sprintf("no tunnel between %s and %s keeps to the limits of %s: %s", p.Site(a.A).Key, p.Site(a.B).Key, o.Spec.Key, l.Exceeded(p.Quality(&a.Tunnels[0]))[0]),
				Why:      "What is held to the limits goes by a tunnel beyond them all the same; it is only kept from better ones to the same site.",
				Fix:      "Give one of the sites a better link, loosen the limits, or correct the figures in Survey.",
				Subjects: []Subject{{Site: p.Site(a.A).Key}, {Site: p.Site(a.B).Key}, {Overlay: o.Spec.Key}},
			})
		}
	}
}
