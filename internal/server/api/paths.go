package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/route"

	"wideknot/internal/server/desk"
)

// SitePlan is everything that follows for one site.
type SitePlan struct {
	route.SiteSheet
	Files []File `json:"files" doc:"the configuration, without private key"`
}

// File is one rendered text.
type File struct {
	Path string `json:"path"`
	Text string `json:"text"`
}

func sitePlan(v *desk.View, site int) (SitePlan, error) {
	out := SitePlan{v.Routes.SiteSheet(site), []File{}}
	files, err := v.Bundle(site)
	for _, f := range files {
		out.Files = append(out.Files, File{Path: f.Path, Text: string(f.Text)})
	}
	return out, err
}

// Long as a list of operations is.
func (s *Server) sitePlans(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("get-site-plan", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/sites/{site}/plan", "Read what follows for a site: tunnels, routes, configuration"),
		viewed(d, func(v *desk.View, in *InSite) (out SitePlan, err error) {
			site := v.Plan.SiteIndex(in.Site)
			if site < 0 {
				return out, huma.Error404NotFound(fmt.Sprintf("there is no site %q", in.Site))
			}
			plan, err := sitePlan(v, site)
			return plan, refusal(err)
		}))
	huma.Register(a, operation("reveal-key", http.MethodPost, "/api/estates/{estate}/drafts/{draft}/sites/{site}/private-key", "Reveal the private key of a site"),
		func(ctx context.Context, in *InSite) (*struct {
			CacheNot string `header:"Cache-Control"`
			Body     struct {
				PrivateKey string `json:"private_key"`
			}
		}, error) {
			key, err := d.PrivateKey(ctx, in.place(), in.Site)
			out := &struct {
				CacheNot string `header:"Cache-Control"`
				Body     struct {
					PrivateKey string `json:"private_key"`
				}
			}{CacheNot: "no-store"}
			out.Body.PrivateKey = key
			return out, refusal(err)
		})
	// A POST, because an archive with keys must not be a link that a page or a
	// mail can hold.
	huma.Register(a, files(operation("make-archive", http.MethodPost, "/api/estates/{estate}/drafts/{draft}/archive", "Make a zip file of the configurations"), "application/zip"),
		func(ctx context.Context, in *struct {
			InDraft
			Body struct {
				Site  string `json:"site,omitempty" maxLength:"40" doc:"this site only"`
				Since uint64 `json:"since,omitempty" doc:"only the sites whose configuration differs from that release's"`
				Keys  bool   `json:"keys" doc:"with private keys, for operators"`
			}
		}) (*huma.StreamResponse, error) {
			if in.Body.Keys && !accessOf(ctx).role.Includes(permissions["make-archive-with-keys"].role) {
				return nil, huma.Error403Forbidden("private keys are for operators; ask for the archive without them")
			}
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			if in.Body.Site != "" && v.Plan.SiteIndex(in.Body.Site) < 0 {
				return nil, huma.Error404NotFound(fmt.Sprintf("there is no site %q", in.Body.Site))
			}
			name, pack, err := d.Archive(ctx, v, desk.Asked{Site: in.Body.Site, Since: in.Body.Since, Keys: in.Body.Keys})
			if err != nil {
				return nil, refusal(err)
			}
			return s.streamed(ctx, "application/zip", name+".zip", pack)
		})
}
