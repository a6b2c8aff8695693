package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wideknot/core/route"
	"wideknot/core/words"
)

// asymmetric reports pins by which traffic goes one way and comes back
// another.
func asymmetric(in *Input, report func(Finding)) {
	p := in.Plan
	for i := range p.Overlays {
		o := &p.Overlays[i]
		for _, pin := range o.Spec.Pins {
			from := p.SiteIndex(pin.Site)
			if !o.Has(from) {
				continue
			}
			var evidence []string
			differ := 0
			for _, to := range o.Members {
				shared := p.Site(to).Shared(o.Spec.Key)
				if to == from || pin.Prefix.IsValid() && !slices.ContainsFunc(shared, pin.Prefix.Overlaps) {
					continue
				}
				there, dies := in.follow(i, from, to)
				if there == "" || !dies && there == reversed(in.back(i, to, from)) {
					continue
				}
				if differ++; len(evidence) < 5 {
					back := in.back(i, to, from)
					if dies {
						evidence = append(evidence, fmt.Sprintf("to %s it is dropped: %s", p.Site(to).Key, there))
					} else {
						evidence = append(evidence, fmt.Sprintf("%s, and back %s", there, back))
					}
				}
			}
			if differ > 0 {
				report(Finding{
					Code: "path/asymmetric", Severity: Warning,
					Title:    fmt.Sprintf("by a pin, traffic of %s to %s goes by %s and comes back another way", pin.Site, words.Many(differ, "site", "sites"), pin.Via),
					Evidence: evidence,
					Why:      "Stateful filters see only half of each session and drop it; latency differs by direction.",
					Fix:      "Remove the pin, or change the site's hub order instead: that moves both directions.",
					Subjects: []Subject{{Overlay: o.Spec.Key}, {Site: pin.Site}},
				})
			}
		}
	}
}

// follow tells the sites that traffic between two sites passes; dies is true
// when it does not arrive.
func (in *Input) follow(overlay, from, to int) (sites string, dies bool) {
	a, b := in.hostOf(overlay, from), in.hostOf(overlay, to)
	if !a.IsValid() || !b.IsValid() {
		return "", false
	}
	t := in.Routes.Follow(route.Packet{From: a, To: b})
	if t.Forward.End == route.Denied || t.Forward.End == route.Unknown {
		return "", false
	}
	var keys []string
	for _, s := range t.Forward.Steps {
		keys = append(keys, in.Plan.Site(s.Site).Key)
	}
	if t.Forward.Where >= 0 {
		keys = append(keys, in.Plan.Site(t.Forward.Where).Key)
	}
	return strings.Join(keys, " → "), t.Forward.End == route.Dies
}

func (in *Input) back(overlay, from, to int) string {
	sites, _ := in.follow(overlay, from, to)
	return sites
}

// hostOf is an address of a subnet that the site shares unmapped.
func (in *Input) hostOf(overlay, site int) netip.Addr {
	s := in.Plan.Site(site)
	for i := range s.Subnets {
		if n := &s.Subnets[i]; n.SharedInto(in.Plan.Overlays[overlay].Spec.Key) && !n.Map.IsValid() {
			return n.Prefix.Addr().Next()
		}
	}
	return netip.Addr{}
}

func reversed(path string) string {
	sites := strings.Split(path, " → ")
	slices.Reverse(sites)
	return strings.Join(sites, " → ")
}
