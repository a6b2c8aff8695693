package desk

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"wideknot/core/check"
	"wideknot/core/estate"
	"wideknot/core/outage"
)

// outages keeps the model of a state's failures, with the findings that need it,
// and what every single failure does, once somebody asked.
type outages struct {
	once     sync.Once
	ready    atomic.Bool
	model    *outage.Model
	findings []check.Finding

	evaluate sync.Once
	singles  []outage.Outcome
}

// Model returns the model of a state's failures. The first call computes it.
func (v *View) Model() *outage.Model {
	o := v.outages
	o.once.Do(func() {
		o.model = outage.New(v.Routes)
		o.findings = check.WithLoads(v.prompt, v.Plan, o.model)
		o.ready.Store(true)
	})
	return o.model
}

// Outages returns the model of a state's failures and what every single one
// does, the worst first. The first call computes it.
func (v *View) Outages() (*outage.Model, []outage.Outcome) {
	model, o := v.Model(), v.outages
	o.evaluate.Do(func() { o.singles = model.Singles(model.Parts()) })
	return model, o.singles
}

// OutageChanges says at which sites failures are harder or less hard than in
// another state of the estate: a draft, a release, or, when none is named, the
// release the draft is based on.
func (d *Desk) OutageChanges(ctx context.Context, at Place, against string) (*View, []outage.Change, error) {
	view, err := d.View(ctx, at)
	if err != nil {
		return nil, nil, err
	}
	base, err := d.View(ctx, Place{at.Estate, cmp.Or(against, fmt.Sprintf("release-%d", view.Base))})
	if err != nil {
		return nil, nil, err
	}
	old, was := base.Outages()
	model, now := view.Outages()
	return view, outage.Compare(old, model, was, now), nil
}

// RankLinks puts some links of the given sites first, in the order given, by
// their keys; some may share the load.
func (d *Desk) RankLinks(ctx context.Context, o Order, sites []string, first []estate.LinkChoice) (*View, error) {
	if len(first) == 0 || len(sites) == 0 {
		return nil, estate.Problems{{Path: "first", Message: "name the links that come first, and the sites"}}
	}
	who := fmt.Sprintf("%d sites", len(sites))
	if len(sites) == 1 {
		who = sites[0]
	}
	return d.edit(ctx, o, fmt.Sprintf("Links of %s: %s", who, estate.ChoicesText(first)), func(e *estate.Estate) (*estate.Estate, error) {
		out := e.Clone()
		known := false
		for i := range out.Sites {
			if s := &out.Sites[i]; slices.Contains(sites, s.Key) {
				known = known || slices.ContainsFunc(first, func(c estate.LinkChoice) bool { return s.Link(c.Key) != nil })
				s.RankLinks(first)
			}
		}
		if !known {
			return nil, estate.Problems{{Path: "first", Message: "none of the sites has any of the links " + estate.ChoicesText(first)}}
		}
		return out, nil
	})
}

// LimitLinks has the links of a key, at the given sites, let through only the
// named zones; none means all.
func (d *Desk) LimitLinks(ctx context.Context, o Order, sites []string, link string, zones []string) (*View, error) {
	words := "for " + strings.Join(zones, " and ") + " only"
	if len(zones) == 0 {
		words = "for all zones"
	}
	who := fmt.Sprintf("%d sites", len(sites))
	if len(sites) == 1 {
		who = sites[0]
	}
	return d.edit(ctx, o, fmt.Sprintf("%s of %s %s", link, who, words), func(e *estate.Estate) (*estate.Estate, error) {
		for i, z := range zones {
			if !slices.Contains(e.Zones(), z) {
				return nil, estate.Problems{{Path: fmt.Sprintf("zones[%d]", i), Message: fmt.Sprintf("no subnet is in a zone %q", z)}}
			}
		}
		out := e.Clone()
		known := false
		for i := range out.Sites {
			s := &out.Sites[i]
			if !slices.Contains(sites, s.Key) {
				continue
			}
			s.Links = slices.Clone(s.Links)
			if l := s.Link(link); l != nil {
				l.Zones, known = zones, true
			}
		}
		if !known {
			return nil, estate.Problems{{Path: "link", Message: "none of the sites has a link called " + link}}
		}
		return out, nil
	})
}

// SetShed says in which order zones give way where there is no room for all.
func (d *Desk) SetShed(ctx context.Context, o Order, zones []string) (*View, error) {
	return d.edit(ctx, o, "Zones shed: "+strings.Join(zones, ", then "), func(e *estate.Estate) (*estate.Estate, error) {
		out := e.Clone()
		out.About.Shed = zones
		if problems := estate.Validate(out); len(problems) > 0 {
			return nil, estate.Problems(problems)
		}
		return out, nil
	})
}

// SetProbe replaces an overlay's probe profile.
func (d *Desk) SetProbe(ctx context.Context, o Order, overlay string, probe estate.Probe) (*View, error) {
	label := fmt.Sprintf("Probes of %s: %g s apart, %d misses", overlay, outage.TimingOf(&probe).Interval, outage.TimingOf(&probe).Misses)
	if l := probe.Limits; l != nil {
		label += fmt.Sprintf("; %s held to %s", strings.Join(l.Zones, ", "), l.Words())
	}
	return d.editOverlay(ctx, o, label, overlay, func(spec *estate.Overlay) error {
		spec.Probe = &probe
		return nil
	})
}
