package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/estate"

	"wideknot/core/outage"
	"wideknot/internal/server/desk"
)

func partsOf(texts []string) ([]outage.Part, error) {
	var out []outage.Part
	for _, text := range texts {
		p, err := outage.ParsePart(text)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		out = append(out, p)
	}
	return out, nil
}

const outagesPath = "/api/estates/{estate}/drafts/{draft}/outages"

func (s *Server) outages(a huma.API) {
	s.failures(a)
	s.standings(a)
	s.outageFiles(a)
	s.outagePlan(a)
}

// failures registers what failures do, as values.
// Long as a list of operations is.
func (s *Server) failures(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("get-outages", http.MethodGet, outagesPath, "Read what each single failure does, the worst first"),
		func(ctx context.Context, in *struct {
			InDraft
			Kinds  []string `query:"kind" enum:"gateway,link,fate,provider,underlay,region" doc:"all when empty"`
			Degree string   `query:"degree" enum:",dead,slow,lossy" doc:"all when empty"`
			Limit  int      `query:"limit" minimum:"1" maximum:"2000" default:"200"`
			Both   bool     `query:"together" doc:"every two of them together instead, as far as that is worse than the two alone added up"`
		}) (*answer[outage.Grid], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			if in.Both { // which nothing remembers
				leave, err := d.Turn(ctx)
				if err != nil {
					return nil, refusal(err)
				}
				defer leave()
			}
			m, failures := v.Outages()
			if in.Both {
				if failures, err = m.Together(failures, outage.Choice{Kinds: in.Kinds, Degree: in.Degree}); err != nil {
					return nil, huma.Error422UnprocessableEntity(err.Error())
				}
			}
			return tagged(v, m.Grid(failures, outage.Choice{Kinds: in.Kinds, Degree: in.Degree}, in.Limit)), nil
		})
	huma.Register(a, operation("get-outage", http.MethodGet, outagesPath+"/state", "Explain the failure of some parts together"),
		viewed(d, func(v *desk.View, in *struct {
			InDraft
			Fail []string `query:"fail,explode" required:"true" minItems:"1" maxItems:"20"`
		}) (out outage.DetailSheet, err error) {
			parts, err := partsOf(in.Fail)
			if err != nil {
				return out, err
			}
			m, _ := v.Outages()
			detail, err := m.Explain(parts...)
			if err != nil {
				return out, huma.Error404NotFound(err.Error())
			}
			return m.DetailSheet(detail), nil
		}))
	huma.Register(a, operation("get-outage-timeline", http.MethodGet, outagesPath+"/timeline", "Tell a failure and its repair second by second, for the traffic of two sites"),
		viewed(d, func(v *desk.View, in *struct {
			InDraft
			Fail []string `query:"fail,explode" required:"true" minItems:"1" maxItems:"20"`
			A    string   `query:"a" required:"true" maxLength:"40"`
			B    string   `query:"b" required:"true" maxLength:"40"`
		}) (out Course, err error) {
			parts, err := partsOf(in.Fail)
			if err != nil {
				return out, err
			}
			x, y := v.Plan.SiteIndex(in.A), v.Plan.SiteIndex(in.B)
			if x < 0 || y < 0 || x == y {
				return out, huma.Error404NotFound("there are no such two sites")
			}
			m, _ := v.Outages()
			moments, err := m.Timeline(x, y, parts...)
			if err != nil {
				return out, huma.Error422UnprocessableEntity(err.Error())
			}
			out = Course{Moments: append([]outage.Moment{}, moments...)}
			if part, err := m.PairAvailability(x, y); err == nil {
				out.Percent, out.Minutes = part*100, (1-part)*outage.MinutesPerYear
			}
			return out, nil
		}))
}

// standings registers how things stand, and compared.
func (s *Server) standings(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("get-standing", http.MethodGet, outagesPath+"/standing", "Read how available sites are, what they share, and what would gain most"),
		viewed(d, func(v *desk.View, in *InDraft) (out outage.Standing, err error) {
			m, _ := v.Outages()
			return m.Standing(), nil
		}))
	huma.Register(a, operation("get-outage-changes", http.MethodGet, outagesPath+"/changes", "Compare what failures do with another state of the estate"),
		func(ctx context.Context, in *struct {
			InDraft
			Against string `query:"against" maxLength:"40" doc:"released, release-N, or a draft; the release the draft is based on when none is given"`
		}) (*answer[[]outage.ChangeSheet], error) {
			v, changes, err := d.OutageChanges(ctx, in.place(), in.Against)
			if err != nil {
				return nil, refusal(err)
			}
			out := []outage.ChangeSheet{}
			for i := range changes {
				out = append(out, changes[i].Sheet())
			}
			return tagged(v, out), nil
		})
}

