package api

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/estate"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/store"
)

func overlaysOf(v *desk.View) []ShapedOverlay {
	out := make([]ShapedOverlay, len(v.Plan.Overlays))
	for i := range out {
		o := &v.Plan.Overlays[i]
		out[i] = ShapedOverlay{Overlay: *o.Spec, Revision: v.Revisions[desk.PartID(store.Overlay, o.Spec.Key)], Zones: []ZoneShare{}, Members: []Member{}}
		tunnels, apart := map[int]int{}, map[int]int{}
		for _, a := range o.Adjacencies {
			out[i].Tunnels += len(a.Tunnels)
			for _, end := range []int{a.A, a.B} {
				tunnels[end] += len(a.Tunnels)
				if len(a.Tunnels) == 0 {
					apart[end]++
				}
			}
		}
		spokes := map[string]bool{}
		for _, s := range o.Spec.Spokes {
			spokes[s.Site] = true
		}
		zones := map[string]*ZoneShare{}
		for _, m := range o.Members {
			site := v.Plan.Site(m)
			role := "direct"
			if o.IsHub(m) {
				role = "hub"
			} else if spokes[site.Key] {
				role = "spoke"
			}
			out[i].Members = append(out[i].Members, Member{Site: site.Key, Role: role, Tunnels: tunnels[m], Apart: apart[m]})
			for j := range site.Subnets {
				z := zones[site.Subnets[j].Zone]
				if z == nil {
					z = &ZoneShare{Zone: site.Subnets[j].Zone}
					zones[z.Zone] = z
				}
				z.Subnets++
				if site.Subnets[j].SharedInto(o.Spec.Key) {
					z.Shared++
				}
			}
		}
		for _, z := range zones {
			out[i].Zones = append(out[i].Zones, *z)
		}
		slices.SortFunc(out[i].Zones, func(a, b ZoneShare) int { return cmp.Compare(a.Zone, b.Zone) })
	}
	return out
}

func shape(a huma.API, d *desk.Desk) {
	huma.Register(a, operation("list-overlays", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/overlays", "List the overlays"),
		viewed(d, func(v *desk.View, in *InDraft) (out []ShapedOverlay, err error) {
			return overlaysOf(v), nil
		}))
	type inOverlay struct {
		InDraft
		Overlay string `path:"overlay" maxLength:"40"`
	}
	part(a, operation("get-overlay", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/overlays/{overlay}", "Read an overlay, as it can be put back"),
		d, func(v *desk.View, in inOverlay) (estate.Overlay, string, error) {
			overlay := v.Estate.Overlay(in.Overlay)
			if overlay == nil {
				return estate.Overlay{}, "", fmt.Errorf("overlay %q: %w", in.Overlay, desk.ErrNotFound)
			}
			return *overlay, desk.PartID(store.Overlay, in.Overlay), nil
		})
	huma.Register(a, saveOf("save-overlay", "/api/estates/{estate}/drafts/{draft}/overlays/{overlay}", "Add or replace an overlay"),
		func(ctx context.Context, in *struct {
			Editing
			Overlay string `path:"overlay" maxLength:"40"`
			RawBody []byte `contentType:"application/json"`
		}) (*answer[EstateHead], error) {
			var overlay estate.Overlay
			if problems := estate.ReadPart(in.RawBody, &overlay); len(problems) > 0 {
				return nil, refusal(estate.Problems(problems))
			}
			return editedPart(ctx, in.Editing, desk.PartID(store.Overlay, in.Overlay), func(o desk.Order) (*desk.View, error) { return d.SaveOverlay(ctx, o, in.Overlay, overlay) })
		})
	describeBody[estate.Overlay](a, "/api/estates/{estate}/drafts/{draft}/overlays/{overlay}", "Overlay")
	huma.Register(a, operation("delete-overlay", http.MethodDelete, "/api/estates/{estate}/drafts/{draft}/overlays/{overlay}", "Delete an overlay"),
		func(ctx context.Context, in *struct {
			Editing
			Overlay string `path:"overlay" maxLength:"40"`
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) { return d.DeleteOverlay(ctx, o, in.Overlay) })
		})
	huma.Register(a, operation("share", http.MethodPost, "/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/share", "Choose which subnets of the members take part"),
		func(ctx context.Context, in *struct {
			Editing
			Overlay string `path:"overlay" maxLength:"40"`
			Body    struct {
				Zone  string `json:"zone" doc:"the zone whose subnets are meant; empty for those without zone"`
				Site  string `json:"site,omitempty" doc:"only those of this site"`
				All   bool   `json:"all,omitempty" doc:"of every zone"`
				Share bool   `json:"share" doc:"true to take part, false to leave"`
			}
		}) (*answer[EstateHead], error) {
			choice := desk.Choice{Zone: in.Body.Zone, Site: in.Body.Site, All: in.Body.All}
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) {
				return d.Share(ctx, o, in.Overlay, choice, in.Body.Share)
			})
		})
}
