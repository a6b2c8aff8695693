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
	"wideknot/core/estate"
	"wideknot/internal/desk"
	"wideknot/internal/store"
)

// EstateHead is an estate's head and what its pages need everywhere.
type EstateHead struct {
	Key       string                 `json:"key"`
	Name      string                 `json:"name"`
	Revision  uint64                 `json:"revision"`
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

// Editing is what every edit is asked with.
type Editing struct {
	InEstate
	IfMatch string `header:"If-Match" doc:"revision the edit is based on, quoted"`
	Request string `header:"Idempotency-Key" maxLength:"64" doc:"the same key again edits nothing"`
}

func (e Editing) order() (desk.Order, error) {
	o := desk.Order{Estate: e.Estate, Request: e.Request}
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

// refusal turns an error of the desk into a problem document.
func refusal(err error) error {
	var stale *desk.Stale
	var problems estate.Problems
	switch {
	case err == nil:
		return nil
	case errors.As(err, &stale):
		return huma.Error412PreconditionFailed(err.Error(), &huma.ErrorDetail{Message: "its revision now", Location: "header.If-Match", Value: stale.Now})
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
	case errors.Is(err, desk.ErrTaken), errors.Is(err, desk.ErrNothing), errors.Is(err, desk.ErrKeyElsewhere):
		return huma.Error409Conflict(err.Error())
	}
	var status huma.StatusError
	if errors.As(err, &status) {
		return err
	}
	slog.Error("operation failed", "error", err)
	return huma.Error500InternalServerError("the server failed; its log says more")
}

func describe(a huma.API, d *desk.Desk) {
	huma.DefaultArrayNullable = false // lists are empty, never null
	estates(a, d)
	survey(a, d)
	shape(a, d)
	transfer(a, d)
	sitePlans(a, d)
}

func operation(id, method, path, summary string) huma.Operation {
	return huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, MaxBodyBytes: MaxBody}
}

func estates(a huma.API, d *desk.Desk) {
	huma.Register(a, operation("list-estates", http.MethodGet, "/api/estates", "List the estates"),
		func(ctx context.Context, _ *struct{}) (*struct{ Body []desk.Summary }, error) {
			list, err := d.Estates(ctx)
			return &struct{ Body []desk.Summary }{list}, refusal(err)
		})
	huma.Register(a, operation("create-estate", http.MethodPost, "/api/estates", "Make an empty estate"),
		func(ctx context.Context, in *struct {
			Body struct {
				Name string `json:"name" maxLength:"200"`
			}
		}) (*struct{ Body desk.Summary }, error) {
			made, err := d.Create(ctx, in.Body.Name)
			return &struct{ Body desk.Summary }{made}, refusal(err)
		})
	huma.Register(a, operation("get-estate", http.MethodGet, "/api/estates/{estate}", "Read an estate's head"),
		func(ctx context.Context, in *InEstate) (*answer[EstateHead], error) {
			v, err := d.View(ctx, in.Estate)
			if err != nil {
				return nil, refusal(err)
			}
			return tagged(v, estateOf(v)), nil
		})
	huma.Register(a, saveOf("save-about", "/api/estates/{estate}/about", "Replace the estate's name and regions"),
		func(ctx context.Context, in *struct {
			Editing
			RawBody []byte `contentType:"application/json"`
		}) (*answer[EstateHead], error) {
			var about estate.About
			if problems := estate.ReadPart(in.RawBody, &about); len(problems) > 0 {
				return nil, refusal(estate.Problems(problems))
			}
			return edited(in.Editing, func(o desk.Order) (*desk.View, error) { return d.SaveAbout(ctx, o, about) })
		})
	describeBody[estate.About](a, "/api/estates/{estate}/about", "About")
	for _, way := range []struct {
		id, summary string
		step        func(context.Context, string) (*desk.View, error)
	}{{"undo", "Take back the last edit", d.Undo}, {"redo", "Repeat the edit taken back last", d.Redo}} {
		huma.Register(a, operation(way.id, http.MethodPost, "/api/estates/{estate}/"+way.id, way.summary),
			func(ctx context.Context, in *InEstate) (*answer[EstateHead], error) {
				v, err := way.step(ctx, in.Estate)
				if err != nil {
					return nil, refusal(err)
				}
				return tagged(v, estateOf(v)), nil
			})
	}
	huma.Register(a, operation("list-findings", http.MethodGet, "/api/estates/{estate}/findings", "List what is wrong or risky"),
		func(ctx context.Context, in *InEstate) (*answer[[]StagedFinding], error) {
			v, err := d.View(ctx, in.Estate)
			if err != nil {
				return nil, refusal(err)
			}
			return tagged(v, findingsOf(v)), nil
		})
	huma.Register(a, operation("repair", http.MethodPost, "/api/estates/{estate}/repairs", "Carry out a repair that a finding offers"),
		func(ctx context.Context, in *struct {
			Editing
			Body check.Repair
		}) (*answer[EstateHead], error) {
			return edited(in.Editing, func(o desk.Order) (*desk.View, error) { return d.Repair(ctx, o, in.Body) })
		})
}

// edited runs an edit and answers with the estate's new head.
func edited(in Editing, run func(desk.Order) (*desk.View, error)) (*answer[EstateHead], error) {
	o, err := in.order()
	if err != nil {
		return nil, err
	}
	v, err := run(o)
	if err != nil {
		return nil, refusal(err)
	}
	return tagged(v, estateOf(v)), nil
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

func estateOf(v *desk.View) EstateHead {
	e := EstateHead{
		Key: v.Key, Name: v.Estate.About.Name, Revision: v.Revision, Regions: v.Estate.About.Regions,
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
