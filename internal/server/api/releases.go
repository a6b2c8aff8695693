package api

import (
	"context"
	"fmt"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/diff"
	"wideknot/internal/server/desk"
)

// Comparison is what it comes to to go from one state to another.
type Comparison struct {
	Changes *diff.Consequences `json:"changes"`
	Files   []diff.FileDiff    `json:"files" doc:"of the site that was asked for: what becomes of the text of its configuration"`
}

func (s *Server) releases(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("list-releases", http.MethodGet, "/api/estates/{estate}/releases", "List the releases, newest first"),
		func(ctx context.Context, in *struct {
			InEstate
			Page
		}) (*linked[desk.ReleaseSummary], error) {
			list, err := d.Releases(ctx, in.Estate)
			if err != nil {
				return nil, refusal(err)
			}
			return linkedTo(ctx, in.Page, list, func(r desk.ReleaseSummary) string { return strconv.FormatUint(r.Number, 10) })
		})
	huma.Register(a, making("release", "/api/estates/{estate}/drafts/{draft}/release", "Put a draft in force as the next release"),
		func(ctx context.Context, in *struct {
			Editing
			Body struct {
				Message string `json:"message" maxLength:"5000"`
				Reason  string `json:"reason,omitempty" maxLength:"5000" doc:"why it may be released with warnings it adds, or errors it leaves"`
			}
		}) (*made[desk.ReleaseSummary], error) {
			o, err := in.order(ctx)
			if err != nil {
				return nil, err
			}
			release, err := d.Release(ctx, o, in.Body.Message, in.Body.Reason)
			return madeAt(fmt.Sprintf("/api/estates/%s/drafts/release-%d", in.Estate, release.Number), release, err)
		})
	huma.Register(a, operation("compare", http.MethodGet, "/api/estates/{estate}/compare", "Compare two states of an estate"),
		func(ctx context.Context, in *struct {
			InEstate
			From string `query:"from" required:"true" maxLength:"40" doc:"released, release-N, or a draft"`
			To   string `query:"to" required:"true" maxLength:"40"`
			Site string `query:"site" maxLength:"40" doc:"with the text of this site's configuration"`
		}) (*struct{ Body Comparison }, error) {
			changes, files, err := d.Compare(ctx, desk.Place{Estate: in.Estate, Draft: in.From}, desk.Place{Estate: in.Estate, Draft: in.To}, in.Site)
			return &struct{ Body Comparison }{Comparison{changes, files}}, refusal(err)
		})
}
