package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/diff"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/identity"
)

// EstateCard is an estate with its drafts.
type EstateCard struct {
	Key     string              `json:"key"`
	Name    string              `json:"name"`
	Release uint64              `json:"release" doc:"number of the release in force; 0 while nothing was released"`
	Role    identity.Role       `json:"role" enum:"reader,planner,operator,owner" doc:"of who asks"`
	Drafts  []desk.DraftSummary `json:"drafts"`
}

// Long as a list of operations is.
func (s *Server) drafts(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("get-estate", http.MethodGet, "/api/estates/{estate}", "Read an estate's name, release and drafts"),
		func(ctx context.Context, in *InEstate) (*struct{ Body EstateCard }, error) {
			drafts, err := d.Drafts(ctx, in.Estate)
			e := accessOf(ctx)
			return &struct{ Body EstateCard }{EstateCard{e.estate.Key, e.estate.Name, e.estate.Release, e.role, drafts}}, refusal(err)
		})
	huma.Register(a, operation("list-drafts", http.MethodGet, "/api/estates/{estate}/drafts", "List the drafts of an estate"),
		func(ctx context.Context, in *struct {
			InEstate
			Page
		}) (*linked[desk.DraftSummary], error) {
			drafts, err := d.Drafts(ctx, in.Estate)
			if err != nil {
				return nil, refusal(err)
			}
			return linkedTo(ctx, in.Page, drafts, func(d desk.DraftSummary) string { return d.Key })
		})
	huma.Register(a, making("new-draft", "/api/estates/{estate}/drafts", "Branch a draft"),
		func(ctx context.Context, in *struct {
			InEstate
			Body struct {
				Name string `json:"name" maxLength:"200" example:"Winter round"`
				From string `json:"from,omitempty" maxLength:"40" doc:"released (the default), release-N, or another draft"`
			}
		}) (*made[desk.DraftSummary], error) {
			draft, err := d.NewDraft(ctx, in.Estate, in.Body.Name, in.Body.From)
			return madeAt("/api/estates/"+in.Estate+"/drafts/"+draft.Key, draft, err)
		})
	for _, way := range []struct {
		id, method, path, summary string
		discard                   bool
	}{
		{"discard-draft", http.MethodDelete, "", "Discard a draft; it can be taken up again", true},
		{"reopen-draft", http.MethodPost, "/reopen", "Take a discarded draft up again", false},
	} {
		huma.Register(a, operation(way.id, way.method, "/api/estates/{estate}/drafts/{draft}"+way.path, way.summary),
			func(ctx context.Context, in *InDraft) (*struct{}, error) {
				return nil, refusal(d.Shelve(ctx, in.place(), way.discard))
			})
	}
	huma.Register(a, operation("list-steps", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/steps", "List the latest edits, undos and redos of a draft, newest first"),
		func(ctx context.Context, in *struct {
			InDraft
			Limit int `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		}) (*struct{ Body []desk.Step }, error) {
			steps, err := d.History(ctx, in.place(), in.Limit)
			return &struct{ Body []desk.Step }{steps}, refusal(err)
		})
	huma.Register(a, operation("get-consequences", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/consequences", "Learn what a draft changes against the release it is based on, and for whom"),
		func(ctx context.Context, in *InDraft) (*answer[desk.Weighing], error) {
			w, err := d.Consequences(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			return &answer[desk.Weighing]{ETag: tagOf(w.Revision), Body: *w}, nil
		})
	huma.Register(a, operation("get-behind", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/behind", "Learn what was released since the draft was branched, and what conflicts"),
		func(ctx context.Context, in *InDraft) (*struct{ Body desk.Catching }, error) {
			out, err := d.Behind(ctx, in.place())
			return &struct{ Body desk.Catching }{out}, refusal(err)
		})
	huma.Register(a, operation("catch-up", http.MethodPost, "/api/estates/{estate}/drafts/{draft}/catch-up", "Bring a draft up to the release in force"),
		func(ctx context.Context, in *struct {
			Editing
			Body struct {
				Choices map[string]diff.Choice `json:"choices,omitempty" doc:"mine or theirs, by the part that conflicts"`
			}
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) { return d.CatchUp(ctx, o, in.Body.Choices) })
		})
}
