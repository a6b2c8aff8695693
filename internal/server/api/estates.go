package api

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"wideknot/core/check"
	"wideknot/core/diff"
	"wideknot/core/estate"
	"wideknot/core/planning"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/drills"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/rollouts"
	"wideknot/internal/server/store"
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
	Settled   bool                   `json:"settled" doc:"false in the answer of an edit while findings are missing that take longer, such as those of loads; reading the head waits for them"`
	ByStage   map[string]int         `json:"by_stage" doc:"errors and warnings by the stage where they are fixed"`
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

// strong is a strong ETag of ours, and nothing else.
var strong = regexp.MustCompile(`^"([1-9][0-9]{0,18})"$`)

func (e Editing) order(ctx context.Context) (desk.Order, error) {
	o := desk.Order{Place: e.place(), Request: e.Request}
	if e.Request != "" {
		o.Digest = accessOf(ctx).digest()
	}
	if e.IfMatch == "" {
		return o, nil
	}
	tag := strong.FindStringSubmatch(e.IfMatch)
	if tag == nil {
		return o, huma.Error400BadRequest(`If-Match takes one strong ETag, as answers have it, such as "17"`)
	}
	o.IfMatch, _ = strconv.ParseUint(tag[1], 10, 64) // its form is a number's
	return o, nil
}

// An answer is what a state of an estate, or a part of it, is answered with.
type answer[T any] struct {
	Status   int
	ETag     string `header:"ETag"`
	Location string `header:"Location"`
	Link     string `header:"Link" doc:"where the list goes on (RFC 8288), if it does"`
	Body     T
}

func tagged[T any](v *desk.View, body T) *answer[T] {
	return &answer[T]{ETag: tagOf(v.Revision), Body: body}
}

// viewed is an operation that reads one state of an estate and answers from it
// alone.
func viewed[In interface{ place() desk.Place }, Out any](d *desk.Desk, read func(v *desk.View, in In) (Out, error)) func(context.Context, In) (*answer[Out], error) {
	return func(ctx context.Context, in In) (*answer[Out], error) {
		v, err := d.View(ctx, in.place())
		if err != nil {
			return nil, refusal(err)
		}
		out, err := read(v, in)
		if err != nil {
			return nil, err
		}
		return tagged(v, out), nil
	}
}

func tagOf(revision uint64) string { return fmt.Sprintf(`"%d"`, revision) }

// A made is what an operation answers that makes something.
type made[T any] struct {
	Status   int
	Location string `header:"Location"`
	Body     T
}

func madeAt[T any](location string, body T, err error) (*made[T], error) {
	if err != nil {
		return nil, refusal(err)
	}
	return &made[T]{http.StatusCreated, location, body}, nil
}

// A conflictProblem is the problem document of an edit that was based on an older
// state: besides RFC 9457's members it says what changed, and by whom.
type conflictProblem struct {
	huma.ErrorModel
	Now     uint64      `json:"now" doc:"the revision it has now"`
	Steps   []desk.Step `json:"steps" doc:"that changed it meanwhile"`
	Changes []string    `json:"changes" doc:"what became of it"`
}

func problemOf(status int, err error) huma.ErrorModel {
	return huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: err.Error()}
}

// A heldProblem is the problem document of a release that findings hold.
type heldProblem struct {
	huma.ErrorModel
	MustFix []check.Finding `json:"must_fix"`
	Asks    []check.Finding `json:"asks" doc:"findings for which a reason is asked"`
}

