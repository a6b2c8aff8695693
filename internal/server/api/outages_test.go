package api

import (
	"encoding/csv"
	"maps"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"

	"wideknot/core/outage"
	"wideknot/core/route"
	"wideknot/internal/server/desk"
)

// The jobs of the stage, by the API: find the stations on one mast and fix one,
// limit satellites, order links, read courses, compare with the release.
func TestOutages(t *testing.T) {
	s := start(t)
	base := s.demo()
	all := must[outage.Grid](s, "GET", base+"/outages?limit=1000", nil)
	if len(all.Rows) != all.Total || len(all.Sites) != 40 || all.Harmless == 0 {
		t.Fatalf("%d rows of %d, %d sites", len(all.Rows), all.Total, len(all.Sites))
	}
	row := func(o outage.Grid, part string) outage.GridRow {
		i := slices.IndexFunc(o.Rows, func(r outage.GridRow) bool { return r.Fail[0] == part })
		if i < 0 {
			t.Fatalf("nothing about %s", part)
		}
		return o.Rows[i]
	}
	kelpwick := slices.IndexFunc(all.Sites, func(x outage.GridSite) bool { return x.Site == "kelpwick" })
	if r := row(all, "fate:mast-39"); !slices.Equal(r.Lost, []string{"kelpwick"}) || r.Grid[kelpwick] != 'c' || strings.Count(r.Grid, "-") != 39 {
		t.Errorf("%+v", r)
	}
	standing := must[outage.Standing](s, "GET", base+"/outages/standing", nil)
	if len(standing.Fates) != 2 || !standing.Fates[0].All || len(standing.Sites) != 40 || len(standing.Suggestions) == 0 {
		t.Errorf("%+v", standing.Fates)
	}
	e := must[estate.Estate](s, "GET", base+"/document?format=json", nil)
	site := *e.Site("kelpwick")
	site.Links[1].SharedFate = []string{"mast-77"}
	must[EstateHead](s, "PUT", base+"/sites/kelpwick", site)
	if after := must[outage.Grid](s, "GET", base+"/outages?kind=link&limit=1000", nil); slices.ContainsFunc(after.Rows, func(r outage.GridRow) bool { return !strings.HasPrefix(r.Fail[0], "link:") }) {
		t.Error("other kinds than links")
	}
	standing = must[outage.Standing](s, "GET", base+"/outages/standing", nil)
	if len(standing.Fates) != 1 || standing.Fates[0].Site != "eelgate" {
		t.Errorf("%+v", standing.Fates)
	}

	down := must[outage.DetailSheet](s, "GET", base+"/outages/state?fail=gateway:harrowmere", nil)
	if len(down.Takeovers) == 0 || len(down.Lines) == 0 || down.Moved == 0 || len(down.Lost) != 0 {
		t.Errorf("%+v", down.OutcomeSheet)
	}
	both := must[outage.DetailSheet](s, "GET", base+"/outages/state?fail=gateway:harrowmere&fail=gateway:quillbeck", nil)
	if both.Cut <= down.Cut {
		t.Errorf("both hubs cut %d pairs, one %d", both.Cut, down.Cut)
	}
	pairs := must[outage.Grid](s, "GET", base+"/outages?kind=provider&together=true", nil)
	for _, r := range pairs.Rows {
		if len(r.Fail) != 2 || r.Cut+r.Squeezed == 0 {
			t.Errorf("%+v", r.OutcomeSheet)
		}
	}
	if len(pairs.Rows) == 0 {
		t.Error("no two providers together are worse than one")
	}
	course := must[Course](s, "GET", base+"/outages/timeline?a=alderfold&b=mossgill&fail=link:alderfold/copper", nil)
	if len(course.Moments) != 9 || course.Moments[0].Phase != "fail" || course.Percent < 99 {
		t.Errorf("%+v", course)
	}
	s.refused(404, "GET", base+"/outages/state?fail=gateway:none", nil)
	s.refused(422, "GET", base+"/outages/state?fail=mast-39", nil)
	s.refused(404, "GET", base+"/outages/timeline?a=x&b=y&fail=region:fen", nil)

	if head := must[EstateHead](s, "PUT", base+"/link-zones", map[string]any{"sites": []string{"overtarn"}, "link": "satellite", "zones": []string{"control"}}); head.Undo != "satellite of overtarn for control only" {
		t.Errorf("%q", head.Undo)
	}
	s.refused(422, "PUT", base+"/link-zones", map[string]any{"sites": []string{"overtarn"}, "link": "satellite", "zones": []string{"attic"}})
	s.refused(422, "PUT", base+"/link-zones", map[string]any{"sites": []string{"overtarn"}, "link": "string", "zones": []string{"control"}})
	s.refused(422, "GET", base+"/outages?kind=mast", nil)
	if all.Points != 7 {
		t.Errorf("%d single points of failure", all.Points)
	}
	if head := must[EstateHead](s, "PUT", base+"/link-order", map[string]any{"sites": []string{"overtarn", "pikestone"}, "first": []map[string]any{{"key": "satellite"}}}); head.Undo != "Links of 2 sites: satellite" {
		t.Errorf("%q", head.Undo)
	}
	s.refused(422, "PUT", base+"/link-order", map[string]any{"sites": []string{"overtarn"}, "first": []map[string]any{{"key": "string"}}})
	must[EstateHead](s, "PUT", base+"/shed", map[string]any{"zones": []string{"camera", "office"}})
	s.refused(422, "PUT", base+"/shed", map[string]any{"zones": []string{"camera", "camera"}})
	must[EstateHead](s, "PUT", base+"/overlays/ops/probe", map[string]any{"interval_ms": 500, "misses": 4, "successes": 10, "timeout_ms": 400, "target": "far-lan"})
	limits := map[string]any{"latency_ms": 150, "zones": []string{"control"}}
	probe := map[string]any{"interval_ms": 500, "misses": 4, "successes": 10, "timeout_ms": 400, "target": "far-end", "limits": limits}
	if head := must[EstateHead](s, "PUT", base+"/overlays/ops/probe", probe); head.Undo != "Probes of ops: 0.5 s apart, 4 misses; control held to latency 150 ms" {
		t.Errorf("%q", head.Undo)
	}
	if slow := must[outage.Grid](s, "GET", base+"/outages?degree=slow", nil); slow.Total == 0 || slow.Points != 0 || !strings.HasPrefix(slow.Rows[0].Fail[0], "slow:") {
		t.Errorf("%d slow failures", slow.Total)
	}
	if lossy := must[outage.Grid](s, "GET", base+"/outages?degree=lossy", nil); lossy.Total != 0 {
		t.Errorf("%d lossy failures, of which there is no limit", lossy.Total)
	}
	followed := must[route.Followed](s, "GET", base+"/follow?from=10.16.12.9&to=10.16.8.9&fail=slow:link:alderfold/copper", nil)
	if !followed.Arrives || followed.Forward.Steps[0].Why != route.Limits {
		t.Errorf("%+v", followed)
	}
	s.refused(404, "GET", base+"/follow?from=10.16.12.9&to=10.16.8.9&fail=slow:link:none/copper", nil)
	s.refused(422, "GET", base+"/follow?from=10.16.12.9&to=10.16.8.9&fail=tired:link:alderfold/copper", nil)
	delete(limits, "zones")
	s.refused(422, "PUT", base+"/overlays/ops/probe", probe)
	limits["zones"] = []string{"control", "control"}
	s.refused(422, "PUT", base+"/overlays/ops/probe", probe)
	s.refused(422, "PUT", base+"/overlays/ops/probe", map[string]any{"interval_ms": 1, "misses": 4, "successes": 10, "timeout_ms": 400, "target": "far-lan"})
	standing = must[outage.Standing](s, "GET", base+"/outages/standing", nil)
	if strings.Join(standing.Shed, " ") != "camera office" || standing.Timings[0].Timing.Detect != 2.4 {
		t.Errorf("%v %+v", standing.Shed, standing.Timings)
	}
	e = must[estate.Estate](s, "GET", base+"/document?format=json", nil)
	if l := e.Site("overtarn").Link("satellite"); l.Rank != 1 || !slices.Equal(l.Zones, []string{"control"}) || e.Site("pikestone").Link("cell").Rank != 2 {
		t.Errorf("%+v", l)
	}

	sheet, err := csv.NewReader(strings.NewReader(string(s.send("GET", base+"/outages/sheet", nil).body))).ReadAll()
	if err != nil || len(sheet) < 100 || sheet[0][0] != "failure" {
		t.Errorf("%d lines, %v", len(sheet), err)
	}
	if page := string(s.send("GET", base+"/outages/report", nil).body); !strings.Contains(page, "fate:mast-34") || strings.Contains(page, "ZgotmplZ") {
		t.Errorf("%.300s", page)
	}
	// Against what was released: the mast that kelpwick's links no longer share.
	released(s, base)
	must[EstateHead](s, "PUT", base+"/link-order", map[string]any{"sites": []string{"alderfold"}, "first": []map[string]any{{"key": "cell"}}})
	site = *e.Site("eelgate")
	site.Links[1].SharedFate = nil
	must[EstateHead](s, "PUT", base+"/sites/eelgate", site)
	changes := must[[]outage.ChangeSheet](s, "GET", base+"/outages/changes", nil)
	if !slices.Contains(changes, outage.ChangeSheet{Fail: "link:alderfold/cell", Site: "alderfold", Was: "untouched", Now: "moved"}) {
		t.Errorf("%+v", changes)
	}
	// Against another draft, which is a copy of this one, and against no state.
	other := must[desk.DraftSummary](s, "POST", "/api/estates/brindlewater/drafts", map[string]any{"name": "Other", "from": "first"}).Key
	if changes := must[[]outage.ChangeSheet](s, "GET", base+"/outages/changes?against="+other, nil); len(changes) != 0 {
		t.Errorf("a copy differs: %+v", changes)
	}
	must[EstateHead](s, "PUT", "/api/estates/brindlewater/drafts/"+other+"/link-order", map[string]any{"sites": []string{"alderfold"}, "first": []map[string]any{{"key": "copper"}}})
	changes = must[[]outage.ChangeSheet](s, "GET", base+"/outages/changes?against="+other, nil)
	if !slices.Contains(changes, outage.ChangeSheet{Fail: "link:alderfold/copper", Site: "alderfold", Was: "moved", Now: "untouched", Better: true}) {
		t.Errorf("%+v", changes)
	}
	s.refused(404, "GET", base+"/outages/changes?against=nowhere", nil)
}

