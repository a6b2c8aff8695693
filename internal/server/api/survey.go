package api

import (
	"context"
	"fmt"
	"net/http"
	"reflect"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/check"
	"wideknot/core/estate"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/store"
)

// InSite names a site in a path.
type InSite struct {
	InDraft
	Site string `path:"site" maxLength:"40"`
}

func sitesOf(v *desk.View) []LedgerSite {
	errors, warnings := map[string]int{}, map[string]int{}
	for _, f := range v.Findings() {
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
		func(ctx context.Context, in *struct {
			InDraft
			Page
			Region string `query:"region" maxLength:"40" doc:"only those of this region"`
		}) (*answer[[]LedgerSite], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			list := slices.DeleteFunc(sitesOf(v), func(s LedgerSite) bool { return in.Region != "" && s.Region != in.Region })
			return listed(ctx, v, in.Page, list, func(s LedgerSite) string { return s.Key })
		})
	part(a, operation("get-site", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/sites/{site}", "Read a site, as it can be put back"),
		d, func(v *desk.View, in InSite) (estate.Site, string, error) {
			site := v.Estate.Site(in.Site)
			if site == nil {
				return estate.Site{}, "", fmt.Errorf("site %q: %w", in.Site, desk.ErrNotFound)
			}
			return *site, desk.PartID(store.Site, in.Site), nil
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
			return editedPart(ctx, in.Editing, desk.PartID(store.Site, in.Site), func(o desk.Order) (*desk.View, error) { return d.SaveSite(ctx, o, in.Site, site) })
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
