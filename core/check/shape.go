package check

import (
	"fmt"
	"slices"
	"strings"

	"wideknot/core/estate"

	"wideknot/core/tunnel"
)

// spokesWithoutHub reports spokes that reach none of their hubs.
func spokesWithoutHub(in *Input, report func(Finding)) {
	p := in.Plan
	for i := range p.Overlays {
		o := &p.Overlays[i]
		if o.Spec.Shape == estate.FullMesh {
			continue
		}
		joined := map[int]bool{}
		apart := map[int][]string{}
		for j := range o.Adjacencies {
			a := &o.Adjacencies[j]
			if a.Kind != tunnel.ToHub {
				continue
			}
			if len(a.Tunnels) > 0 {
				joined[a.A] = true
			} else {
				apart[a.A] = append(apart[a.A], p.WhyApart(o, a)...)
			}
		}
		for _, s := range o.Spec.Spokes {
			site := p.SiteIndex(s.Site)
			if joined[site] {
				continue
			}
			report(Finding{
				Code: "shape/no-hub", Severity: Error,
				Title:    fmt.Sprintf("%s reaches no hub of %s", s.Site, o.Spec.Key),
				Evidence: apart[site],
				Why:      "The site is cut off from every other site of the overlay.",
				Fix:      "Give the site or a hub a reachable link on the same underlay, or choose another hub.",
				Subjects: []Subject{{Site: s.Site}, {Overlay: o.Spec.Key}},
			})
		}
	}
}

// tellings reports overlays whose hubs are to tell which sites they reach and cannot.
func tellings(in *Input, report func(Finding)) {
	for i := range in.Plan.Overlays {
		o := &in.Plan.Overlays[i]
		why := in.Routes.Untold(i)
		if !o.Spec.HubsTell || why == "" {
			continue
		}
		report(Finding{
			Code: "shape/nothing-told", Severity: Warning,
			Title:    fmt.Sprintf("hubs of %s cannot tell which sites they reach: %s", o.Spec.Key, why),
			Why:      "A site that loses its tunnel to one hub is not found by another: who sends to it knows nothing of that.",
			Fix:      "Change what is in the way, or let the hubs tell nothing, in Shape.",
			Subjects: []Subject{{Overlay: o.Spec.Key}},
		})
	}
}

const farther = "The traffic takes a longer way than the shape asks for, and loads the hub."

// apart reports adjacencies for which no link pair can carry a tunnel, and
// which way the traffic takes instead.
func apart(in *Input, report func(Finding)) {
	p := in.Plan
	for i := range p.Overlays {
		o := &p.Overlays[i]
		for j := range o.Adjacencies {
			a := &o.Adjacencies[j]
			if len(a.Tunnels) > 0 {
				continue
			}
			left, right := p.Site(a.A).Key, p.Site(a.B).Key
			f := Finding{
				Code: "shape/apart", Severity: Warning,
				Title:    fmt.Sprintf("%s and %s cannot be joined in %s", left, right, o.Spec.Key),
				Evidence: p.WhyApart(o, a),
				Fix:      "Make one end reachable: a static address, a host name, or forwarded UDP ports.",
				Subjects: []Subject{{Site: left}, {Site: right}, {Overlay: o.Spec.Key}},
			}
			switch via := in.Routes.Via(i, a.A, a.B); len(via) {
			case 0:
				f.Severity = Error
				f.Why = "No hub carries the traffic either: the two sites cannot reach each other."
			case 1:
				f.Title += "; " + via[0] + " carries their traffic"
				f.Why = farther
			default:
				f.Title += "; " + strings.Join(via, " and ") + " carry their traffic"
				f.Why = farther
			}
			report(f)
		}
	}
}

// hubReach reports hubs that cannot be called at a fixed place.
func hubReach(in *Input, report func(Finding)) {
	p := in.Plan
	for i := range p.Overlays {
		o := &p.Overlays[i]
		for _, h := range o.Hubs {
			site := p.Site(h)
			if site.HubFit() {
				continue
			}
			report(Finding{
				Code: "shape/hub-address", Severity: Warning,
				Title:    fmt.Sprintf("hub %s has no link with a static address", site.Key),
				Why:      "When its address changes, every spoke must find it again at once.",
				Fix:      "Give the hub a link with a fixed address, or make another site the hub.",
				Subjects: []Subject{{Site: site.Key}, {Overlay: o.Spec.Key}},
			})
		}
	}
}

// membership notes sites in no overlay, subnets shared nowhere, and subnets
// shared into an overlay of which their site is no member.
func membership(in *Input, report func(Finding)) {
	p := in.Plan
	for i := range p.Estate.Sites {
		site := p.Site(i)
		var of []string
		for j := range p.Overlays {
			if p.Overlays[j].Has(i) {
				of = append(of, p.Overlays[j].Spec.Key)
			}
		}
		if len(of) == 0 {
			report(Finding{
				Code: "shape/no-overlay", Severity: Note,
				Title:    fmt.Sprintf("%s is in no overlay", site.Key),
				Why:      "It has no tunnels and reaches no other site.",
				Fix:      "Add it to an overlay in Shape.",
				Subjects: []Subject{{Site: site.Key}},
			})
		}
		for j := range site.Subnets {
			n := &site.Subnets[j]
			subjects := []Subject{{Site: site.Key, Prefix: n.Prefix}}
			for _, key := range n.Share {
				if !slices.Contains(of, key) {
					report(Finding{
						Code: "shape/share-outside", Severity: Warning,
						Title:    fmt.Sprintf("%s at %s is shared into %s, of which the site is no member", n.Prefix, site.Key, key),
						Why:      "Nobody reaches the subnet there.",
						Fix:      "Make the site a member in Shape, or stop sharing the subnet.",
						Subjects: append(subjects, Subject{Overlay: key}),
					})
				}
			}
			if len(n.Share) == 0 && len(of) > 0 {
				report(Finding{
					Code: "shape/unshared", Severity: Note,
					Title:    fmt.Sprintf("%s at %s is shared into no overlay", n.Prefix, site.Key),
					Why:      "It stays local to the site.",
					Fix:      "Nothing to do if that is meant; else share it.",
					Subjects: subjects,
				})
			}
		}
	}
}
