package estate

import (
	"strings"
	"testing"
)

func TestRankLinks(t *testing.T) {
	for _, c := range []struct{ first, order string }{
		{"sat", "sat fibre cell"},
		{"cell fibre", "cell fibre sat"},
		{"fibre", "fibre cell sat"},
		{"none", "fibre cell sat"},
		{"sat none cell", "sat cell fibre"},
		{"", "fibre cell sat"},
	} {
		before := []Link{{Key: "cell", Rank: 2}, {Key: "sat", Rank: 3}, {Key: "fibre"}}
		s := Site{Links: before}
		changed := s.RankLinks(strings.Fields(c.first))
		order := make([]string, len(s.Links))
		for _, l := range s.Links {
			order[l.RankOf()-1] = l.Key
		}
		if got := strings.Join(order, " "); got != c.order || changed != (got != "fibre cell sat") {
			t.Errorf("%q first: %s, changed: %v", c.first, got, changed)
		}
		if before[2].Rank != 0 || before[0].Rank != 2 {
			t.Errorf("%q first: the links of others that share the list changed", c.first)
		}
	}
	// Links of equal ranks keep the order of the document.
	s := Site{Links: []Link{{Key: "b", Rank: 1}, {Key: "a", Rank: 1}}}
	if s.RankLinks(nil); s.Links[0].RankOf() != 1 || s.Links[1].RankOf() != 2 {
		t.Errorf("%+v", s.Links)
	}
}

func TestZonesAndShedAreChecked(t *testing.T) {
	e := &Estate{Format: Format, About: About{Name: "x", Shed: []string{"office", "office", "No"}}, Sites: []Site{{
		Key: "a", Name: "a", Links: []Link{{Key: "l", Reach: NAT, Zones: []string{"control", "Not This"}}},
	}}, Overlays: []Overlay{{Key: "o", Shape: FullMesh, Probe: &Probe{IntervalMs: 1, Target: "moon"}}}}
	var paths []string
	for _, p := range Validate(e) {
		paths = append(paths, p.Path)
	}
	for _, want := range []string{"estate.shed[1]", "estate.shed[2]", "sites[0].links[0].zones[1]", "overlays[0].probe.interval_ms", "overlays[0].probe.target"} {
		if !strings.Contains(strings.Join(paths, " ")+" ", want+" ") {
			t.Errorf("nothing is said about %s: %v", want, paths)
		}
	}
	l := Link{Zones: []string{"control"}}
	if !l.Carries("control") || l.Carries("office") || !(&Link{}).Carries("office") {
		t.Error("which zones a link carries")
	}
}
