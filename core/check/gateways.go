package check

import (
	"fmt"
	"slices"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/tunnel"
	"wideknot/core/words"
)

// members calls visit for every site that has tunnels.
func members(p *tunnel.Plan, visit func(i int, site *estate.Site)) {
	for i := range p.Estate.Sites {
		if len(p.Ends(i)) > 0 {
			visit(i, p.Site(i))
		}
	}
}

// limits reports gateways with more tunnels than they can end.
func limits(in *Input, report func(Finding)) {
	members(in.Plan, func(i int, site *estate.Site) {
		n, most := len(in.Plan.Ends(i)), site.Gateway.MaxTunnels
		f := Finding{
			Code: "gateway/limit", Subjects: []Subject{{Site: site.Key}},
			Title: fmt.Sprintf("%s terminates %d tunnels; its gateway is limited to %d", site.Key, n, most),
			Fix:   "Pair fewer links, move spokes to another hub, or raise the gateway's limit.",
		}
		switch {
		case most == 0 || n*10 < most*9:
			return
		case n > most:
			f.Severity, f.Why = Error, "The gateway refuses the tunnels beyond its limit, whichever come up last."
		default:
			f.Severity, f.Why = Warning, "There is hardly capacity for another site."
		}
		report(f)
	})
}

// ports reports gateways that ran out of UDP ports and interface names that
// meet a device of the site.
func ports(in *Input, report func(Finding)) {
	p := in.Plan
	members(p, func(i int, site *estate.Site) {
		devices := map[string]bool{site.Gateway.LANDevice: true}
		for _, l := range site.Links {
			devices[l.Device] = true
		}
		missing := 0
		for _, e := range p.Ends(i) {
			local, _ := p.Sides(e)
			if local.UDP == 0 || local.Slot == 0 {
				missing++
			}
			if name := local.Interface; devices[name] {
				report(Finding{
					Code: "gateway/interface", Severity: Error,
					Title:    fmt.Sprintf("tunnel interface %s at %s has the name of a device there", name, site.Key),
					Why:      "The interface cannot be made.",
					Fix:      "Correct the device name of the link or the LAN.",
					Subjects: []Subject{{Site: site.Key}},
				})
			}
		}
		if missing > 0 {
			report(Finding{
				Code: "gateway/ports", Severity: Error,
				Title:    fmt.Sprintf("%s has no UDP port left for %d of its tunnels", site.Key, missing),
				Why:      "Those tunnels cannot be made.",
				Fix:      "Lower the first listen port of the gateway, or pair fewer links.",
				Subjects: []Subject{{Site: site.Key}},
			})
		}
	})
}

// pending names settings that some gateways' configurations do not carry out
// yet, so that nobody relies on them.
func pending(in *Input, report func(Finding)) {
	for i := range in.Plan.Overlays {
		o := &in.Plan.Overlays[i]
		if o.Spec.Probe == nil {
			continue
		}
		without := 0
		for _, m := range o.Members {
			if t := in.Plan.Site(m).Gateway.Target; t == "" || t == estate.TargetLinux {
				without++
			}
		}
		if without == 0 {
			continue
		}
		report(Finding{
			Code: "pending/probe-profile", Severity: Warning,
			Title:    fmt.Sprintf("the probe profile of %s is planned with, but not carried out by the bundles of %s", o.Spec.Key, words.Many(without, "gateway", "gateways")),
			Why:      "Outages counts with it; bundles for linux do not contain it, so somebody must set those gateways' probes to it.",
			Fix:      "Let wideknot gateway keep these gateways: it probes by the profile. Or set their probes by hand.",
			Subjects: []Subject{{Overlay: o.Spec.Key}},
		})
	}
}

const noSwitching = "gateway/no-switching"

