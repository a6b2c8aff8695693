package api

import (
	"context"
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/check"
	"wideknot/core/estate"
	"wideknot/internal/desk"
	"wideknot/internal/store"
)

// InSite names a site in a path.
type InSite struct {
	InDraft
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
			Tunnels: len(v.Plan.Ends(i)), HubFit: s.HubFit(), Errors: errors[s.Key], Warnings: warnings[s.Key],
		}
	}
	return out
}

// saveOf describes an operation whose body is read by the document's own
// decoder, which names every value it cannot read and not only the first.
func saveOf(id, path, summary string) huma.Operation {
	op := operation(id, http.MethodPut, path, summary)
	op.SkipValidateBody = true
	return op
}

// describeBody says what such a body holds.
func describeBody[T any](a huma.API, path, name string) {
	schema := a.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[T](), true, name)
	a.OpenAPI().Paths[path].Put.RequestBody.Content["application/json"].Schema = schema
}

func survey(a huma.API, d *desk.Desk) {
	huma.Register(a, operation("list-sites", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/sites", "List the sites with links and subnets"),
		func(ctx context.Context, in *InDraft) (*answer[[]LedgerSite], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			return tagged(v, sitesOf(v)), nil
		})
	huma.Register(a, saveOf("save-site", "/api/estates/{estate}/drafts/{draft}/sites/{site}", "Add or replace a site"),
		func(ctx context.Context, in *struct {
			Editing
			Site    string `path:"site" maxLength:"40"`
			RawBody []byte `contentType:"application/json"`
		}) (*answer[EstateHead], error) {
			var site estate.Site
			if problems := estate.ReadPart(in.RawBody, &site); len(problems) > 0 {
				return nil, refusal(estate.Problems(problems))
			}
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) { return d.SaveSite(ctx, o, in.Site, site) })
		})
	describeBody[estate.Site](a, "/api/estates/{estate}/drafts/{draft}/sites/{site}", "Site")
	huma.Register(a, operation("delete-site", http.MethodDelete, "/api/estates/{estate}/drafts/{draft}/sites/{site}", "Delete a site, from its overlays too"),
		func(ctx context.Context, in *struct {
			Editing
			Site string `path:"site" maxLength:"40"`
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) { return d.DeleteSite(ctx, o, in.Site) })
		})
}
