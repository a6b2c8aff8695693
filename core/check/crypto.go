package check

import (
	"fmt"
	"slices"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/tunnel"
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
					Mend:     "Take another transport for the overlay, or leave the site out.",
					Subjects: []Subject{{Site: p.Site(m).Key}, {Overlay: o.Spec.Key}},
				})
			}
			if transport == estate.IPsec && (g.Target == "" || g.Target == estate.TargetLinux) {
				report(Finding{
					Code: "crypto/target", Severity: Error,
					Title:    fmt.Sprintf("%s takes target linux, which carries WireGuard only, but %s uses IPsec", p.Site(m).Key, o.Spec.Key),
					Why:      "The configuration of this gateway lacks the overlay's tunnels.",
					Mend:     "Set the gateway's target to restconf, or the overlay's transport to wireguard.",
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
					Mend:     "Add a proposal that both can do to the overlay's crypto profile.",
					Subjects: []Subject{{Overlay: o.Spec.Key}, {Site: p.Site(a.A).Key}, {Site: p.Site(a.B).Key}},
				})
			}
		}
	}
}

// equalRanks warns of links of one site whose rank is the same, unless they
// share the load: their order is then only that of their keys.
func equalRanks(in *Input, report func(Finding)) {
	members(in.Plan, func(_ int, site *estate.Site) {
		first := map[int]string{}
		for i := range site.Links {
			l := &site.Links[i]
			if l.NoTunnels {
				continue
			}
			other, taken := first[l.RankOf()]
			if taken && !slices.Contains(site.SharesWith(i), other) {
				report(Finding{
					Code: "link/equal-rank", Severity: Warning,
					Title:    fmt.Sprintf("%s/%s and %s/%s have the same rank %d", site.Key, other, site.Key, l.Key, l.RankOf()),
					Why:      "Which of them carries the traffic follows from their keys only, which nobody meant.",
					Mend:     "Give the links different ranks, or weights to share the load.",
					Subjects: []Subject{{Site: site.Key, Link: l.Key}},
				})
				continue
			}
			first[l.RankOf()] = l.Key
		}
	})
}

// sharing judges links that share the load, or have a weight for nothing.
func sharing(in *Input, report func(Finding)) {
	members(in.Plan, func(_ int, site *estate.Site) {
		for i := range site.Links {
			l := &site.Links[i]
			mates := site.SharesWith(i)
			switch {
			case l.Weight > 0 && mates == nil:
				report(Finding{
					Code: "link/weight", Severity: Note,
					Title:    fmt.Sprintf("%s/%s has a weight, but shares the load with no other link", site.Key, l.Key),
					Why:      "Only links of one rank that all have a weight share the load, those of private underlays apart from those of the internet.",
					Mend:     "Give the link that is to share with it the same rank and a weight, or remove this one.",
					Subjects: []Subject{{Site: site.Key, Link: l.Key}},
				})
			case mates != nil && l.Key == mates[0]:
				for _, key := range mates[1:] {
					if !slices.Equal(slices.Sorted(slices.Values(l.Zones)), slices.Sorted(slices.Values(site.Link(key).Zones))) {
						report(Finding{
							Code: "link/sharing-zones", Severity: Error,
							Title:    fmt.Sprintf("%s/%s and %s/%s share the load, but let different zones through", site.Key, l.Key, site.Key, key),
							Why:      "A flow takes one of them by its addresses and ports; of a zone that only one lets through, the flows that fall to the other are lost.",
							Mend:     "Limit both to the same zones, or give them different ranks.",
							Subjects: []Subject{{Site: site.Key, Link: l.Key}, {Site: site.Key, Link: key}},
						})
					}
				}
			}
		}
	})
}

// reservedNames end names that no resolver of the internet knows (RFC 6761,
// RFC 6762).
var reservedNames = []string{".invalid", ".local", ".test", ".localhost", ".internal"}