// An unsettledProblem is the problem document of open conflicts.
type unsettledProblem struct {
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
		return &conflictProblem{problemOf(http.StatusPreconditionFailed, err), stale.Now, append([]desk.Step{}, stale.Steps...), append([]string{}, stale.Changes...)}
	case errors.As(err, &hold):
		return &heldProblem{problemOf(http.StatusConflict, err), append([]check.Finding{}, hold.Errors...), append([]check.Finding{}, hold.Asks...)}
	case errors.As(err, &open):
		return &unsettledProblem{problemOf(http.StatusConflict, err), append([]diff.Conflict{}, open.Conflicts...)}
	case errors.As(err, &refused):
		return huma.Error422UnprocessableEntity(err.Error(), &huma.ErrorDetail{Message: err.Error(), Location: "body." + refused.Field})
	case errors.As(err, &fast):
		return huma.ErrorWithHeaders(huma.Error429TooManyRequests(err.Error()), http.Header{"Retry-After": {fmt.Sprint(int(fast.Wait.Seconds()))}})
	case errors.Is(err, identity.ErrSignIn), errors.Is(err, identity.ErrNoAccess):
		return huma.ErrorWithHeaders(huma.Error401Unauthorized(err.Error()), http.Header{"WWW-Authenticate": {challenge}})
	case errors.Is(err, identity.ErrNoLink), errors.Is(err, identity.ErrJourney):
		return huma.Error410Gone(err.Error())
	case errors.Is(err, store.ErrAway):
		return huma.ErrorWithHeaders(huma.Error503ServiceUnavailable(store.ErrAway.Error()), http.Header{"Retry-After": {"1"}})
	case errors.Is(err, store.ErrFull):
		return huma.NewError(http.StatusInsufficientStorage, store.ErrFull.Error())
	case errors.Is(err, desk.ErrReused):
		return huma.Error422UnprocessableEntity(err.Error())
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
		errors.Is(err, desk.ErrShelved), errors.Is(err, desk.ErrBehind), errors.Is(err, desk.ErrRolling), errors.Is(err, desk.ErrLooking), errors.Is(err, desk.ErrBenching), errors.Is(err, desk.ErrSessions), errors.Is(err, drills.ErrOpen), errors.Is(err, rollouts.ErrActive), errors.Is(err, rollouts.ErrNothing), errors.Is(err, rollouts.ErrState), errors.Is(err, identity.ErrTaken), errors.Is(err, identity.ErrLast), errors.Is(err, planning.ErrOutdated), errors.Is(err, store.ErrExists):
		return huma.Error409Conflict(err.Error())
	}
	var status huma.StatusError
	var plain *fiber.Error
	switch {
	case errors.As(err, &status):
		return err
	case errors.As(err, &plain):
		return huma.NewError(plain.Code, plain.Message)
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return huma.Error503ServiceUnavailable("this took too long; try again")
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
	s.sitePlans(a)
	s.gateways(a)
	s.watch(a)
	s.listeners(a)
	s.series(a)
	s.bench(a)
	s.sessions(a)
	s.drills(a)
	finish(a.OpenAPI())
}

func operation(id, method, path, summary string) huma.Operation {
	op := huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, MaxBodyBytes: smallBody}
	if permissions[id].open {
		op.MaxBodyBytes = openBody
	}
	return op
}

// making describes an operation that makes something.
func making(id, path, summary string) huma.Operation {
	op := operation(id, http.MethodPost, path, summary)
	op.DefaultStatus = http.StatusCreated
	return op
}

// Long as a list of operations is.
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
	huma.Register(a, making("create-estate", "/api/estates", "Make an empty estate with a first draft"),
		func(ctx context.Context, in *struct {
			Body struct {
				Name string `json:"name" maxLength:"120" example:"Brindlewater"`
			}
		}) (*made[desk.Summary], error) {
			estate, err := s.Desk.Create(ctx, in.Body.Name)
			return madeAt("/api/estates/"+estate.Key, estate, err)
		})
	huma.Register(a, operation("delete-estate", http.MethodDelete, "/api/estates/{estate}", "Delete an estate with all its drafts and releases, for good"),
		func(ctx context.Context, in *struct {
			InEstate
			Name string `query:"name" required:"true" maxLength:"200" doc:"the estate's name, typed again"`
		}) (*struct{}, error) {
			return nil, refusal(s.Desk.Delete(ctx, in.Estate, in.Name))
		})
	d := s.Desk
	huma.Register(a, operation("get-draft", http.MethodGet, "/api/estates/{estate}/drafts/{draft}", "Read the head of a state of an estate"),
		func(ctx context.Context, in *InDraft) (*answer[EstateHead], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			v.Findings() // all of them
			return tagged(v, estateOf(ctx, v)), nil
		})
	part(a, operation("get-about", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/about", "Read the estate's name, regions and what else its head has"),
		d, func(v *desk.View, _ InDraft) (estate.About, string, error) {
			return v.Estate.About, desk.PartID(store.Head, ""), nil
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
			return editedPart(ctx, in.Editing, desk.PartID(store.Head, ""), func(o desk.Order) (*desk.View, error) { return d.SaveAbout(ctx, o, about) })
		})
	describeBody[estate.About](a, "/api/estates/{estate}/drafts/{draft}/about", "About")
	for _, way := range []struct {
		id, summary string
		step        func(context.Context, desk.Order) (*desk.View, error)
	}{{"undo", "Undo the last edit", d.Undo}, {"redo", "Repeat the edit taken back last", d.Redo}} {
		huma.Register(a, operation(way.id, http.MethodPost, "/api/estates/{estate}/drafts/{draft}/"+way.id, way.summary),
			func(ctx context.Context, in *Editing) (*answer[EstateHead], error) {
				return edited(ctx, *in, func(o desk.Order) (*desk.View, error) { return way.step(ctx, o) })
			})
	}
	huma.Register(a, operation("list-findings", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/findings", "List what is wrong or risky"),
		func(ctx context.Context, in *struct {
			InDraft
			Page
			Severity check.Severity `query:"severity" enum:"error,warning,note"`
			Stage    string         `query:"stage" enum:"survey,addresses,shape"`
		}) (*answer[[]StagedFinding], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			list := slices.DeleteFunc(findingsOf(v), func(f StagedFinding) bool {
				return in.Severity != "" && f.Severity != in.Severity || in.Stage != "" && f.Stage != in.Stage
			})
			return listed(ctx, v, in.Page, list, func(f StagedFinding) string { return f.ID })
		})
	huma.Register(a, operation("repair", http.MethodPost, "/api/estates/{estate}/drafts/{draft}/repairs", "Carry out a repair that a finding offers"),
		func(ctx context.Context, in *struct {
			Editing
			Body planning.Repair
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) { return d.Repair(ctx, o, in.Body) })
		})
}

