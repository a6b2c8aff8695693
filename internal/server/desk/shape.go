package desk

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"wideknot/core/diff"
	"wideknot/core/estate"
	"wideknot/core/planning"
	"wideknot/core/words"
)

// RepairAll carries out several repairs as one edit.
func (d *Desk) RepairAll(ctx context.Context, o Order, list []planning.Repair) (*View, error) {
	if len(list) == 0 {
		return nil, estate.Problems{{Path: "repairs", Message: "choose at least one repair to apply"}}
	}
	label := list[0].Label
	if len(list) > 1 {
		label = fmt.Sprintf("%s, and %s", label, words.Many(len(list)-1, "more repair", "more repairs"))
	}
	return d.edit(ctx, o, label, func(e *estate.Estate) (*estate.Estate, error) { return planning.ApplyAll(e, list) })
}

// WhatIf says what repairs would change, and changes nothing.
func (d *Desk) WhatIf(ctx context.Context, at Place, list []planning.Repair) (*Weighing, error) {
	view, err := d.View(ctx, at)
	if err != nil {
		return nil, err
	}
	leave, err := d.Turn(ctx)
	if err != nil {
		return nil, err
	}
	defer leave()
	next := *view
	if next.Estate, err = planning.ApplyAll(view.Estate, list); err != nil {
		return nil, err
	}
	next.derive()
	return weighingOf(view, diff.Weigh(view.State(), next.State())), nil
}

// SetHubOrder gives spokes of an overlay a hub order of their own; an empty
// one, the overlay's.
func (d *Desk) SetHubOrder(ctx context.Context, o Order, overlay string, sites, hubs []string) (*View, error) {
	words := "as the overlay"
	if len(hubs) > 0 {
		words = strings.Join(hubs, ", ")
	}
	who := fmt.Sprintf("%d sites", len(sites))
	if len(sites) == 1 {
		who = sites[0]
	}
	return d.editOverlay(ctx, o, fmt.Sprintf("Hubs of %s in %s: %s", who, overlay, words), overlay, func(spec *estate.Overlay) error {
		spec.Spokes = slices.Clone(spec.Spokes)
		for i := range spec.Spokes {
			if !slices.Contains(sites, spec.Spokes[i].Site) {
				continue
			}
			spec.Spokes[i].Hubs = slices.Clone(hubs)
			if len(hubs) == 0 || slices.Equal(hubs, spec.Hubs) {
				spec.Spokes[i].Hubs = nil
			}
		}
		return nil
	})
}

// SetTunnelOrder puts tunnels of a pair of sites first, in the order given; an
// empty order leaves the ranks of the links to decide. Both ends follow it.
func (d *Desk) SetTunnelOrder(ctx context.Context, o Order, overlay, a, b string, first []string) (*View, error) {
	return d.editOverlay(ctx, o, fmt.Sprintf("Order of the tunnels between %s and %s in %s", a, b, overlay), overlay, func(spec *estate.Overlay) error {
		spec.TunnelOrder = slices.DeleteFunc(slices.Clone(spec.TunnelOrder), func(t estate.PairOrder) bool { return t.Of(a, b) })
		if len(first) > 0 {
			spec.TunnelOrder = append(spec.TunnelOrder, estate.PairOrder{Between: []string{a, b}, First: first})
		}
		return nil
	})
}

// SetDirect joins two sites directly, or no longer; an overlay of hubs and
// spokes becomes a custom one by it.
func (d *Desk) SetDirect(ctx context.Context, o Order, overlay, a, b string, join bool) (*View, error) {
	words := "Join"
	if !join {
		words = "No longer join"
	}
	return d.editOverlay(ctx, o, fmt.Sprintf("%s %s and %s directly in %s", words, a, b, overlay), overlay, func(spec *estate.Overlay) error {
		if spec.Shape == estate.FullMesh {
			return estate.Problems{{Path: "shape", Message: "in a full mesh every two sites are joined already"}}
		}
		spec.Direct = slices.DeleteFunc(slices.Clone(spec.Direct), func(pair []string) bool {
			return slices.Contains(pair, a) && slices.Contains(pair, b)
		})
		if join {
			spec.Shape = estate.Custom
			spec.Direct = append(spec.Direct, []string{a, b})
		}
		return nil
	})
}

func (d *Desk) editOverlay(ctx context.Context, o Order, label, overlay string, change func(*estate.Overlay) error) (*View, error) {
	return d.edit(ctx, o, label, func(e *estate.Estate) (*estate.Estate, error) {
		out := e.Clone()
		spec := out.Overlay(overlay)
		if spec == nil {
			return nil, fmt.Errorf("overlay %q: %w", overlay, ErrNotFound)
		}
		if err := change(spec); err != nil {
			return nil, err
		}
		return out, nil
	})
}

// AddLike adds a site that was made after the pattern of another, to that
// one's overlays too.
func (d *Desk) AddLike(ctx context.Context, o Order, pattern string, site estate.Site) (*View, error) {
	return d.edit(ctx, o, fmt.Sprintf("Add %s like %s", name(site.Name, site.Key), pattern), func(e *estate.Estate) (*estate.Estate, error) {
		if e.Site(pattern) == nil {
			return nil, fmt.Errorf("site %q: %w", pattern, ErrNotFound)
		}
		if e.Site(site.Key) != nil {
			return nil, estate.Problems{{Path: "key", Message: fmt.Sprintf("there is a site %q already", site.Key)}}
		}
		if problems := estate.ValidateSite(e, &site); len(problems) > 0 {
			return nil, estate.Problems(problems)
		}
		return planning.JoinLike(estate.Merge(e, &estate.Estate{Sites: []estate.Site{site}}), pattern, site.Key), nil
	})
}
