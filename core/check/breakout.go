package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/core/words"
)

// breakouts reports internet breakouts that cannot work.
func breakouts(in *Input, report func(Finding)) {
	p := in.Plan
	for i := range p.Overlays {
		o := &p.Overlays[i]
		b := o.Spec.Breakout
		if b == nil {
			continue
		}
		for _, key := range b.Hubs {
			hub := p.Site(p.SiteIndex(key))
			if !slices.ContainsFunc(hub.Links, func(l estate.Link) bool { return l.Device != "" && l.UnderlayOf() == estate.Internet }) {
				report(Finding{
					Code: "breakout/nat", Severity: Error,
					Title:    fmt.Sprintf("the design knows no internet device of %s, by which %s breaks out", key, o.Spec.Key),
					Why:      "Without it the source addresses are not translated, and nothing comes back from the internet.",
					Fix:      "Enter the device of its internet link.",
					Subjects: []Subject{{Site: key}, {Overlay: o.Spec.Key}},
				})
				continue
			}
			for _, family := range []estate.Family{estate.V4, estate.V6} {
				in.wayOut(o, hub, family, report)
			}
		}
		for _, key := range b.Sites {
			site := p.SiteIndex(key)
			table := in.Routes.Table(site)
			if !slices.ContainsFunc(table, func(r route.Route) bool { return r.Kind == route.Breakout }) {
				report(Finding{
					Code: "breakout/no-hub", Severity: Error,
					Title:    fmt.Sprintf("%s is to reach the internet through %s, but has no tunnel to %s", key, o.Spec.Key, strings.Join(b.Hubs, " or ")),
					Why:      "Its internet traffic leaves locally.",
					Fix:      "Make one of those hubs the site's hub, or break out elsewhere.",
					Subjects: []Subject{{Site: key}, {Overlay: o.Spec.Key}},
				})
				continue
			}
			in.unpinned(site, table, o.Spec.Key, report)
		}
	}
}

// wayOut reports a hub that has no way to the internet for an IP version in which
// others are to reach it through it.
func (in *Input) wayOut(o *tunnel.Overlay, hub *estate.Site, family estate.Family, report func(Finding)) {
	p := in.Plan
	v4 := family == estate.V4
	if slices.ContainsFunc(hub.Links, func(l estate.Link) bool {
		return l.Device != "" && l.UnderlayOf() == estate.Internet && (l.Has(family) || route.NextHop(&l, v4).IsValid())
	}) {
		return
	}
	var sites []string
	for _, key := range o.Spec.Breakout.Sites {
		if slices.ContainsFunc(p.Site(p.SiteIndex(key)).Shared(o.Spec.Key), func(p netip.Prefix) bool { return p.Addr().Is4() == v4 }) {
			sites = append(sites, key)
		}
	}
	if len(sites) == 0 {
		return
	}
	name := map[bool]string{true: "IPv4", false: "IPv6"}[v4]
	report(Finding{
		Code: "breakout/family", Severity: Error,
		Title:    fmt.Sprintf("%s has no way to the internet for %s, which %s should reach through it", hub.Key, name, strings.Join(sites[:min(len(sites), 5)], ", ")),
		Evidence: []string{fmt.Sprintf("%s %s subnets into %s", words.Many(len(sites), "site shares", "sites share"), name, o.Spec.Key)},
		Why:      "Their " + name + " traffic goes to the hub and ends there; it does not leave locally instead.",
		Fix:      "Give an internet link of the hub an address and a next hop of that version, or share no such subnets there.",
		Subjects: []Subject{{Site: hub.Key}, {Overlay: o.Spec.Key}},
	})
}

// unpinned reports tunnels of a site that breaks out whose own packets would be
// sent into a tunnel: they start in a subnet that breaks out, as where the
// gateway leaves by its LAN's router.
func (in *Input) unpinned(site int, table []route.Route, overlay string, report func(Finding)) {
	p := in.Plan
	s := p.Site(site)
	links := map[string]bool{}
	for _, e := range p.Ends(site) {
		local, remote := p.Sides(e)
		_, _, t := p.At(e)
		link, far := p.Link(local), p.Link(remote)
		marked := len(s.Links) > 1 && link.Device != "" && len(link.NextHop) > 0
		address := far.AddressOf(t.Family)
		pinned := slices.ContainsFunc(table, func(r route.Route) bool { return r.Kind == route.Pin && r.Prefix.Addr() == address })
		inside := link.Device != "" && link.Device == s.Gateway.LANDevice || slices.ContainsFunc(table, func(r route.Route) bool {
			return slices.ContainsFunc(r.From, func(p netip.Prefix) bool { return slices.ContainsFunc(link.Addresses, p.Contains) })
		})
		if inside && far.Reach.Callable() && !marked && !pinned {
			links[link.Key] = true
		}
	}
	for i := range s.Links {
		if key := s.Links[i].Key; links[key] {
			report(Finding{
				Code: "breakout/pins", Severity: Error,
				Title:    fmt.Sprintf("the tunnels of %s over %s would be sent into themselves", s.Key, key),
				Why:      "What starts in the subnet goes through a tunnel, also the tunnel's own packets, as long as their way out is not known.",
				Fix:      "Enter the device and the next hop of the link; a hub found by host name needs a second link too.",
				Subjects: []Subject{{Site: s.Key, Link: key}, {Overlay: overlay}},
			})
		}
	}
}
