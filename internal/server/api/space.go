package api

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/addr"

	"wideknot/core/estate"
	"wideknot/core/planning"
	"wideknot/internal/server/desk"
)

// Space is what has which addresses, what is free, and both drawn to scale.
type Space struct {
	Held  []planning.Held `json:"held" doc:"in address order"`
	Rooms []planning.Room `json:"rooms" doc:"the regions' blocks with what is free in them"`
	Lines []planning.Line `json:"lines" doc:"the ruler, of all address space or within one prefix"`
}

func spaceOf(v *desk.View, within netip.Prefix) Space {
	clashes := planning.Clashes{}
	for _, f := range v.Findings() { // errors come first
		if f.Stage() != "addresses" {
			continue
		}
		for _, s := range f.Subjects {
			if s.Prefix.IsValid() {
				clashes.Add(s.Site, s.Prefix, string(f.Severity))
			}
		}
	}
	out := Space{Held: planning.Holdings(v.Estate, clashes), Rooms: planning.Rooms(v.Estate)}
	out.Lines = planning.Ruler(out.Held, out.Rooms, within)
	return out
}

// Long as a list of operations is.
func space(a huma.API, d *desk.Desk) {
	huma.Register(a, operation("get-space", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/space", "Read what has which addresses, and what is free"),
		func(ctx context.Context, in *struct {
			InDraft
			Within string `query:"within" maxLength:"50" doc:"a prefix to look into"`
		}) (*answer[Space], error) {
			var within netip.Prefix
			if in.Within != "" {
				var err error
				if within, _, err = addr.ParsePrefix(in.Within); err != nil {
					return nil, huma.Error422UnprocessableEntity(err.Error())
				}
			}
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			return tagged(v, spaceOf(v, within)), nil
		})
	huma.Register(a, operation("find-room", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/room", "Find free blocks of a size, the best fit of each region block"),
		func(ctx context.Context, in *struct {
			InDraft
			Bits   int    `query:"bits" minimum:"1" maximum:"128" required:"true" doc:"length of the prefix"`
			Region string `query:"region" maxLength:"40"`
			IPv6   bool   `query:"ipv6"`
		}) (*answer[[]planning.Offer], error) {
			if most := map[bool]int{false: 32, true: 128}[in.IPv6]; in.Bits > most {
				return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("a prefix of this IP version is at most %d long, not %d", most, in.Bits))
			}
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			return tagged(v, planning.Offers(v.Estate, in.Region, !in.IPv6, in.Bits)), nil
		})
	huma.Register(a, operation("reserve", http.MethodPut, "/api/estates/{estate}/drafts/{draft}/reserved", "Keep a block for something, or free it"),
		func(ctx context.Context, in *struct {
			Editing
			Body struct {
				Prefix netip.Prefix `json:"prefix"`
				For    string       `json:"for" maxLength:"200" doc:"empty frees it"`
			}
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) {
				return d.Reserve(ctx, o, estate.Reservation{Prefix: in.Body.Prefix, For: in.Body.For})
			})
		})
	type repairs struct {
		Repairs []planning.Repair `json:"repairs" maxItems:"500"`
	}
	huma.Register(a, operation("weigh-repairs", http.MethodPost, "/api/estates/{estate}/drafts/{draft}/repairs/weigh", "Learn what repairs would change, without applying them"),
		func(ctx context.Context, in *struct {
			InDraft
			Body repairs
		}) (*struct{ Body desk.Weighing }, error) {
			w, err := d.WhatIf(ctx, in.place(), in.Body.Repairs)
			if err != nil {
				return nil, refusal(err)
			}
			return &struct{ Body desk.Weighing }{*w}, nil
		})
	huma.Register(a, operation("repair-all", http.MethodPost, "/api/estates/{estate}/drafts/{draft}/repairs/all", "Apply several repairs as one edit"),
		func(ctx context.Context, in *struct {
			Editing
			Body repairs
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) { return d.RepairAll(ctx, o, in.Body.Repairs) })
		})
}
