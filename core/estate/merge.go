package estate

import (
	"maps"
	"slices"
)

// Merge returns the base estate with a document laid over it: regions, sites
// and overlays of the same key are replaced, others added, and what only the
// base has stays and is shared with it. Merging a document into an empty estate
// gives the document.
func Merge(base, document *Estate) *Estate {
	merged := *base
	out := &merged
	out.Format = Format
	if document.About.Name != "" {
		out.About.Name = document.About.Name
	}
	out.About.Regions = lay(out.About.Regions, document.About.Regions, func(r Region) string { return r.Key })
	out.About.Underlays = lay(out.About.Underlays, document.About.Underlays, func(r Region) string { return r.Key })
	out.About.Reserved = lay(out.About.Reserved, document.About.Reserved, func(r Reservation) string { return r.Prefix.String() })
	if len(document.About.Shed) > 0 {
		out.About.Shed = document.About.Shed
	}
	out.Sites = lay(out.Sites, document.Sites, func(s Site) string { return s.Key })
	out.Overlays = lay(out.Overlays, document.Overlays, func(o Overlay) string { return o.Key })
	out.Allocations = Allocations{
		Keys:    layMap(base.Allocations.Keys, document.Allocations.Keys),
		Sites:   layMap(base.Allocations.Sites, document.Allocations.Sites),
		Tunnels: layMap(base.Allocations.Tunnels, document.Allocations.Tunnels),
	}
	return out
}

func lay[T any](under, over []T, key func(T) string) []T {
	place := make(map[string]int, len(under))
	for i, item := range under {
		place[key(item)] = i
	}
	out := slices.Clone(under)
	for _, item := range over {
		if i, ok := place[key(item)]; ok {
			out[i] = item
		} else {
			out = append(out, item)
		}
	}
	return out
}

// layMap lays one map over another; neither is changed, and where there is
// nothing to lay the one below is what it returns.
func layMap[V any](under, over map[string]V) map[string]V {
	if len(over) == 0 {
		return under
	}
	out := maps.Clone(under)
	if out == nil {
		out = map[string]V{}
	}
	maps.Copy(out, over)
	return out
}

// WithoutSite returns the estate without one site: its overlays no longer name
// it. The allocations stay, so that the site finds its numbers again should it
// come back. A site that is the only hub of spokes cannot go.
func (e *Estate) WithoutSite(key string) (*Estate, error) {
	out := e.Clone()
	out.Sites = slices.DeleteFunc(out.Sites, func(s Site) bool { return s.Key == key })
	for i := range out.Overlays {
		out.Overlays[i] = out.Overlays[i].without(key)
	}
	if problems := Validate(out); len(problems) > 0 {
		return nil, Problems(problems)
	}
	return out, nil
}

func (o Overlay) without(site string) Overlay {
	gone := func(key string) bool { return key == site }
	o.Hubs = slices.DeleteFunc(slices.Clone(o.Hubs), gone)
	var spokes []Spoke
	for _, s := range o.Spokes {
		if s.Site != site {
			spokes = append(spokes, Spoke{Site: s.Site, Hubs: slices.DeleteFunc(slices.Clone(s.Hubs), gone)})
		}
	}
	o.Spokes = spokes
	o.Direct = slices.DeleteFunc(slices.Clone(o.Direct), func(pair []string) bool { return slices.Contains(pair, site) })
	o.TunnelOrder = slices.DeleteFunc(slices.Clone(o.TunnelOrder), func(t PairOrder) bool { return slices.Contains(t.Between, site) })
	o.Pins = slices.DeleteFunc(slices.Clone(o.Pins), func(p Pin) bool { return p.Site == site || p.Via == site })
	if o.Breakout != nil {
		b := *o.Breakout
		b.Hubs = slices.DeleteFunc(slices.Clone(b.Hubs), gone)
		b.Sites = slices.DeleteFunc(slices.Clone(b.Sites), gone)
		o.Breakout = &b
	}
	if o.Policy != nil {
		p := *o.Policy
		p.Rules = slices.DeleteFunc(slices.Clone(p.Rules), func(r Rule) bool { return r.From.Site == site || r.To.Site == site })
		o.Policy = &p
	}
	return o
}

// WithoutStrangers returns the estate with its overlays naming only sites that
// are there, and its subnets shared only into overlays that are.
func (e *Estate) WithoutStrangers() *Estate {
	out := e.Clone()
	sites := out.Index()
	for i := range out.Overlays {
		o := &out.Overlays[i]
		named := slices.Clone(o.Members())
		for _, s := range o.Spokes {
			named = append(named, s.Hubs...)
		}
		for _, t := range o.TunnelOrder {
			named = append(named, t.Between...)
		}
		for _, p := range o.Pins {
			named = append(named, p.Site, p.Via)
		}
		if o.Breakout != nil {
			named = append(append(named, o.Breakout.Hubs...), o.Breakout.Sites...)
		}
		if o.Policy != nil {
			for _, r := range o.Policy.Rules {
				named = append(named, r.From.Site, r.To.Site)
			}
		}
		for _, key := range named {
			if _, ok := sites[key]; !ok && key != "" {
				*o = o.without(key)
			}
		}
	}
	for i := range out.Sites {
		for j := range out.Sites[i].Subnets {
			n := &out.Sites[i].Subnets[j]
			stranger := func(overlay string) bool { return out.Overlay(overlay) == nil }
			if slices.ContainsFunc(n.Share, stranger) {
				n.Share = slices.DeleteFunc(slices.Clone(n.Share), stranger)
			}
		}
	}
	return out
}
