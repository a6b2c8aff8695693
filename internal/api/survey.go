package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/check"
	"wideknot/core/estate"
	"wideknot/internal/desk"
	"wideknot/internal/store"
)

// InSite names a site in a path.
type InSite struct {
	InEstate
	Site string `path:"site" maxLength:"40"`
}

func sitesOf(v *desk.View) []LedgerSite {
	errors, warnings := map[string]int{}, map[string]int{}
	for _, f := range v.Findings {
		seen := map[string]bool{}
		for _, s := range f.Subjects {
			if s.Site == "" || seen[s.Site] {
				continue
			}
			seen[s.Site] = true
			switch f.Severity {
			case check.Error:
				errors[s.Site]++
			case check.Warning:
				warnings[s.Site]++
			}
		}
	}
	out := make([]LedgerSite, len(v.Estate.Sites))
	for i := range out {
		s := v.Estate.Sites[i]
		out[i] = LedgerSite{
			Site: s, Revision: v.Revisions[desk.PartID(store.Site, s.Key)],
			Tunnels: len(v.Plan.Ends(i)), Errors: errors[s.Key], Warnings: warnings[s.Key],
		}
	}
	return out
}

// bodyOf describes a body that is read by the document's own decoder, which
// names every value it cannot read and not only the first.
func bodyOf[T any](a huma.API, op huma.Operation, name string) huma.Operation {
	op.SkipValidateBody = true
	op.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
		"application/json": {Schema: a.OpenAPI().Components.Schemas.Schema(typeOf[T](), true, name)},
	}}
	return op
}

func survey(a huma.API, d *desk.Desk) {
	huma.Register(a, operation("list-sites", http.MethodGet, "/api/estates/{estate}/sites", "List the sites with links and subnets"),
		func(ctx context.Context, in *InEstate) (*answer[[]LedgerSite], error) {
			v, err := d.View(ctx, in.Estate)
			if err != nil {
				return nil, refusal(err)
			}
			return tagged(v, sitesOf(v)), nil
		})
	huma.Register(a, bodyOf[estate.Site](a, operation("save-site", http.MethodPut, "/api/estates/{estate}/sites/{site}", "Add or replace a site"), "Site"),
		func(ctx context.Context, in *struct {
			Editing
			Site    string `path:"site" maxLength:"40"`
			RawBody []byte `contentType:"application/json"`
		}) (*answer[EstateHead], error) {
			var site estate.Site
			if problems := estate.ReadPart(in.RawBody, &site); len(problems) > 0 {
				return nil, refusal(estate.Problems(problems))
			}
			return edited(in.Editing, func(o desk.Order) (*desk.View, error) { return d.SaveSite(ctx, o, in.Site, site) })
		})
	huma.Register(a, operation("delete-site", http.MethodDelete, "/api/estates/{estate}/sites/{site}", "Delete a site, from its overlays too"),
		func(ctx context.Context, in *struct {
			Editing
			Site string `path:"site" maxLength:"40"`
		}) (*answer[EstateHead], error) {
			return edited(in.Editing, func(o desk.Order) (*desk.View, error) { return d.DeleteSite(ctx, o, in.Site) })
		})
}