// idle reports gateways at which nothing takes a dead tunnel out of use although
// others stand by: together, as there are often as many as sites.
func idle(in *Input, report func(Finding)) {
	p := in.Plan
	var subjects []Subject
	tunnels := 0
	members(p, func(i int, site *estate.Site) {
		ends := p.Ends(i)
		if site.Gateway.SwitchesItself() || len(ends) < 2 {
			return
		}
		subjects = append(subjects, Subject{Site: site.Key})
		tunnels += len(ends)
	})
	if len(subjects) == 0 {
		return
	}
	var keys []string
	for _, s := range subjects[:min(len(subjects), 10)] {
		keys = append(keys, s.Site)
	}
	evidence := strings.Join(keys, ", ")
	if more := len(subjects) - len(keys); more > 0 {
		evidence += fmt.Sprintf(" and %d more", more)
	}
	title := fmt.Sprintf("no automatic failover at %d gateways", len(subjects))
	if len(subjects) == 1 {
		title = "no automatic failover at the gateway of " + subjects[0].Site
	}
	report(Finding{
		Code: noSwitching, Severity: Error,
		Title:    title,
		Evidence: []string{evidence, fmt.Sprintf("%d tunnel ends in all", tunnels)},
		Why:      "A dead tunnel stays in use there until somebody intervenes, whatever standby there is; outages and availability count on that.",
		Fix:      "Have the gateway monitor its tunnels and take dead ones out of use, then set at the site that it fails over by itself.",
		Subjects: subjects,
	})
}

// deaf reports gateways beside their LAN's router that have no address there of
// an IP version that the site's overlays use.
func deaf(in *Input, report func(Finding)) {
	p := in.Plan
	members(p, func(i int, site *estate.Site) {
		g := &site.Gateway
		for _, v4 := range []bool{true, false} {
			if g.Placement != estate.OneArmed || g.LANAddressOf(v4).IsValid() {
				continue
			}
			var own []string
			for j := range site.Subnets {
				n := &site.Subnets[j]
				if n.Taking().Addr().Is4() == v4 && slices.ContainsFunc(p.Overlays, func(o tunnel.Overlay) bool { return o.Has(i) && n.SharedInto(o.Spec.Key) }) {
					own = append(own, n.Prefix.String())
				}
			}
			if len(own) == 0 {
				continue
			}
			name := map[bool]string{true: "IPv4", false: "IPv6"}[v4]
			report(Finding{
				Code: "gateway/no-lan-address", Severity: Error,
				Title:    fmt.Sprintf("the gateway of %s has no %s address on its LAN, but shares %s", site.Key, name, strings.Join(own[:min(len(own), 5)], ", ")),
				Why:      "Its LAN's router cannot be given a route to it, nor it one to the subnets: nothing reaches them, and they reach nobody.",
				Fix:      "Enter the gateway's " + name + " address on the LAN, and its router's.",
				Subjects: []Subject{{Site: site.Key}},
			})
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
				Title:    fmt.Sprintf("the sites whose first hub is %s need %.0f Mbit/s; its gateway handles %.0f", site.Key, load[i], most),
				Why:      "At peak times packets of every site are dropped.",
				Fix:      "Let some spokes use another hub first, or take a faster gateway.",
				Subjects: []Subject{{Site: site.Key}},
			})
		}
	})
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
			of := site.Key + "/" + l.Key
			f := Finding{
				Code: "gateway/not-forwarded", Severity: Warning,
				Title:    words.Many(len(missing[l.Key]), "tunnel of "+of+" listens on a port that is", "tunnels of "+of+" listen on ports that are") + " not forwarded to it",
				Evidence: []string{"missing: " + strings.Join(missing[l.Key], " "), "forwarded: " + strings.Join(l.Forwards, " ")},
				Why:      "The far end could not connect, so it is given no endpoint: only this end can initiate the tunnels.",
				Fix:      "Have the ports forwarded, and enter them at the link.",
				Subjects: []Subject{{Site: site.Key, Link: l.Key}},
			}
			if len(missing[l.Key]) == 1 {
				f.Title = fmt.Sprintf("1 tunnel of %s/%s listens on a port that is not forwarded to it", site.Key, l.Key)
			}
			if n := mute[l.Key]; n > 0 {
				f.Severity, f.Why = Error, fmt.Sprintf("Neither end can initiate %d of them. They count as down everywhere here.", n)
			}
			report(f)
		}
	})
}
