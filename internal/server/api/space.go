package api

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/estate"
	"wideknot/core/planning"
	"wideknot/internal/server/desk"
)

// Held is a prefix that something has.
type Held struct {
	Prefix  netip.Prefix `json:"prefix"`
	What    string       `json:"what" enum:"subnet,map,transit,reserved"`
	Site    string       `json:"site,omitempty"`
	Zone    string       `json:"zone,omitempty"`
	Name    string       `json:"name,omitempty"`
	Share   []string     `json:"share"`
	Overlay string       `json:"overlay,omitempty"`
	Clash   string       `json:"clash" enum:",error,warning,note" doc:"the worst finding about its address"`
	Mapped  netip.Prefix `json:"mapped,omitzero"`
}

// Space is what has which addresses, and what is free.
type Space struct {
	Held  []Held          `json:"held"`
	Rooms []planning.Room `json:"rooms" doc:"the regions' blocks with what is free in them"`
}

func spaceOf(v *desk.View) Space {
	out := Space{Held: []Held{}, Rooms: planning.Rooms(v.Estate)}
	clash := map[string]string{}
	findings := v.Findings()
	for i := len(findings) - 1; i >= 0; i-- { // errors come first and have the last word
		f := &findings[i]
		if f.Stage() != "addresses" {
			continue
		}
		for _, s := range f.Subjects {
			if s.Prefix.IsValid() {
				clash[s.Site+" "+s.Prefix.String()] = string(f.Severity)
			}
		}
	}
	for i := range v.Estate.Sites {
		s := &v.Estate.Sites[i]
		for j := range s.Subnets {
			n := &s.Subnets[j]
			held := Held{
				Prefix: n.Prefix, What: "subnet", Site: s.Key, Zone: n.Zone, Name: n.Name, Share: n.Share,
				Clash: clash[s.Key+" "+n.Prefix.String()], Mapped: n.Map,
			}
			if held.Share == nil {
				held.Share = []string{}
			}
			out.Held = append(out.Held, held)
			if n.Map.IsValid() {
				held.Prefix, held.What, held.Clash, held.Mapped = n.Map, "map", "", n.Prefix
				out.Held = append(out.Held, held)
			}
		}
	}
	for i := range v.Estate.Overlays {
		o := &v.Estate.Overlays[i]
		for _, p := range o.Transit {
			out.Held = append(out.Held, Held{Prefix: p, What: "transit", Overlay: o.Key, Share: []string{}, Clash: clash[" "+p.String()]})
		}
	}
	for _, r := range v.Estate.About.Reserved {
		out.Held = append(out.Held, Held{Prefix: r.Prefix, What: "reserved", Name: r.For, Share: []string{}})
	}
	return out
}

func space(a huma.API, d *desk.Desk) {
	huma.Register(a, operation("get-space", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/space", "Read what has which addresses, and what is free"),
		func(ctx context.Context, in *InDraft) (*answer[Space], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			return tagged(v, spaceOf(v)), nil
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
