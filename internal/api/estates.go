package api

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/check"
	"wideknot/core/diff"
	"wideknot/core/estate"
	"wideknot/internal/desk"
	"wideknot/internal/identity"
	"wideknot/internal/store"
)

// EstateHead is the head of a state of an estate, and what its pages need
// everywhere.
type EstateHead struct {
	Key       string                 `json:"key"`
	Name      string                 `json:"name"`
	Draft     string                 `json:"draft" doc:"its key, or release-N"`
	DraftName string                 `json:"draft_name"`
	Fixed     bool                   `json:"fixed" doc:"a release, which is never edited"`
	Discarded bool                   `json:"discarded"`
	Revision  uint64                 `json:"revision"`
	Base      uint64                 `json:"base" doc:"release that the draft was branched from, or brought up to"`
	Release   uint64                 `json:"release" doc:"release in force"`
	Role      identity.Role          `json:"role" enum:"reader,planner,operator,owner" doc:"of who asks"`
	Regions   []estate.Region        `json:"regions"`
	Underlays []estate.Region        `json:"underlays"`
	Zones     []string               `json:"zones"`
	Sites     int                    `json:"sites"`
	Tunnels   int                    `json:"tunnels"`
	Overlays  []string               `json:"overlays"`
	Findings  map[check.Severity]int `json:"findings"`
	ByStage   map[string]int         `json:"by_stage" doc:"errors and warnings by the stage where they are mended"`
	Undo      string                 `json:"undo" doc:"label of the edit that undo takes back; empty for none"`
	Redo      string                 `json:"redo"`
	AboutHead uint64                 `json:"about_revision"`
}

// LedgerSite is a site with the revision of its last change, for If-Match.
type LedgerSite struct {
	estate.Site
	Revision uint64 `json:"revision"`
	Tunnels  int    `json:"tunnels"`
	HubFit   bool   `json:"hub_fit" doc:"has a static link that tunnels may use, so it can be a hub"`
	Errors   int    `json:"errors"`
	Warnings int    `json:"warnings"`
}

// ShapedOverlay is an overlay with the revision of its last change and what it came
// to.
type ShapedOverlay struct {
	estate.Overlay
	Revision uint64      `json:"revision"`
	Tunnels  int         `json:"tunnels"`
	Zones    []ZoneShare `json:"zones"`
	Members  []Member    `json:"members"`
}

// ZoneShare counts the subnets of a zone at the overlay's members.
type ZoneShare struct {
	Zone    string `json:"zone"`
	Subnets int    `json:"subnets"`
	Shared  int    `json:"shared"`
}

// Member is a site of an overlay and its tunnels there.
type Member struct {
	Site    string `json:"site"`
	Role    string `json:"role" enum:"hub,spoke,direct"`
	Tunnels int    `json:"tunnels"`
	Apart   int    `json:"apart" doc:"adjacencies that no tunnel serves"`
}

// InEstate names the estate in a path. The embedded parts of inputs must be
// exported for huma to fill them.
type InEstate struct {
	Estate string `path:"estate" maxLength:"40"`
}

// InDraft names a state of an estate in a path.
type InDraft struct {
	InEstate
	Draft string `path:"draft" maxLength:"40" doc:"a draft; for reading also released, or release-N"`
}

func (in InDraft) place() desk.Place { return desk.Place{Estate: in.Estate, Draft: in.Draft} }

// Editing is what every edit is asked with.
type Editing struct {
	InDraft
	IfMatch string `header:"If-Match" doc:"revision the edit is based on, quoted"`
	Request string `header:"Idempotency-Key" maxLength:"64" doc:"the same key again edits nothing"`
}

func (e Editing) order() (desk.Order, error) {
	o := desk.Order{Place: e.place(), Request: e.Request}
	if tag := strings.Trim(e.IfMatch, `"`); tag != "" && tag != "*" {
		if _, err := fmt.Sscanf(tag, "%d", &o.IfMatch); err != nil || o.IfMatch == 0 {
			return o, huma.Error400BadRequest("If-Match must be a revision in quotes")
		}
	}
	return o, nil
}

type answer[T any] struct {
	ETag string `header:"ETag"`
	Body T
}

func tagged[T any](v *desk.View, body T) *answer[T] {
	return &answer[T]{ETag: fmt.Sprintf(`"%d"`, v.Revision), Body: body}
}

// A conflict is the problem document of an edit that was based on an older
// state: besides RFC 9457's members it says what changed, and by whom.
type conflict struct {
	huma.ErrorModel
	Now     uint64      `json:"now" doc:"the revision it has now"`
	Steps   []desk.Step `json:"steps" doc:"that changed it meanwhile"`
	Changes []string    `json:"changes" doc:"what became of it"`
}

