package api

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"

	"wideknot/core/find"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/internal/server/desk"
)

// Turning a region's hub order, and putting a tunnel first, is the same at both
// ends, is one edit each, and is undone.
func TestOrdersAreEditsOfTheOverlay(t *testing.T) {
	s := start(t)
	base := s.demo()
	loom := must[route.Loom](s, "GET", base+"/overlays/ops/loom", nil)
	var fen []string
	for _, row := range loom.Rows {
		if row.Region == "fen" && row.Role == "spoke" {
			fen = append(fen, row.Site)
		}
	}
	head := must[EstateHead](s, "PUT", base+"/overlays/ops/hub-order", map[string]any{"sites": fen, "hubs": []string{"quillbeck", "harrowmere"}})
	if !strings.HasSuffix(head.Undo, "sites in ops: quillbeck, harrowmere") {
		t.Errorf("%q", head.Undo)
	}
	for _, row := range must[route.Loom](s, "GET", base+"/overlays/ops/loom", nil).Rows {
		if slices.Contains(fen, row.Site) != (strings.Join(row.Hubs, " ") == "quillbeck harrowmere") && row.Site != "osierweir" {
			t.Errorf("%s has the hubs %v", row.Site, row.Hubs)
		}
	}
	must[EstateHead](s, "PUT", base+"/overlays/ops/hub-order", map[string]any{"sites": fen, "hubs": []string{}})
	for _, row := range must[route.Loom](s, "GET", base+"/overlays/ops/loom", nil).Rows {
		if slices.Contains(fen, row.Site) && row.Own {
			t.Errorf("%s still has an order of its own", row.Site)
		}
	}
	pair := base + "/overlays/ops/pairs/tarnhollow/harrowmere"
	before := must[route.PairSheet](s, "GET", pair, nil)
	last := before.Tunnels[len(before.Tunnels)-1].Tunnel
	must[EstateHead](s, "PUT", pair+"/order", map[string]any{"first": []string{last}})
	after := must[route.PairSheet](s, "GET", base+"/overlays/ops/pairs/harrowmere/tarnhollow", nil)
	if !after.Ordered || after.Tunnels[0].Tunnel != last {
		t.Errorf("%+v", after.Tunnels)
	}
	sheet := must[tunnel.BothEnds](s, "GET", base+"/both-ends?"+url.Values{"overlay": {"ops"}, "tunnel": {last}}.Encode(), nil)
	if sheet.Rank != 1 || sheet.Of != 5 {
		t.Errorf("rank %d of %d", sheet.Rank, sheet.Of)
	}
	for _, l := range sheet.Lines {
		if l.Wrong != "" || l.Mirror == "same" && l.A != l.B {
			t.Errorf("%+v", l)
		}
	}
	s.refused(404, "PUT", base+"/overlays/none/hub-order", map[string]any{"sites": fen, "hubs": []string{}})
	s.refused(404, "GET", base+"/overlays/ops/pairs/tarnhollow/tarnhollow", nil)
	s.refused(404, "GET", base+"/both-ends?overlay=ops&tunnel=x", nil)
	s.refused(422, "PUT", base+"/overlays/works-mesh/pairs/tarnhollow/mossgill/direct", map[string]any{"join": true})
}

// Windows put together make the whole loom: each pair of a mesh once either
// way, and the bands count the same pairs.
func TestLoomComesInWindows(t *testing.T) {
	s := start(t)
	base := s.demo()
	path := base + "/overlays/works-mesh/loom"
	loom := must[route.Loom](s, "GET", path, nil)
	n := len(loom.Columns)
	joined, tunnels := map[[2]string]int{}, 0
	for row := 0; row < n; row += 3 {
		for column := 0; column < n; column += 2 {
			window := must[route.LoomWindow](s, "GET", fmt.Sprintf("%s/window?row=%d&rows=3&column=%d&columns=2", path, row, column), nil)
			for i, pairs := range window.Pairs {
				for j, pair := range pairs {
					if pair.Joined {
						joined[[2]string{loom.Rows[row+i].Site, loom.Columns[column+j]}] = pair.Tunnels
						tunnels += pair.Tunnels
					}
				}
			}
		}
	}
	if len(joined) != n*(n-1) || joined[[2]string{"tarnhollow", "mossgill"}] != joined[[2]string{"mossgill", "tarnhollow"}] {
		t.Errorf("%d of %d pairs: %v", len(joined), n*(n-1), joined)
	}
	for _, band := range loom.Regions {
		tunnels -= 2 * band.Tunnels
	}
	if tunnels != 0 {
		t.Errorf("the bands have %d tunnels too few", tunnels/2)
	}
	if beyond := must[route.LoomWindow](s, "GET", path+"/window?row=1000&column=1000", nil); len(beyond.Pairs) != 0 {
		t.Errorf("%+v", beyond)
	}
}

