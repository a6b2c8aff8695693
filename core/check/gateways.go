package check

import (
	"fmt"
	"slices"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/tunnel"
)

// members calls visit for every site that has tunnels.
func members(p *tunnel.Plan, visit func(i int, site *estate.Site)) {
	for i := range p.Estate.Sites {
		if len(p.Ends(i)) > 0 {
			visit(i, p.Site(i))
		}
	}
}

// links reports sites that hang on one circuit, openly or by a common fate.
func links(in *Input, report func(Finding)) {
	members(in.Plan, func(i int, site *estate.Site) {
		carrying := slices.DeleteFunc(slices.Clone(site.Links), func(l estate.Link) bool { return l.NoTunnels })
		if len(carrying) == 1 {
			report(Finding{
				Code: "link/single", Severity: Warning,
				Title:    fmt.Sprintf("%s has a single WAN link", site.Key),
				Why:      "When it fails, the site is cut off.",
				Mend:     "Add a second link, from another provider on another path.",
				Subjects: []Subject{{Site: site.Key, Link: carrying[0].Key}},
			})
		}
		if len(carrying) < 2 {
			return
		}
		slices.SortStableFunc(carrying, func(a, b estate.Link) int { return a.RankOf() - b.RankOf() })
		for _, group := range carrying[0].SharedFate {
			all := true
			for _, l := range carrying[1:] {
				all = all && slices.Contains(l.SharedFate, group)
			}
			if all {
				report(Finding{
					Code: "link/shared-fate", Severity: Warning,
					Title:    fmt.Sprintf("all %d links of %s share %s", len(carrying), site.Key, group),
					Why:      "Primary and backup fail together.",
					Mend:     "Move one link to another path, or plan for losing the site.",
					Subjects: []Subject{{Site: site.Key}},
				})
			} else if slices.Contains(carrying[1].SharedFate, group) {
				report(Finding{
					Code: "link/first-backup", Severity: Note,
					Title:    fmt.Sprintf("the first two links of %s share %s", site.Key, group),
					Why:      "When it fails, the second choice is gone with the first, and only the later ones are left.",
					Mend:     "Rank a link that does not share it second.",
					Subjects: []Subject{{Site: site.Key, Link: carrying[1].Key}},
				})
			}
		}
	})
}

// limits reports gateways with more tunnels than they can end.
func limits(in *Input, report func(Finding)) {
	members(in.Plan, func(i int, site *estate.Site) {
		n, most := len(in.Plan.Ends(i)), site.Gateway.MaxTunnels
		f := Finding{
			Code: "gateway/limit", Subjects: []Subject{{Site: site.Key}},
			Title: fmt.Sprintf("%s ends %d tunnels; its gateway can end %d", site.Key, n, most),
			Mend:  "Pair fewer links, move spokes to another hub, or raise the gateway's limit.",
		}
		switch {
		case most == 0 || n*10 < most*9:
			return
		case n > most:
			f.Severity, f.Why = Error, "The gateway refuses the last tunnels, whichever they are."
		default:
			f.Severity, f.Why = Warning, "There is hardly room for another site."
		}
		report(f)
	})
}

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
					Mend:     "Check the MTU of the narrower link; a typical one is 1500, PPPoE 1492.",
					Subjects: []Subject{{Site: p.Site(narrow.Site).Key, Link: p.Link(narrow).Key}, {Overlay: o.Spec.Key}},
				})
			}
		}
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
					Mend:     "Correct the device name of the link or the LAN.",
					Subjects: []Subject{{Site: site.Key}},
				})
			}
		}
		if missing > 0 {
			report(Finding{
				Code: "gateway/ports", Severity: Error,
				Title:    fmt.Sprintf("%s has no UDP port left for %d of its tunnels", site.Key, missing),
				Why:      "Those tunnels cannot be made.",
				Mend:     "Lower the first listen port of the gateway, or pair fewer links.",
				Subjects: []Subject{{Site: site.Key}},
			})
		}
	})
}

// keys reports gateways without a key and keys used by two.
func keys(in *Input, report func(Finding)) {
	p := in.Plan
	holders := map[string][]string{}
	var missing []Subject
	var order []string
	members(p, func(i int, site *estate.Site) {
		key := p.PublicKey(i)
		if key == "" {
			missing = append(missing, Subject{Site: site.Key})
			return
		}
		if holders[key] == nil {
			order = append(order, key)
		}
		holders[key] = append(holders[key], site.Key)
	})
	if len(missing) > 0 {
		report(Finding{
			Code: "key/missing", Severity: Note,
			Title:    fmt.Sprintf("%d gateways have no key yet", len(missing)),
			Why:      "Keys are made when the estate is loaded into the server or rendered.",
			Mend:     "Nothing to do, unless a gateway makes its own key: then enter its public key.",
			Subjects: missing,
		})
	}
	for _, key := range order {
		if len(holders[key]) > 1 {
			report(Finding{
				Code: "key/reused", Severity: Error,
				Title:    fmt.Sprintf("%s use the same public key", strings.Join(holders[key], " and ")),
				Why:      "Whoever holds the private key of one site can pose as the other, and a hub cannot tell them apart.",
				Mend:     "Give each gateway a key of its own.",
				Subjects: []Subject{{Site: holders[key][0]}, {Site: holders[key][1]}},
			})
		}
	}
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
			Title:    fmt.Sprintf("the probe profile of %s is planned with, but the bundles of %d gateways do not carry it out", o.Spec.Key, without),
			Why:      "Outages counts with it; bundles for linux do not contain it, so somebody must set those gateways' probes to it.",
			Mend:     "Set the probes of these gateways by hand.",
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
	title := fmt.Sprintf("nothing switches at %d gateways", len(subjects))
	if len(subjects) == 1 {
		title = "nothing switches at the gateway of " + subjects[0].Site
	}
	report(Finding{
		Code: noSwitching, Severity: Error,
		Title:    title,
		Evidence: []string{evidence, fmt.Sprintf("%d tunnel ends in all", tunnels)},
		Why:      "A dead tunnel stays in use there until somebody acts, whatever stands by; outages and availability are counted so.",
		Mend:     "Have something on the gateway watch its tunnels and take dead ones out of use, then say at the site that it switches by itself.",
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
				Mend:     "Enter the gateway's " + name + " address on the LAN, and its router's.",
				Subjects: []Subject{{Site: site.Key}},
			})
		}
	})
}
