package api

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/estate"
	"wideknot/core/outage"
	"wideknot/internal/server/desk"
)

// Outages is what single failures do, the worst first.
type Outages struct {
	Sites    []OutageSite       `json:"sites" doc:"the columns of the grid: by region, members of an overlay"`
	Rows     []OutageRow        `json:"rows"`
	Total    int                `json:"total" doc:"failures of the kinds asked for, further than the rows"`
	Points   int                `json:"points" doc:"of those, how many cut a site whose own gateway is alive"`
	Harmless int                `json:"harmless" doc:"of those, how many touch nobody"`
	Crowded  []outage.LineSheet `json:"crowded" doc:"links and gateways over capacity with nothing down"`
	Idle     []string           `json:"idle" doc:"sites without automatic failover, where a dead tunnel stays in use until somebody intervenes; everything here counts on that"`
}

// OutageSite is a column of the grid.
type OutageSite struct {
	Site   string `json:"site"`
	Name   string `json:"name"`
	Region string `json:"region"`
}

// OutageRow is one failure.
type OutageRow struct {
	outage.OutcomeSheet
	Grid string `json:"grid" doc:"a letter for each site: - untouched, m moved, s squeezed, c cut"`
}

// Standing is how available sites are, and what would make them more so.
type Standing struct {
	Sites       []SiteStanding `json:"sites" doc:"the least available first"`
	Fates       []FateSheet    `json:"fates"`
	Suggestions []Suggested    `json:"suggestions" doc:"those that gain most"`
	Timings     []TimingSheet  `json:"timings"`
	Shed        []string       `json:"shed" doc:"zones in the order in which they are shed"`
	Zones       []string       `json:"zones"`
	Idle        []string       `json:"idle" doc:"sites without automatic failover, where a dead tunnel stays in use until somebody intervenes"`

	Patterns []estate.LinkPattern `json:"patterns" doc:"sites by the order of their links, the pattern of most sites first"`
}

// SiteStanding is how available a site is.
type SiteStanding struct {
	Site    string   `json:"site"`
	Percent float64  `json:"percent"`
	Minutes float64  `json:"minutes" doc:"a year without any tunnel"`
	Switch  float64  `json:"switch_minutes" doc:"a year besides, until failures are noticed"`
	Unknown []string `json:"unknown" doc:"links without a figure; they count as always there"`
	OwnOnly bool     `json:"own_only" doc:"too many links are involved: those of the hubs count as always there"`
}

// FateSheet is a shared fate of a site's links.
type FateSheet struct {
	Site  string   `json:"site"`
	Group string   `json:"group"`
	Links []string `json:"links"`
	All   bool     `json:"all" doc:"the site has no other link"`
	Other []string `json:"other" doc:"further sites with links in the group"`
}

// Suggested is a change and what it gains.
type Suggested struct {
	Site string  `json:"site"`
	Kind string  `json:"kind" enum:"another-path,another-link"`
	Link string  `json:"link"`
	Text string  `json:"text"`
	Now  float64 `json:"now" doc:"minutes a year"`
	Then float64 `json:"then" doc:"minutes a year"`
}

// TimingSheet is how fast an overlay's probes are, in seconds.
type TimingSheet struct {
	Overlay string        `json:"overlay"`
	Probe   estate.Probe  `json:"probe" doc:"as set; what is missing stands for the usual"`
	Timing  outage.Timing `json:"timing"`
}

// letters writes verdicts into a grid.
const letters = "-msc"

func columnsOf(v *desk.View) ([]OutageSite, []int) {
	regions := map[string]int{}
	for i, r := range v.Estate.About.Regions {
		regions[r.Key] = i + 1
	}
	var sites []int
	for i := range v.Estate.Sites {
		if len(v.Plan.Ends(i)) > 0 {
			sites = append(sites, i)
		}
	}
	slices.SortStableFunc(sites, func(a, b int) int {
		return regions[v.Plan.Site(a).Region] - regions[v.Plan.Site(b).Region]
	})
	out := make([]OutageSite, len(sites))
	for i, s := range sites {
		site := v.Plan.Site(s)
		out[i] = OutageSite{site.Key, site.Name, site.Region}
	}
	return out, sites
}

