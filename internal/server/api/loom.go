package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/route"

	"wideknot/core/tunnel"
	"wideknot/internal/server/desk"
)

const pairPath = "/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/pairs/{a}/{b}"

// overlayOf returns a state and the place of one of its overlays.
func (s *Server) overlayOf(ctx context.Context, at desk.Place, key string) (*desk.View, int, error) {
	v, err := s.Desk.View(ctx, at)
	if err != nil {
		return nil, 0, refusal(err)
	}
	i := slices.IndexFunc(v.Plan.Overlays, func(o tunnel.Overlay) bool { return o.Spec.Key == key })
	if i < 0 {
		return nil, 0, huma.Error404NotFound(fmt.Sprintf("there is no overlay %q", key))
	}
	return v, i, nil
}

func (s *Server) loom(a huma.API) {
	s.looms(a)
	s.pairs(a)
	s.hubOrder(a)
	s.bothEnds(a)
}

// looms registers the loom and its windows.
func (s *Server) looms(a huma.API) {
	huma.Register(a, operation("get-loom", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/loom", "Read an overlay pair by pair"),
		func(ctx context.Context, in *struct {
			InDraft
			Overlay string `path:"overlay" maxLength:"40"`
		}) (*answer[route.Loom], error) {
			v, i, err := s.overlayOf(ctx, in.place(), in.Overlay)
			if err != nil {
				return nil, err
			}
			return tagged(v, v.Routes.Loom(&v.Plan.Overlays[i])), nil
		})
	huma.Register(a, operation("get-loom-window", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/loom/window", "Read the pairs of some rows and columns of the loom"),
		func(ctx context.Context, in *struct {
			InDraft
			Overlay string `path:"overlay" maxLength:"40"`
			Row     int    `query:"row" minimum:"0"`
			Rows    int    `query:"rows" minimum:"1" maximum:"4096" default:"64"`
			Column  int    `query:"column" minimum:"0"`
			Columns int    `query:"columns" minimum:"1" maximum:"64" default:"64"`
		}) (*answer[route.LoomWindow], error) {
			v, i, err := s.overlayOf(ctx, in.place(), in.Overlay)
			if err != nil {
				return nil, err
			}
			return tagged(v, v.Routes.LoomWindow(&v.Plan.Overlays[i], in.Row, in.Rows, in.Column, in.Columns)), nil
		})
}

// pairs registers what concerns two sites.
func (s *Server) pairs(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("get-pair", http.MethodGet, pairPath, "Read all that can join two sites"),
		func(ctx context.Context, in *struct {
			InDraft
			Overlay string `path:"overlay" maxLength:"40"`
			A       string `path:"a" maxLength:"40"`
			B       string `path:"b" maxLength:"40"`
		}) (*answer[route.PairSheet], error) {
			v, i, err := s.overlayOf(ctx, in.place(), in.Overlay)
			if err != nil {
				return nil, err
			}
			x, y := v.Plan.SiteIndex(in.A), v.Plan.SiteIndex(in.B)
			if x < 0 || y < 0 || x == y {
				return nil, huma.Error404NotFound("there are no such two sites")
			}
			return tagged(v, v.Routes.PairSheet(i, x, y)), nil
		})
	huma.Register(a, operation("set-tunnel-order", http.MethodPut, pairPath+"/order", "Put tunnels of a pair first; both ends follow"),
		func(ctx context.Context, in *struct {
			Editing
			Overlay string `path:"overlay" maxLength:"40"`
			A       string `path:"a" maxLength:"40"`
			B       string `path:"b" maxLength:"40"`
			Body    struct {
				First []string `json:"first" maxItems:"64" doc:"tunnels; empty leaves the links' ranks to decide"`
			}
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) {
				return d.SetTunnelOrder(ctx, o, in.Overlay, in.A, in.B, in.Body.First)
			})
		})
	huma.Register(a, operation("set-direct", http.MethodPut, pairPath+"/direct", "Join two sites directly, or no longer"),
		func(ctx context.Context, in *struct {
			Editing
			Overlay string `path:"overlay" maxLength:"40"`
			A       string `path:"a" maxLength:"40"`
			B       string `path:"b" maxLength:"40"`
			Body    struct {
				Join bool `json:"join"`
			}
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) {
				return d.SetDirect(ctx, o, in.Overlay, in.A, in.B, in.Body.Join)
			})
		})
}

// hubOrder registers the order of hubs.
func (s *Server) hubOrder(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("set-hub-order", http.MethodPut, "/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/hub-order", "Give spokes a hub order"),
		func(ctx context.Context, in *struct {
			Editing
			Overlay string `path:"overlay" maxLength:"40"`
			Body    struct {
				Sites []string `json:"sites" maxItems:"60000"`
				Hubs  []string `json:"hubs" maxItems:"100" doc:"empty for the overlay's own order"`
			}
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) {
				return d.SetHubOrder(ctx, o, in.Overlay, in.Body.Sites, in.Body.Hubs)
			})
		})
}

// bothEnds registers the sheet of both ends and the judge of pasted keys.
func (s *Server) bothEnds(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("get-both-ends", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/both-ends", "Read a tunnel at both ends, line by line"),
		viewed(d, func(v *desk.View, in *struct {
			InDraft
			Overlay string `query:"overlay" required:"true" maxLength:"40"`
			Tunnel  string `query:"tunnel" required:"true" maxLength:"200"`
		}) (out tunnel.BothEnds, err error) {
			sheet, ok := v.Plan.BothEnds(in.Overlay, in.Tunnel)
			if !ok {
				return out, huma.Error404NotFound(fmt.Sprintf("there is no tunnel %q in %q", in.Tunnel, in.Overlay))
			}
			return sheet, nil
		}))
	huma.Register(a, operation("check-key", http.MethodPost, "/api/estates/{estate}/drafts/{draft}/sites/{site}/check-key", "Learn what is wrong with a pasted public key"),
		viewed(d, func(v *desk.View, in *struct {
			InSite
			Body struct {
				Key string `json:"key" maxLength:"1000"`
			}
		}) (out tunnel.KeyVerdict, err error) {
			site := v.Plan.SiteIndex(in.Site)
			if site < 0 {
				return out, huma.Error404NotFound(fmt.Sprintf("there is no site %q", in.Site))
			}
			return v.Plan.JudgeKey(site, in.Body.Key), nil
		}))
}