// hostNames warns of links found by a name that cannot be resolved.
func hostNames(in *Input, report func(Finding)) {
	members(in.Plan, func(_ int, site *estate.Site) {
		for i := range site.Links {
			l := &site.Links[i]
			if l.Reach == estate.Dynamic && slices.ContainsFunc(reservedNames, func(end string) bool { return strings.HasSuffix(strings.TrimSuffix(l.Hostname, "."), end) }) {
				report(Finding{
					Code: "link/name", Severity: Warning,
					Title:    fmt.Sprintf("%s/%s is found by %s, a name that only a local network knows", site.Key, l.Key, l.Hostname),
					Why:      "The other ends cannot call it.",
					Mend:     "Register a public name, or make the link call out.",
					Subjects: []Subject{{Site: site.Key, Link: l.Key}},
				})
			}
		}
	})
}

// throughput reports hubs whose gateway is narrower than the demand of the
// sites that use them first.
func throughput(in *Input, report func(Finding)) {
	p := in.Plan
	load := map[int]float64{}
	for i := range p.Overlays {
		o := &p.Overlays[i]
		for j := range o.Adjacencies {
			if a := &o.Adjacencies[j]; a.Kind == tunnel.ToHub && a.Position == 1 {
				load[a.B] += p.Site(a.A).DemandMbps
			}
		}
	}
	members(p, func(i int, site *estate.Site) {
		if most := site.Gateway.ThroughputMbps; most > 0 && load[i] > most {
			report(Finding{
				Code: "gateway/throughput", Severity: Warning,
				Title:    fmt.Sprintf("the sites that use %s first ask for %.0f Mbit/s; its gateway can do %.0f", site.Key, load[i], most),
				Why:      "At busy times packets are dropped, of every site alike.",
				Mend:     "Let some spokes use another hub first, or take a faster gateway.",
				Subjects: []Subject{{Site: site.Key}},
			})
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
				Title:    fmt.Sprintf("at %d pairs of %s a backup tunnel is narrower than the first choice (%d to %d bytes)", mixed, o.Spec.Key, low, high),
				Why:      "TCP is clamped and adapts; large datagrams that fit before are fragmented or lost after the move.",
				Mend:     "Keep datagrams below the narrowest tunnel, or give the links the same MTU.",
				Subjects: []Subject{{Overlay: o.Spec.Key}},
			})
		}
	}
}

// forwards reports tunnels whose port the router in front of a link does not
// forward. Where the other end cannot be called either, nobody can open them.
func forwards(in *Input, report func(Finding)) {
	p := in.Plan
	members(p, func(i int, site *estate.Site) {
		missing, mute := map[string][]string{}, map[string]int{}
		for _, e := range p.Ends(i) {
			local, _ := p.Sides(e)
			_, _, t := p.At(e)
			if l := p.Link(local); !l.HasForward(local.UDP) {
				missing[l.Key] = append(missing[l.Key], fmt.Sprint(local.UDP))
				if t.Mute {
					mute[l.Key]++
				}
			}
		}
		for j := range site.Links {
			l := &site.Links[j]
			if len(missing[l.Key]) == 0 {
				continue
			}
			f := Finding{
				Code: "gateway/not-forwarded", Severity: Warning,
				Title:    fmt.Sprintf("%d tunnels of %s/%s listen on ports that are not forwarded to it", len(missing[l.Key]), site.Key, l.Key),
				Evidence: []string{"missing: " + strings.Join(missing[l.Key], " "), "forwarded: " + strings.Join(l.Forwards, " ")},
				Why:      "The other end would call in vain, so it is not told the endpoint: only this end can open the tunnels.",
				Mend:     "Have the ports forwarded, and enter them at the link.",
				Subjects: []Subject{{Site: site.Key, Link: l.Key}},
			}
			if n := mute[l.Key]; n > 0 {
				f.Severity, f.Why = Error, fmt.Sprintf("Nobody can open %d of them: the other end cannot be called either. They count as dead everywhere here.", n)
			}
			report(f)
		}
	})
}

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
				Mend:     "Set the clock, and let the gateway keep it by NTP.",
				Subjects: []Subject{{Site: site.Key}},
			})
		}
	})
}
