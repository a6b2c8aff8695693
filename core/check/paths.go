package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
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
						evidence = append(evidence, fmt.Sprintf("to %s it dies: %s", p.Site(to).Key, there))
					} else {
						evidence = append(evidence, fmt.Sprintf("%s, and back %s", there, back))
					}
				}
			}
			if differ > 0 {
				report(Finding{
					Code: "path/asymmetric", Severity: Warning,
					Title:    fmt.Sprintf("by a pin, traffic of %s to %d sites goes by %s and comes back another way", pin.Site, differ, pin.Via),
					Evidence: evidence,
					Why:      "Filters that keep state see only half of each session and drop it; delays differ by direction.",
					Mend:     "Remove the pin, or change the site's hub order instead: that moves both directions.",
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

// clauses reports policy rules that cannot do what they say.
func clauses(in *Input, report func(Finding)) {
	for i := range in.Plan.Overlays {
		policy := in.Routes.Policy(i)
		if policy == nil {
			continue
		}
		key := in.Plan.Overlays[i].Spec.Key
		subjects := []Subject{{Overlay: key}}
		for j := range policy.Rules {
			r := &policy.Rules[j]
			name := fmt.Sprintf("rule %d of %s (%s)", j+1, key, words(&r.Spec))
			if r.From.Empty() || r.To.Empty() {
				report(Finding{
					Code: "policy/dead", Severity: Warning, Subjects: subjects,
					Title: name + " can never match",
					Why:   "No subnet that takes part has the zone or lies at the site it names.",
					Mend:  "Correct the rule, or delete it.",
				})
				continue
			}
			if k := slices.IndexFunc(policy.Rules[:j], func(earlier route.Clause) bool { return in.covers(&earlier, r) }); k >= 0 {
				f := Finding{
					Code: "policy/shadowed", Severity: Warning, Subjects: subjects,
					Title:    fmt.Sprintf("%s is never asked: rule %d stands above it", name, k+1),
					Evidence: []string{fmt.Sprintf("rule %d: %s", k+1, words(&policy.Rules[k].Spec))},
					Why:      "The first rule that matches decides, and the earlier one matches all this one would.",
					Mend:     "Move the rule up, or narrow the earlier one.",
				}
				if policy.Rules[k].Spec.Action == r.Spec.Action {
					f.Severity, f.Why, f.Mend = Note, "It changes nothing: the earlier rule says the same of more.", "Delete it."
				}
				report(f)
				continue
			}
			in.returns(policy, j, name, subjects, report)
		}
	}
}

// returns reports a permit whose answers an earlier rule denies, and a denial
// that under a permitting default lets sessions start whose answers it denies.
func (in *Input) returns(policy *route.Policy, j int, name string, subjects []Subject, report func(Finding)) {
	r := &policy.Rules[j]
	against := func(other *route.Clause) bool {
		return in.Routes.Meet(&other.From, &r.To) && in.Routes.Meet(&other.To, &r.From) &&
			len(other.Spec.Ports) == 0 && protocolsMeet(other.Spec.Protocol, r.Spec.Protocol)
	}
	if r.Spec.Action == estate.Permit {
		k := slices.IndexFunc(policy.Rules[:j], func(other route.Clause) bool { return other.Spec.Action == estate.Deny && against(&other) })
		if k >= 0 {
			report(Finding{
				Code: "policy/return", Severity: Warning, Subjects: subjects,
				Title: fmt.Sprintf("%s lets sessions start whose answers rule %d denies", name, k+1),
				Why:   "Packets arrive, and nothing comes back: the slowest way to fail.",
				Mend:  fmt.Sprintf("Move the permit above rule %d; a permit lets the answers pass at its place.", k+1),
			})
		}
		return
	}
	if policy.Default == estate.Permit && len(r.Spec.Ports) == 0 &&
		!slices.ContainsFunc(policy.Rules, func(other route.Clause) bool {
			return other.Spec.Action == estate.Deny && in.covers(&other, &route.Clause{Spec: estate.Rule{Protocol: r.Spec.Protocol}, From: r.To, To: r.From})
		}) {
		report(Finding{
			Code: "policy/one-way", Severity: Warning, Subjects: subjects,
			Title: fmt.Sprintf("%s also denies the answers to sessions from the other side", name),
			Why:   "The default lets such sessions start; their answers are dropped here.",
			Mend:  "Deny the other direction too, or permit it above this rule.",
		})
	}
}

// covers reports whether whatever the second clause matches the first matches
// too.
func (in *Input) covers(outer, inner *route.Clause) bool {
	if p := outer.Spec.Protocol; p != "" && p != "any" && p != inner.Spec.Protocol {
		return false
	}
	for _, text := range inner.Spec.Ports {
		low, high := route.PortRange(text)
		if len(outer.Spec.Ports) > 0 && !slices.ContainsFunc(outer.Spec.Ports, func(o string) bool {
			from, to := route.PortRange(o)
			return from <= low && high <= to
		}) {
			return false
		}
	}
	if len(outer.Spec.Ports) > 0 && len(inner.Spec.Ports) == 0 {
		return false
	}
	return in.Routes.Within(&inner.From, &outer.From) && in.Routes.Within(&inner.To, &outer.To)
}

func protocolsMeet(a, b string) bool {
	any := func(p string) bool { return p == "" || p == "any" }
	return any(a) || any(b) || a == b
}

// words puts a rule in words.
func words(r *estate.Rule) string {
	party := func(p estate.Party) string {
		var parts []string
		if p.Zone != "" {
			parts = append(parts, p.Zone)
		}
		if p.Site != "" {
			parts = append(parts, "at "+p.Site)
		}
		if p.Prefix.IsValid() {
			parts = append(parts, p.Prefix.String())
		}
		if len(parts) == 0 {
			return "anywhere"
		}
		return strings.Join(parts, " ")
	}
	text := fmt.Sprintf("%s %s to %s", r.Action, party(r.From), party(r.To))
	if r.Protocol != "" && r.Protocol != "any" {
		text += " " + r.Protocol
	}
	if len(r.Ports) > 0 {
		text += " " + strings.Join(r.Ports, ", ")
	}
	return text
}

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
					Mend:     "Enter the device of its internet link.",
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
					Mend:     "Make one of those hubs the site's hub, or break out elsewhere.",
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
		Evidence: []string{fmt.Sprintf("%d sites share %s subnets into %s", len(sites), name, o.Spec.Key)},
		Why:      "Their " + name + " traffic goes to the hub and ends there; it does not leave locally instead.",
		Mend:     "Give an internet link of the hub an address and a next hop of that version, or share no such subnets there.",
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
				Mend:     "Enter the device and the next hop of the link; a hub found by host name needs a second link too.",
				Subjects: []Subject{{Site: s.Key, Link: key}, {Overlay: overlay}},
			})
		}
	}
}