// Two links of a site share the load: both ends say so, and so do routes, a
// packet's way, a failure and the bundle.
func TestLinksThatShareTheLoad(t *testing.T) {
	s := start(t)
	base := s.demo()
	order := func(weight int) map[string]any {
		return map[string]any{"sites": []string{"alderfold"}, "first": []map[string]any{{"key": "copper", "weight": weight}, {"key": "cell", "shares": true}}}
	}
	s.refused(422, "PUT", base+"/link-order", order(17))
	if head := must[EstateHead](s, "PUT", base+"/link-order", order(3)); head.Undo != "Links of alderfold: copper × 3 beside cell × 1" {
		t.Errorf("%q", head.Undo)
	}
	for site, far := range map[string]string{"alderfold": "harrowmere", "harrowmere": "alderfold"} {
		plan := must[SitePlan](s, "GET", base+"/sites/"+site+"/plan", nil)
		parts := map[string]int{}
		for _, one := range plan.Tunnels {
			if one.Peer == far && one.Share != nil && one.Share.Lead == 1 && one.Share.Whole == 4 {
				parts[one.Link+one.PeerLink] = one.Share.Weight
			}
		}
		if want := map[string]map[string]int{"alderfold": {"copperfibre-a": 3, "cellfibre-a": 1}, "harrowmere": {"fibre-acopper": 3, "fibre-acell": 1}}[site]; !maps.Equal(parts, want) {
			t.Errorf("%s: %v", site, parts)
		}
		shared := false
		for _, c := range plan.Chains {
			shared = shared || len(c) > 1 && c[0].Weight == 3 && c[1].Weight == 1 && c[0].Metric == c[1].Metric
		}
		text := ""
		for _, f := range plan.Files {
			text += f.Text
		}
		if !shared || !strings.Contains(text, ",3/") || !strings.Contains(text, "ct mark set ct mark & 0xf00fffff | 0x00100000 accept") {
			t.Errorf("%s: routes share the load: %v", site, shared)
		}
	}
	way := must[route.Followed](s, "GET", base+"/follow?from=10.16.12.9&to=10.16.4.1", nil)
	if step := way.Forward.Steps[0]; step.Weight != 3 || len(step.Beside) != 1 || step.Beside[0].Weight != 1 || !way.Symmetric {
		t.Errorf("%+v", step)
	}
	d := must[outage.DetailSheet](s, "GET", base+"/outages/state?fail=link:alderfold/cell", nil)
	if len(d.Takeovers) != 1 || d.Takeovers[0].From.Beside == nil || d.Takeovers[0].To.Link != "copper" || d.Takeovers[0].To.Beside != nil {
		t.Errorf("%+v", d.Takeovers)
	}
}
