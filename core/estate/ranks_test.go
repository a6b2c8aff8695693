package estate

import (
	"fmt"
	"math/rand/v2"
	"slices"
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

// Links that share stand together, whatever stands between them in the
// document, and keep sharing behind one that is put first.
func TestLinkOrderAndPatterns(t *testing.T) {
	links := func() []Link {
		return []Link{{Key: "sat", Rank: 2}, {Key: "a", Weight: 3}, {Key: "other"}, {Key: "b", Weight: 1}}
	}
	s := Site{Key: "x", Links: links()}
	if got := ChoicesText(s.LinkOrder()); got != "a × 3 beside b × 1, then other, then sat" {
		t.Errorf("the order is %s", got)
	}
	if got := len(s.LinkOrder()); got != len(s.Links) {
		t.Errorf("an order of %d links for %d", got, len(s.Links))
	}
	s.RankLinks(choices("sat"))
	if got := ChoicesText(s.LinkOrder()); got != "sat, then a × 3 beside b × 1, then other" {
		t.Errorf("the order became %s", got)
	}
	limited := links()
	limited[0].Zones = []string{"control"}
	e := &Estate{Sites: []Site{{Key: "one", Links: links()}, {Key: "none"}, {Key: "two", Links: limited}, {Key: "three", Links: links()}}}
	p := e.LinkPatterns()
	if len(p) != 2 || strings.Join(p[0].Sites, " ") != "one three" || strings.Join(p[1].Sites, " ") != "two" || len(p[0].Zones) != 4 || strings.Join(p[1].Zones[3], "") != "control" {
		t.Errorf("%+v", p)
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

// After any order the named links come first as they were named, each shares
// with just those it was to share with, and asking again changes nothing.
func TestRankLinksDoesWhatItIsTold(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 1))
	for range 500 {
		s := Site{}
		for i := range 1 + r.IntN(5) {
			s.Links = append(s.Links, Link{Key: fmt.Sprint("l", i), Rank: r.IntN(4), Weight: r.IntN(3)})
		}
		var first []LinkChoice
		for _, i := range r.Perm(len(s.Links))[:1+r.IntN(len(s.Links))] {
			first = append(first, LinkChoice{fmt.Sprint("l", i), len(first) > 0 && r.IntN(2) == 0, 1 + r.IntN(4)})
		}
		before := slices.Clone(s.Links)
		s.RankLinks(first)
		place := func(c LinkChoice) int { return slices.IndexFunc(s.Links, func(l Link) bool { return l.Key == c.Key }) }
		for i, c := range first {
			at := place(c)
			mates := s.SharesWith(at)
			if i == 0 && s.Links[at].RankOf() != 1 || i > 0 && s.Links[at].RankOf()-s.Links[place(first[i-1])].RankOf() != map[bool]int{true: 0, false: 1}[c.Shares] {
				t.Fatalf("%v of %+v: %+v", first, before, s.Links)
			}
			if i > 0 && c.Shares != slices.Contains(mates, first[i-1].Key) {
				t.Fatalf("%v of %+v: %s shares with %v", first, before, c.Key, mates)
			}
		}
		for i := range s.Links {
			if s.SharesWith(i) == nil && s.Links[i].Weight > 0 {
				t.Fatalf("%v of %+v: %+v has a weight for nothing", first, before, s.Links[i])
			}
		}
		again := slices.Clone(s.Links)
		if s.RankLinks(first) || !slices.EqualFunc(again, s.Links, func(a, b Link) bool { return a.Rank == b.Rank && a.Weight == b.Weight }) {
			t.Fatalf("%v of %+v changes twice", first, before)
		}
	}
}