func problemOf(status int, err error) huma.ErrorModel {
	return huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: err.Error()}
}

// A held is the problem document of a release that findings hold.
type held struct {
	huma.ErrorModel
	MustMend []check.Finding `json:"must_mend"`
	Asks     []check.Finding `json:"asks" doc:"findings for which a reason is asked"`
}

// An unsettled is the problem document of open conflicts.
type unsettled struct {
	huma.ErrorModel
	Conflicts []diff.Conflict `json:"conflicts"`
}

// refusal turns an error of the desk into a problem document.
func refusal(err error) error {
	var stale *desk.Stale
	var hold *desk.Held
	var open *desk.Unsettled
	var refused *identity.Refused
	var fast *identity.TooFast
	var problems estate.Problems
	switch {
	case err == nil:
		return nil
	case errors.As(err, &stale):
		return &conflict{problemOf(http.StatusPreconditionFailed, err), stale.Now, stale.Steps, stale.Changes}
	case errors.As(err, &hold):
		return &held{problemOf(http.StatusConflict, err), hold.Errors, hold.Asks}
	case errors.As(err, &open):
		return &unsettled{problemOf(http.StatusConflict, err), open.Conflicts}
	case errors.As(err, &refused):
		return huma.Error422UnprocessableEntity(err.Error(), &huma.ErrorDetail{Message: err.Error(), Location: "body." + refused.Field})
	case errors.As(err, &fast):
		return huma.ErrorWithHeaders(huma.Error429TooManyRequests(err.Error()), http.Header{"Retry-After": {fmt.Sprint(int(fast.Wait.Seconds()))}})
	case errors.Is(err, identity.ErrSignIn), errors.Is(err, identity.ErrNoAccess):
		return huma.Error401Unauthorized(err.Error())
	case errors.Is(err, identity.ErrNoLink), errors.Is(err, identity.ErrJourney):
		return huma.Error410Gone(err.Error())
	case errors.Is(err, store.ErrAway):
		return huma.ErrorWithHeaders(huma.Error503ServiceUnavailable(store.ErrAway.Error()), http.Header{"Retry-After": {"1"}})
	case errors.As(err, &problems):
		details := make([]error, len(problems))
		for i, p := range problems {
			detail := &huma.ErrorDetail{Message: p.Message, Location: "body." + p.Path}
			if p.Line > 0 {
				detail.Message = p.String()
			}
			details[i] = detail
		}
		return huma.Error422UnprocessableEntity("Nothing was saved: "+problems[0].Message, details...)
	case errors.Is(err, desk.ErrNotFound):
		return huma.Error404NotFound(err.Error())
	case errors.Is(err, desk.ErrTaken), errors.Is(err, desk.ErrNothing), errors.Is(err, desk.ErrKeyElsewhere), errors.Is(err, desk.ErrFixed),
		errors.Is(err, desk.ErrShelved), errors.Is(err, desk.ErrBehind), errors.Is(err, identity.ErrTaken), errors.Is(err, identity.ErrLast), errors.Is(err, check.ErrOutdated):
		return huma.Error409Conflict(err.Error())
	}
	var status huma.StatusError
	if errors.As(err, &status) {
		return err
	}
	slog.Error("operation failed", "error", err)
	return huma.Error500InternalServerError("the server failed; its log says more")
}

func (s *Server) describe(a huma.API) {
	huma.DefaultArrayNullable = false // lists are empty, never null
	s.entrance(a)
	s.me(a)
	s.accounts(a)
	s.people(a)
	s.audit(a)
	s.estates(a)
	s.drafts(a)
	s.releases(a)
	s.events(a)
	survey(a, s.Desk)
	shape(a, s.Desk)
	space(a, s.Desk)
	s.loom(a)
	s.follow(a)
	s.outages(a)
	transfer(a, s.Desk)
	sitePlans(a, s.Desk)
}

func operation(id, method, path, summary string) huma.Operation {
	return huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, MaxBodyBytes: smallBody}
}

