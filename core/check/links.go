package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wideknot/core/estate"
)

// linkAddresses reports shared subnets that hold an address by which another
// member's link is called, or which it has or leaves by.
func linkAddresses(in *Input, report func(Finding)) {
	p := in.Plan
	for i := range p.Overlays {
		o := &p.Overlays[i]
		for _, m := range o.Members {
			site := p.Site(m)
			for j := range site.Links {
				l := &site.Links[j]
				for _, a := range slices.Concat(l.Addresses, l.NextHop, []netip.Addr{l.Outside}) {
					if !a.IsValid() {
						continue
					}
					prefix, holders, ok := in.Routes.SharedAround(i, a)
					if !ok || slices.Contains(holders, m) {
						continue
					}
					f := Finding{
						Code: "address/link", Severity: Warning,
						Title:    fmt.Sprintf("%s/%s (%s) lies in %s, which %s shares", site.Key, l.Key, a, prefix, p.Site(holders[0]).Key),
						Why:      "At that site the addresses of its own WAN and of the remote subnet cannot be told apart.",
						Fix:      "Renumber the subnet, or map it 1:1.",
						Subjects: []Subject{{Site: p.Site(holders[0]).Key, Prefix: prefix}, {Site: site.Key, Link: l.Key}, {Overlay: o.Spec.Key}},
					}
					if l.Reach.Callable() && l.UnderlayOf() == estate.Internet && a == l.AddressOf(familyOf(a)) {
						f.Code, f.Severity = "address/endpoint", Error
						f.Why = "Other sites would seek the tunnel's own end inside a tunnel, and the tunnel swallows itself."
					}
					report(f)
					break
				}
			}
		}
	}
}

func familyOf(a netip.Addr) estate.Family {
	if a.Is4() {
		return estate.V4
	}
	return estate.V6
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
				Fix:      "Add a second link, from another provider on another path.",
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
					Fix:      "Move one link to another path, or plan for losing the site.",
					Subjects: []Subject{{Site: site.Key}},
				})
			} else if slices.Contains(carrying[1].SharedFate, group) {
				report(Finding{
					Code: "link/first-backup", Severity: Note,
					Title:    fmt.Sprintf("the first two links of %s share %s", site.Key, group),
					Why:      "When it fails, the second choice is gone with the first, and only the later ones are left.",
					Fix:      "Rank a link that does not share it second.",
					Subjects: []Subject{{Site: site.Key, Link: carrying[1].Key}},
				})
			}
		}
	})
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
					Why:      "Which of them carries the traffic is decided by the order of their keys alone.",
					Fix:      "Give the links different ranks, or weights to share the load.",
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
					Fix:      "Give the link that is to share with it the same rank and a weight, or remove this one.",
					Subjects: []Subject{{Site: site.Key, Link: l.Key}},
				})
			case mates != nil && l.Key == mates[0]:
				for _, key := range mates[1:] {
					if !slices.Equal(slices.Sorted(slices.Values(l.Zones)), slices.Sorted(slices.Values(site.Link(key).Zones))) {
						report(Finding{
							Code: "link/sharing-zones", Severity: Error,
							Title:    fmt.Sprintf("%s/%s and %s/%s share the load, but let different zones through", site.Key, l.Key, site.Key, key),
							Why:      "A flow takes one of them by its addresses and ports; of a zone that only one lets through, the flows that fall to the other are lost.",
							Fix:      "Limit both to the same zones, or give them different ranks.",
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
					Title:    fmt.Sprintf("%s/%s uses %s, a name that resolves only on a local network", site.Key, l.Key, l.Hostname),
					Why:      "Far ends cannot resolve it.",
					Fix:      "Register a public name, or set the link to outbound only.",
					Subjects: []Subject{{Site: site.Key, Link: l.Key}},
				})
			}
		}
	})
}