func TestSpaceRoomAndPatterns(t *testing.T) {
	s := start(t)
	base := s.demo()
	must[EstateHead](s, "PUT", base+"/reserved", map[string]any{"prefix": "10.20.40.0/22", "for": "the new works"})
	space := must[Space](s, "GET", base+"/space", nil)
	clashes, reserved := 0, 0
	for _, h := range space.Held {
		if h.Clash == "error" && h.What == "subnet" {
			clashes++
		}
		if h.What == "reserved" && h.Name == "the new works" {
			reserved++
		}
	}
	if clashes != 3 || reserved != 1 {
		t.Errorf("%d clashes, %d reserved", clashes, reserved)
	}
	s.refused(422, "PUT", base+"/reserved", map[string]any{"prefix": "10.20.40.0/99", "for": "x"})
	s.refused(422, "GET", base+"/room?bits=0", nil)

	made := must[struct {
		Site    estate.Site
		Missing []string
	}](s, "GET", base+"/sites/heronstow/pattern?key=sedge&name=Sedge", nil)
	if made.Site.Key != "sedge" || len(made.Site.Links) != 2 || len(made.Missing) > 0 {
		t.Errorf("%+v", made)
	}
	head := must[EstateHead](s, "PUT", base+"/sites/sedge/like/heronstow", made.Site)
	if head.Sites != 41 || head.Undo != "Add Sedge like heronstow" {
		t.Errorf("%+v", head)
	}
	s.refused(422, "PUT", base+"/sites/sedge/like/heronstow", made.Site)
	s.refused(404, "PUT", base+"/sites/sedge2/like/nowhere", estate.Site{Key: "sedge2", Name: "x"})
	if hits := must[[]find.Hit](s, "GET", base+"/find?q=sedge", nil); len(hits) == 0 || hits[0].Site != "sedge" {
		t.Errorf("%+v", hits)
	}
	if plans := must[TwoPlans](s, "GET", base+"/sites/sedge/before-after", nil); plans.Moved != len(plans.Lines) || plans.Moved == 0 {
		t.Errorf("a new site: %d of %d routes move", plans.Moved, len(plans.Lines))
	}
}

func TestPacketsAndKeys(t *testing.T) {
	s := start(t)
	base := s.demo()
	f := must[route.Followed](s, "GET", base+"/follow?from=10.20.24.9&to=10.16.4.1", nil)
	if !f.Arrives || f.Symmetric || f.Return == nil {
		t.Errorf("the planted asymmetry: %+v", f)
	}
	f = must[route.Followed](s, "GET", base+"/follow?from=10.16.5.9&to=10.20.24.1", nil)
	if f.Arrives || f.Forward.End != "denied" || f.Forward.Rule == 0 || len(f.Overlays) == 0 {
		t.Errorf("a packet that policy denies: %+v", f)
	}
	s.refused(422, "GET", base+"/follow?from=x&to=10.16.4.1", nil)
	key := must[SitePlan](s, "GET", base+"/sites/tarnhollow/plan", nil).PublicKey
	for pasted, want := range map[string]string{
		key: "this is the public key of tarnhollow", " " + key + "\n": "this is the public key of tarnhollow",
		strings.TrimSuffix(key, "="): "the = at its end was lost", key[:20]: "it must have 44",
		"xTIBA5rboUvnH4htodjb6e697QjLERt1NAB4mZqp8Dg=": "that of no site",
	} {
		v := must[tunnel.KeyVerdict](s, "POST", base+"/sites/tarnhollow/check-key", map[string]string{"key": pasted})
		if v.Good != strings.Contains(pasted, key) || !strings.Contains(v.Text, want) {
			t.Errorf("%q: %+v", pasted, v)
		}
	}
	w := must[desk.Weighing](s, "POST", base+"/repairs/weigh", map[string]any{"repairs": must[[]StagedFinding](s, "GET", base+"/findings", nil)[0].Repairs[:1]})
	if w.FindingsGone["error"] != 1 || must[EstateHead](s, "GET", base, nil).Revision != 2 {
		t.Errorf("weighing carried something out: %+v", w.Tally)
	}
}
