package estate

import (
	"fmt"
	"strconv"
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
		changed := s.RankLinks(choices(c.first))
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

// choices reads keys, "+" before those that share with the one before them and
// "*" before weights.
func choices(text string) (out []LinkChoice) {
	for _, word := range strings.Fields(text) {
		key, shares := strings.CutPrefix(word, "+")
		key, weight, _ := strings.Cut(key, "*")
		n, _ := strconv.Atoi(weight)
		out = append(out, LinkChoice{key, shares, n})
	}
	return out
}

func TestRankLinksThatShare(t *testing.T) {
	for _, c := range []struct{ first, ranks, text string }{
		{"fibre*3 +copper", "fibre 1 3, copper 1 1, cell 2 0, sat 3 0", "fibre × 3 beside copper × 1"},
		{"cell copper*2 +fibre*2", "fibre 2 2, copper 2 2, cell 1 0, sat 3 0", "cell, then copper × 2 beside fibre × 2"},
		{"+sat", "fibre 2 4, copper 2 2, cell 3 0, sat 1 0", "sat"},      // the first has none before it; the others keep sharing
		{"copper", "fibre 2 0, copper 1 0, cell 3 0, sat 4 0", "copper"}, // fibre has nobody left to share with
		{"fibre copper", "fibre 1 0, copper 2 0, cell 3 0, sat 4 0", "fibre, then copper"},
		{"none +copper*5 +fibre", "fibre 1 1, copper 1 5, cell 2 0, sat 3 0", "none × 1 beside copper × 5 beside fibre × 1"},
	} {
		s := Site{Links: []Link{{Key: "fibre", Weight: 4}, {Key: "copper", Weight: 2}, {Key: "cell", Rank: 2}, {Key: "sat", Rank: 3}}}
		s.RankLinks(choices(c.first))
		var ranks []string
		for _, l := range s.Links {
			ranks = append(ranks, fmt.Sprint(l.Key, " ", l.Rank, " ", l.Weight))
		}
		if got := strings.Join(ranks, ", "); got != c.ranks {
			t.Errorf("%q first: %s, want %s", c.first, got, c.ranks)
		}
		if got := ChoicesText(choices(c.first)); got != c.text {
			t.Errorf("%q is written %q", c.first, got)
		}
	}
}

func TestSharesWith(t *testing.T) {
	s := Site{Links: []Link{
		{Key: "b", Rank: 1, Weight: 1}, {Key: "a", Weight: 9}, {Key: "c", Rank: 1}, {Key: "d", Rank: 2, Weight: 1},
		{Key: "ring", Underlay: "ring", Weight: 1}, {Key: "off", Weight: 1, NoTunnels: true},
	}}
	for i, want := range []string{"a b", "a b", "", "", "", ""} {
		if got := strings.Join(s.SharesWith(i), " "); got != want {
			t.Errorf("%s shares with %q, want %q", s.Links[i].Key, got, want)
		}
	}
	s.Links[0].Reach, s.Links[0].Weight = NAT, MaxWeight+1
	e := &Estate{Format: Format, About: About{Name: "x"}, Sites: []Site{{Key: "a", Name: "a", Links: s.Links[:1]}}}
	if problems := Validate(e); len(problems) != 1 || problems[0].Path != "sites[0].links[0].weight" {
		t.Errorf("%v", problems)
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