func (s *Server) estates(a huma.API) {
	huma.Register(a, operation("list-estates", http.MethodGet, "/api/estates", "List the estates of which you are a member"),
		func(ctx context.Context, _ *struct{}) (*struct{ Body []desk.Summary }, error) {
			list, err := s.Office.Estates(ctx)
			out := make([]desk.Summary, len(list))
			for i, e := range list {
				out[i] = desk.Summary{Key: e.Key, Name: e.Name, Release: e.Release, Role: identity.Role(e.Role)}
			}
			return &struct{ Body []desk.Summary }{out}, refusal(err)
		})
	huma.Register(a, operation("create-estate", http.MethodPost, "/api/estates", "Make an empty estate with a first draft"),
		func(ctx context.Context, in *struct {
			Body struct {
				Name string `json:"name" maxLength:"200"`
			}
		}) (*struct{ Body desk.Summary }, error) {
			made, err := s.Desk.Create(ctx, in.Body.Name)
			return &struct{ Body desk.Summary }{made}, refusal(err)
		})
	d := s.Desk
	huma.Register(a, operation("get-draft", http.MethodGet, "/api/estates/{estate}/drafts/{draft}", "Read the head of a state of an estate"),
		func(ctx context.Context, in *InDraft) (*answer[EstateHead], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			return tagged(v, estateOf(ctx, v)), nil
		})
	huma.Register(a, saveOf("save-about", "/api/estates/{estate}/drafts/{draft}/about", "Replace the estate's name and regions; what else the head has stays where it is not given"),
		func(ctx context.Context, in *struct {
			Editing
			RawBody []byte `contentType:"application/json"`
		}) (*answer[EstateHead], error) {
			var about estate.About
			if problems := estate.ReadPart(in.RawBody, &about); len(problems) > 0 {
				return nil, refusal(estate.Problems(problems))
			}
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) { return d.SaveAbout(ctx, o, about) })
		})
	describeBody[estate.About](a, "/api/estates/{estate}/drafts/{draft}/about", "About")
	for _, way := range []struct {
		id, summary string
		step        func(context.Context, desk.Order) (*desk.View, error)
	}{{"undo", "Take back the last edit", d.Undo}, {"redo", "Repeat the edit taken back last", d.Redo}} {
		huma.Register(a, operation(way.id, http.MethodPost, "/api/estates/{estate}/drafts/{draft}/"+way.id, way.summary),
			func(ctx context.Context, in *Editing) (*answer[EstateHead], error) {
				return edited(ctx, *in, func(o desk.Order) (*desk.View, error) { return way.step(ctx, o) })
			})
	}
	huma.Register(a, operation("list-findings", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/findings", "List what is wrong or risky"),
		func(ctx context.Context, in *InDraft) (*answer[[]StagedFinding], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			return tagged(v, findingsOf(v)), nil
		})
	huma.Register(a, operation("repair", http.MethodPost, "/api/estates/{estate}/drafts/{draft}/repairs", "Carry out a repair that a finding offers"),
		func(ctx context.Context, in *struct {
			Editing
			Body check.Repair
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) { return d.Repair(ctx, o, in.Body) })
		})
}

// edited runs an edit and answers with the estate's new head.
func edited(ctx context.Context, in Editing, run func(desk.Order) (*desk.View, error)) (*answer[EstateHead], error) {
	o, err := in.order()
	if err != nil {
		return nil, err
	}
	v, err := run(o)
	if err != nil {
		return nil, refusal(err)
	}
	return tagged(v, estateOf(ctx, v)), nil
}

// StagedFinding is a finding with the stage where it is mended.
type StagedFinding struct {
	check.Finding
	Stage string `json:"stage" enum:"survey,addresses,shape"`
}

func findingsOf(v *desk.View) []StagedFinding {
	out := make([]StagedFinding, len(v.Findings))
	for i, f := range v.Findings {
		out[i] = StagedFinding{f, f.Stage()}
	}
	return out
}

func estateOf(ctx context.Context, v *desk.View) EstateHead {
	e := EstateHead{
		Key: v.Key, Name: v.Estate.About.Name, Draft: v.Draft, DraftName: v.DraftName, Fixed: v.Fixed, Discarded: v.Discarded,
		Revision: v.Revision, Base: v.Base, Release: v.Latest, Role: accessOf(ctx).role, Regions: v.Estate.About.Regions,
		Zones: v.Estate.Zones(), Sites: len(v.Estate.Sites), Tunnels: v.Plan.Tunnels(),
		Findings: check.Count(v.Findings), ByStage: map[string]int{}, Undo: v.Undo, Redo: v.Redo,
		AboutHead: v.Revisions[desk.PartID(store.Head, "")], Overlays: []string{},
	}
	for i := range v.Estate.Overlays {
		e.Overlays = append(e.Overlays, v.Estate.Overlays[i].Key)
	}
	for _, f := range v.Findings {
		if f.Severity != check.Note {
			e.ByStage[f.Stage()]++
		}
	}
	if e.Regions == nil {
		e.Regions = []estate.Region{}
	}
	if e.Underlays = v.Estate.About.Underlays; e.Underlays == nil {
		e.Underlays = []estate.Region{}
	}
	return e
}
