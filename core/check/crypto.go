package check

import (
	"fmt"
	"slices"
	"strings"

	"wideknot/core/estate"
)

// proposals reports members that cannot do the overlay's transport, and pairs
// without an IPsec proposal in common.
func proposals(in *Input, report func(Finding)) {
	p := in.Plan
	for i := range p.Overlays {
		o := &p.Overlays[i]
		transport := o.Spec.Transport
		if transport == "" {
			transport = estate.WireGuard
		}
		for _, m := range o.Members {
			g := &p.Site(m).Gateway
			if len(g.Transports) > 0 && !slices.Contains(g.Transports, transport) {
				report(Finding{
					Code: "crypto/transport", Severity: Error,
					Title:    fmt.Sprintf("the gateway of %s cannot do %s, which %s uses", p.Site(m).Key, transport, o.Spec.Key),
					Why:      "None of its tunnels will come up.",
					Fix:      "Take another transport for the overlay, or leave the site out.",
					Subjects: []Subject{{Site: p.Site(m).Key}, {Overlay: o.Spec.Key}},
				})
			}
		}
		if transport != estate.IPsec {
			continue
		}
		for j := range o.Adjacencies {
			a := &o.Adjacencies[j]
			if ike, esp := p.Proposals(o, a); len(ike) == 0 || len(esp) == 0 {
				report(Finding{
					Code: "crypto/proposals", Severity: Error,
					Title:    fmt.Sprintf("%s and %s have no IPsec proposal in common in %s", p.Site(a.A).Key, p.Site(a.B).Key, o.Spec.Key),
					Evidence: []string{p.Site(a.A).Key + ": " + strings.Join(p.Site(a.A).Gateway.Proposals, ", "), p.Site(a.B).Key + ": " + strings.Join(p.Site(a.B).Gateway.Proposals, ", ")},
					Why:      "They cannot agree on keys, and no tunnel comes up.",
					Fix:      "Add a proposal that both can do to the overlay's crypto profile.",
					Subjects: []Subject{{Overlay: o.Spec.Key}, {Site: p.Site(a.A).Key}, {Site: p.Site(a.B).Key}},
				})
			}
		}
	}
}