// outageFiles registers what can be taken away.
func (s *Server) outageFiles(a huma.API) {
	d := s.Desk
	huma.Register(a, files(operation("export-outages", http.MethodGet, outagesPath+"/sheet", "Download what each single failure does as CSV"), "text/csv"),
		func(ctx context.Context, in *InDraft) (*file, error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			m, failures := v.Outages()
			return attached("text/csv; charset=utf-8", fmt.Sprintf("outages-%s.csv", v.Draft), m.CSV(failures)), nil
		})
	huma.Register(a, files(operation("export-outage-report", http.MethodGet, outagesPath+"/report", "Download what failures do as a page to print"), "text/html"),
		func(ctx context.Context, in *InDraft) (*file, error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			page, err := reportOf(v, time.Now())
			if err != nil {
				return nil, refusal(err)
			}
			return attached("text/html; charset=utf-8", fmt.Sprintf("outages-%s.html", v.Draft), page), nil
		})
}

// outagePlan registers the edits of what decides in an outage.
func (s *Server) outagePlan(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("rank-links", http.MethodPut, "/api/estates/{estate}/drafts/{draft}/link-order", "Put some links of sites first, by their keys"),
		func(ctx context.Context, in *struct {
			Editing
			Body struct {
				Sites []string            `json:"sites" minItems:"1" maxItems:"10000"`
				First []estate.LinkChoice `json:"first" minItems:"1" maxItems:"20" doc:"the first choice first"`
			}
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) {
				return d.RankLinks(ctx, o, in.Body.Sites, in.Body.First)
			})
		})
	huma.Register(a, operation("limit-links", http.MethodPut, "/api/estates/{estate}/drafts/{draft}/link-zones", "Let only some zones through a link, at the given sites"),
		func(ctx context.Context, in *struct {
			Editing
			Body struct {
				Sites []string `json:"sites" minItems:"1" maxItems:"10000"`
				Link  string   `json:"link" maxLength:"40"`
				Zones []string `json:"zones" maxItems:"256" doc:"empty for all"`
			}
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) {
				return d.LimitLinks(ctx, o, in.Body.Sites, in.Body.Link, in.Body.Zones)
			})
		})
	huma.Register(a, operation("set-shed", http.MethodPut, "/api/estates/{estate}/drafts/{draft}/shed", "Set the order in which zones are shed"),
		func(ctx context.Context, in *struct {
			Editing
			Body struct {
				Zones []string `json:"zones" maxItems:"256"`
			}
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) { return d.SetShed(ctx, o, in.Body.Zones) })
		})
	huma.Register(a, operation("set-probe", http.MethodPut, "/api/estates/{estate}/drafts/{draft}/overlays/{overlay}/probe", "Set how fast an overlay finds a tunnel dead, and alive again"),
		func(ctx context.Context, in *struct {
			Editing
			Overlay string `path:"overlay" maxLength:"40"`
			Body    struct {
				IntervalMs int                `json:"interval_ms" minimum:"100" maximum:"60000"`
				Misses     int                `json:"misses" minimum:"1" maximum:"20"`
				Successes  int                `json:"successes" minimum:"1" maximum:"100"`
				TimeoutMs  int                `json:"timeout_ms" minimum:"50" maximum:"60000"`
				Target     estate.ProbeTarget `json:"target" enum:"far-end,far-lan" doc:"what answers"`
				Limits     *estate.Limits     `json:"limits,omitempty" doc:"of latency, jitter and loss, for some zones; none where left out"`
			}
		}) (*answer[EstateHead], error) {
			b := in.Body
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) {
				return d.SetProbe(ctx, o, in.Overlay, estate.Probe{Target: b.Target, IntervalMs: b.IntervalMs, Misses: b.Misses, Successes: b.Successes, TimeoutMs: b.TimeoutMs, Limits: b.Limits})
			})
		})
}

// Course is a failure and its repair, for the traffic of two sites, and how
// available that traffic is.
type Course struct {
	Moments []outage.Moment `json:"moments" doc:"none when the failure does not move the traffic"`
	Percent float64         `json:"percent" doc:"0 when too much is involved for an exact sum"`
	Minutes float64         `json:"minutes" doc:"a year"`
}
