package api

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/diff"

	"wideknot/core/estate"
	"wideknot/core/find"
	"wideknot/core/planning"
	"wideknot/core/route"
	"wideknot/internal/server/desk"
)

// TwoPlans is what a site's routes were in the release a draft is based on, and
// are in the draft.
type TwoPlans struct {
	Base  string           `json:"base" doc:"the release compared with, as a place"`
	Lines []diff.RouteLine `json:"lines" doc:"one line a prefix that either has"`
	Moved int              `json:"moved"`
}

// Long as a list of operations is.
func (s *Server) follow(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("follow", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/follow", "Follow a packet and its answer"),
		func(ctx context.Context, in *struct {
			InDraft
			From     netip.Addr `query:"from" required:"true"`
			To       netip.Addr `query:"to" required:"true"`
			Protocol string     `query:"protocol" enum:",tcp,udp,icmp"`
			Port     int        `query:"port" minimum:"0" maximum:"65535"`
			Fail     []string   `query:"fail,explode" maxItems:"20" doc:"parts that fail meanwhile"`
		}) (*answer[route.Followed], error) {
			packet := route.Packet{From: in.From, To: in.To, Protocol: in.Protocol, Port: in.Port}
			if err := packet.Check(); err != nil {
				return nil, huma.Error422UnprocessableEntity(err.Error())
			}
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			parts, err := partsOf(in.Fail)
			if err != nil {
				return nil, err
			}
			var failing route.Failing
			if len(parts) > 0 {
				m, _ := v.Outages()
				if failing, err = m.Kills(parts...); err != nil {
					return nil, huma.Error404NotFound(err.Error())
				}
			}
			return tagged(v, v.Routes.Followed(v.Routes.FollowIn(failing, packet), failing)), nil
		})
	huma.Register(a, operation("find", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/find", "Find things by name, address or two addresses"),
		viewed(d, func(v *desk.View, in *struct {
			InDraft
			Query string `query:"q" maxLength:"200"`
		}) (out []find.Hit, err error) {
			return find.In(v.Routes, v.Findings(), in.Query, 40), nil
		}))
	huma.Register(a, operation("get-before-after", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/sites/{site}/before-after", "Compare a site's routes with those of the release the draft is based on"),
		func(ctx context.Context, in *InSite) (*answer[TwoPlans], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			was, err := d.View(ctx, desk.Place{Estate: in.Estate, Draft: fmt.Sprintf("release-%d", v.Base)})
			if err != nil {
				return nil, refusal(err)
			}
			if v.Plan.SiteIndex(in.Site) < 0 && was.Plan.SiteIndex(in.Site) < 0 {
				return nil, huma.Error404NotFound(fmt.Sprintf("there is no site %q", in.Site))
			}
			lines, moved := diff.Routes(was.Routes, v.Routes, in.Site)
			return tagged(v, TwoPlans{was.Draft, lines, moved}), nil
		})
	type patterned struct {
		Site    estate.Site `json:"site"`
		Missing []string    `json:"missing" doc:"subnets of the pattern for which the region has no room"`
	}
	huma.Register(a, operation("get-pattern", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/sites/{site}/pattern", "Propose a new site after the pattern of another"),
		viewed(d, func(v *desk.View, in *struct {
			InSite
			Key  string `query:"key" maxLength:"40"`
			Name string `query:"name" maxLength:"120"`
		}) (out patterned, err error) {
			site, missing, err := planning.Like(v.Estate, in.Site, in.Key, in.Name)
			if err != nil {
				return out, huma.Error404NotFound(err.Error())
			}
			if missing == nil {
				missing = []string{}
			}
			return patterned{site, missing}, nil
		}))
	const likePath = "/api/estates/{estate}/drafts/{draft}/sites/{site}/like/{pattern}"
	huma.Register(a, saveOf("add-like", likePath, "Add a site after the pattern of another, to its overlays too"),
		func(ctx context.Context, in *struct {
			Editing
			Site    string `path:"site" maxLength:"40"`
			Pattern string `path:"pattern" maxLength:"40"`
			RawBody []byte `contentType:"application/json"`
		}) (*answer[EstateHead], error) {
			var site estate.Site
			if problems := estate.ReadPart(in.RawBody, &site); len(problems) > 0 {
				return nil, refusal(estate.Problems(problems))
			}
			if site.Key != in.Site {
				return nil, refusal(estate.Problems{{Path: "key", Message: "the key in the address and that of the site differ"}})
			}
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) { return d.AddLike(ctx, o, in.Pattern, site) })
		})
	describeBody[estate.Site](a, likePath, "Site")
}