// part registers the reading of one part of a state, under its own tag: what is
// read can be put back under If-Match.
func part[I interface{ place() desk.Place }, T any](a huma.API, op huma.Operation, d *desk.Desk, find func(*desk.View, I) (T, string, error)) {
	huma.Register(a, op, func(ctx context.Context, in *I) (*answer[T], error) {
		v, err := d.View(ctx, (*in).place())
		if err != nil {
			return nil, refusal(err)
		}
		body, id, err := find(v, *in)
		if err != nil {
			return nil, refusal(err)
		}
		tag := v.Revisions[id]
		if v.Fixed {
			tag = v.Revision
		}
		return &answer[T]{ETag: tagOf(tag), Body: body}, nil
	})
}

// edited runs an edit and answers with the estate's new head.
func edited(ctx context.Context, in Editing, run func(desk.Order) (*desk.View, error)) (*answer[EstateHead], error) {
	o, err := in.order(ctx)
	if err != nil {
		return nil, err
	}
	v, err := run(o)
	if err != nil {
		return nil, refusal(err)
	}
	return tagged(v, estateOf(ctx, v)), nil
}

// editedPart is edited of one part: the tag is the part's, and one that was not
// there before was made.
func editedPart(ctx context.Context, in Editing, id string, run func(desk.Order) (*desk.View, error)) (*answer[EstateHead], error) {
	var part *desk.View
	out, err := edited(ctx, in, func(o desk.Order) (*desk.View, error) {
		v, err := run(o)
		part = v
		return v, err
	})
	if err != nil {
		return nil, err
	}
	out.ETag = tagOf(part.Revisions[id])
	if slices.Contains(part.Added, id) {
		out.Status, out.Location = http.StatusCreated, strings.Clone(accessOf(ctx).c.Path())
	}
	return out, nil
}

// StagedFinding is a finding with the stage where it is fixed.
type StagedFinding struct {
	check.Finding
	Stage string `json:"stage" enum:"survey,addresses,shape"`
}

func findingsOf(v *desk.View) []StagedFinding {
	list := v.Findings()
	out := make([]StagedFinding, len(list))
	for i, f := range list {
		out[i] = StagedFinding{f, f.Stage()}
	}
	return out
}

func estateOf(ctx context.Context, v *desk.View) EstateHead {
	list, settled := v.FindingsNow()
	e := EstateHead{
		Key: v.Key, Name: v.Estate.About.Name, Draft: v.Draft, DraftName: v.DraftName, Fixed: v.Fixed, Discarded: v.Discarded,
		Revision: v.Revision, Base: v.Base, Release: v.Latest, Role: accessOf(ctx).role, Regions: v.Estate.About.Regions,
		Zones: v.Estate.Zones(), Sites: len(v.Estate.Sites), Tunnels: v.Plan.Tunnels(),
		Findings: check.Count(list), Settled: settled, ByStage: map[string]int{}, Undo: v.Undo, Redo: v.Redo,
		AboutHead: v.Revisions[desk.PartID(store.Head, "")], Overlays: []string{},
	}
	for i := range v.Estate.Overlays {
		e.Overlays = append(e.Overlays, v.Estate.Overlays[i].Key)
	}
	for _, f := range list {
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