// mostTogether bounds the parts of which every two are tried.
const mostTogether = 400

// outagesOf lists single failures of some kinds, or of all, or every two of them
// together as far as that is worse than the two alone added up.
func outagesOf(v *desk.View, kinds []string, limit int, together bool) (Outages, error) {
	m, singles := v.Outages()
	if together {
		var parts []outage.Part
		for i := range singles {
			if p := singles[i].Parts[0]; len(kinds) == 0 || slices.Contains(kinds, string(p.Kind)) {
				parts = append(parts, p)
			}
		}
		if len(parts) > mostTogether {
			return Outages{}, huma.Error422UnprocessableEntity(fmt.Sprintf("every two of %d things are too many to try at once; choose a kind with at most %d, or use the command line", len(parts), mostTogether))
		}
		singles = m.Pairs(parts)
	}
	columns, sites := columnsOf(v)
	place := make(map[int]int, len(sites))
	for i, s := range sites {
		place[s] = i
	}
	out := Outages{Sites: columns, Rows: []OutageRow{}, Crowded: []outage.LineSheet{}, Idle: m.IdleKeys()}
	for i := range singles {
		o := &singles[i]
		if len(kinds) > 0 && !slices.Contains(kinds, string(o.Parts[0].Kind)) {
			continue
		}
		out.Total++
		if o.Lost > 0 {
			out.Points++
		}
		if len(o.Sites) == 0 {
			out.Harmless++
		}
		if len(out.Rows) >= limit {
			continue
		}
		grid := bytes.Repeat([]byte{letters[0]}, len(sites))
		for _, s := range o.Sites {
			if at, ok := place[s.Site]; ok {
				grid[at] = letters[s.Verdict]
			}
		}
		out.Rows = append(out.Rows, OutageRow{m.Sheet(o, false), string(grid)})
	}
	for _, c := range m.Crowded() {
		out.Crowded = append(out.Crowded, m.OverSheet(&c))
	}
	return out, nil
}

func standingOf(v *desk.View) Standing {
	m, _ := v.Outages()
	out := Standing{Sites: []SiteStanding{}, Fates: []FateSheet{}, Suggestions: []Suggested{}, Timings: []TimingSheet{}, Shed: []string{}, Zones: v.Estate.Zones(), Idle: m.IdleKeys(), Patterns: v.Estate.LinkPatterns()}
	out.Shed = append(out.Shed, v.Estate.About.Shed...)
	for i := range v.Estate.Sites {
		if len(v.Plan.Ends(i)) == 0 {
			continue
		}
		a := m.Availability(i)
		out.Sites = append(out.Sites, SiteStanding{v.Plan.Site(i).Key, a.Part * 100, a.Minutes, a.Switch, append([]string{}, a.Unknown...), a.OwnOnly})
	}
	slices.SortStableFunc(out.Sites, func(a, b SiteStanding) int {
		switch {
		case a.Minutes > b.Minutes:
			return -1
		case a.Minutes < b.Minutes:
			return 1
		}
		return 0
	})
	for _, f := range m.CommonFates() {
		out.Fates = append(out.Fates, FateSheet{v.Plan.Site(f.Site).Key, f.Group, f.Links, f.All, append([]string{}, f.Other...)})
	}
	for _, s := range m.Suggest() {
		if len(out.Suggestions) == 50 {
			break
		}
		out.Suggestions = append(out.Suggestions, Suggested{v.Plan.Site(s.Site).Key, s.Kind, s.Link, s.Text, s.Now, s.Then})
	}
	for i := range v.Estate.Overlays {
		o := &v.Estate.Overlays[i]
		t := TimingSheet{Overlay: o.Key, Timing: outage.TimingOf(o.Probe)}
		if o.Probe != nil {
			t.Probe = *o.Probe
		}
		out.Timings = append(out.Timings, t)
	}
	return out
}

// outageSheet writes all single failures as RFC 4180 CSV, a line for each
// failure and site that it touches.
func outageSheet(v *desk.View) []byte {
	m, singles := v.Outages()
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	_ = w.Write([]string{"failure", "site", "verdict", "pairs_moved", "pairs_squeezed", "pairs_cut"}) // a bytes.Buffer takes every write
	for i := range singles {
		sheet := m.Sheet(&singles[i], true)
		for _, s := range sheet.Sites {
			_ = w.Write([]string{estate.SafeCell(sheet.Fail[0]), s.Site, s.Verdict, strconv.Itoa(s.Moved), strconv.Itoa(s.Squeezed), strconv.Itoa(s.Cut)})
		}
	}
	w.Flush()
	return out.Bytes()
}

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
			Kinds []string `query:"kind" enum:"gateway,link,fate,provider,underlay,region" doc:"all when empty"`
			Limit int      `query:"limit" minimum:"1" maximum:"2000" default:"200"`
			Both  bool     `query:"together" doc:"every two of them together instead, as far as that is worse than the two alone added up"`
		}) (*answer[Outages], error) {
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
			out, err := outagesOf(v, in.Kinds, in.Limit, in.Both)
			if err != nil {
				return nil, err
			}
			return tagged(v, out), nil
		})
	huma.Register(a, operation("get-outage", http.MethodGet, outagesPath+"/state", "Explain the failure of some parts together"),
		func(ctx context.Context, in *struct {
			InDraft
			Fail []string `query:"fail,explode" required:"true" minItems:"1" maxItems:"20"`
		}) (*answer[outage.DetailSheet], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			parts, err := partsOf(in.Fail)
			if err != nil {
				return nil, err
			}
			m, _ := v.Outages()
			detail, err := m.Explain(parts...)
			if err != nil {
				return nil, huma.Error404NotFound(err.Error())
			}
			return tagged(v, m.DetailSheet(detail)), nil
		})
	huma.Register(a, operation("get-outage-timeline", http.MethodGet, outagesPath+"/timeline", "Tell a failure and its repair second by second, for the traffic of two sites"),
		func(ctx context.Context, in *struct {
			InDraft
			Fail []string `query:"fail,explode" required:"true" minItems:"1" maxItems:"20"`
			A    string   `query:"a" required:"true" maxLength:"40"`
			B    string   `query:"b" required:"true" maxLength:"40"`
		}) (*answer[Course], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			parts, err := partsOf(in.Fail)
			if err != nil {
				return nil, err
			}
			x, y := v.Plan.SiteIndex(in.A), v.Plan.SiteIndex(in.B)
			if x < 0 || y < 0 || x == y {
				return nil, huma.Error404NotFound("there are no such two sites")
			}
			m, _ := v.Outages()
			moments, err := m.Timeline(x, y, parts...)
			if err != nil {
				return nil, huma.Error422UnprocessableEntity(err.Error())
			}
			out := Course{Moments: append([]outage.Moment{}, moments...)}
			if part, err := m.PairAvailability(x, y); err == nil {
				out.Percent, out.Minutes = part*100, (1-part)*outage.MinutesPerYear
			}
			return tagged(v, out), nil
		})
}

// standings registers how things stand, and compared.
func (s *Server) standings(a huma.API) {
	d := s.Desk
	huma.Register(a, operation("get-standing", http.MethodGet, outagesPath+"/standing", "Read how available sites are, what they share, and what would gain most"),
		func(ctx context.Context, in *InDraft) (*answer[Standing], error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			return tagged(v, standingOf(v)), nil
		})
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
			return attached("text/csv; charset=utf-8", fmt.Sprintf("outages-%s.csv", v.Draft), outageSheet(v)), nil
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
			}
		}) (*answer[EstateHead], error) {
			b := in.Body
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) {
				return d.SetProbe(ctx, o, in.Overlay, estate.Probe{Target: b.Target, IntervalMs: b.IntervalMs, Misses: b.Misses, Successes: b.Successes, TimeoutMs: b.TimeoutMs})
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
