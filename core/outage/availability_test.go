package outage

import (
	"math"
	"testing"

	"wideknot/core/estate"
)

func TestAvailability(t *testing.T) {
	m := modelOf(small())
	up := func(percent ...float64) float64 { // of parts that stand in for each other
		down := 1.0
		for _, p := range percent {
			down *= 1 - p/100
		}
		return 1 - down
	}
	hubs := up(99.9, 99.9)
	for site, want := range map[int]float64{
		3: up(99, 98) * hubs,
		4: 0.99 * hubs,
		// mast-1 is down as often as the better link; the rest of the other is its own.
		2: 0.999 * hubs,
	} {
		if got := m.Availability(site); math.Abs(got.Part-want) > 1e-12 || math.Abs(got.Minutes-(1-want)*MinutesPerYear) > 1e-6 {
			t.Errorf("%s: %v, not %v", m.key(site), got.Part, want)
		}
	}
	// b and c by either hub: both ends' first links, or b's second.
	pair, err := m.PairAvailability(3, 4)
	if err != nil || pair > up(99, 98)*0.99*hubs+1e-12 || pair < up(99, 98)*0.99*0.999 {
		t.Errorf("b and c: %v, %v", pair, err)
	}
	// No figure is no downtime, and said.
	e := small()
	e.Sites[4].Links[0].Availability = 0
	if got := modelOf(e).Availability(4); math.Abs(got.Part-hubs) > 1e-12 || len(got.Unknown) != 1 {
		t.Errorf("%+v", got)
	}
}

// chance agrees with counting states one by one.
func TestChance(t *testing.T) {
	elements := []element{{"", 0.1, []int{0}}, {"g", 0.2, []int{0, 1}}, {"", 0.3, []int{1}}, {"", 0.4, []int{2}}}
	want := 0.0
	for state := range 1 << len(elements) {
		p := 1.0
		dead := [3]bool{}
		for i, e := range elements {
			if state&(1<<i) == 0 {
				p *= 1 - e.down
				continue
			}
			p *= e.down
			for _, n := range e.has {
				dead[n] = true
			}
		}
		if !dead[0] || !dead[1] && !dead[2] {
			want += p
		}
	}
	dead := make([]bool, 3)
	got := chance(elements, dead, func() bool { return !dead[0] || !dead[1] && !dead[2] })
	if math.Abs(got-want) > 1e-12 || dead[0] || dead[1] || dead[2] {
		t.Errorf("%v, not %v", got, want)
	}
}

// A pair's availability is the sum over every state of the links that matter, in
// each of which the failure of what is down cuts the two or does not.
func TestPairAvailabilityIsTheSumOverStates(t *testing.T) {
	mesh := small()
	mesh.Overlays[0].Shape, mesh.Overlays[0].Hubs = estate.FullMesh, nil
	mesh.Overlays[0].Spokes = append(mesh.Overlays[0].Spokes, estate.Spoke{Site: "hub-1"}, estate.Spoke{Site: "hub-2"})
	for i := range mesh.Sites {
		for j := range mesh.Sites[i].Links {
			mesh.Sites[i].Links[j].SharedFate = nil
		}
	}
	alone := small()
	alone.Sites[2].Links[0].SharedFate, alone.Sites[2].Links[1].SharedFate = nil, nil
	for name, e := range map[string]*estate.Estate{"hubs": alone, "mesh": mesh} {
		m := modelOf(e)
		type one struct {
			part Part
			up   float64
		}
		var links []one
		for i := range e.Sites {
			for _, l := range e.Sites[i].Links {
				links = append(links, one{Part{Kind: Link, Name: e.Sites[i].Key + "/" + l.Key}, l.Availability / 100})
			}
		}
		want := map[[2]int]float64{}
		for state := range 1 << len(links) {
			chance, parts := 1.0, []Part{}
			for k, l := range links {
				if state>>k&1 == 1 {
					parts = append(parts, l.part)
					chance *= 1 - l.up
				} else {
					chance *= l.up
				}
			}
			cut := map[[2]int]bool{}
			if len(parts) > 0 {
				d, err := m.Explain(parts...)
				if err != nil {
					t.Fatal(err)
				}
				for _, p := range d.Lost {
					cut[[2]int{min(p.A, p.B), max(p.A, p.B)}] = true
				}
			}
			for a := range e.Sites {
				for b := a + 1; b < len(e.Sites); b++ {
					if !cut[[2]int{a, b}] {
						want[[2]int{a, b}] += chance
					}
				}
			}
		}
		for pair, w := range want {
			got, err := m.PairAvailability(pair[0], pair[1])
			if err != nil || math.Abs(got-w) > 1e-9 {
				// A mesh pair whose ends only call out has no tunnel, and no figure either.
				if m.stranded[pairKey(pair[0], pair[1])] && got == 0 {
					continue
				}
				t.Errorf("%s: %s and %s reach each other %v of the time, not %v (%v)", name, e.Sites[pair[0]].Key, e.Sites[pair[1]].Key, got, w, err)
			}
		}
	}
}

// The exact sum takes 18 things that can fail, and no more.
func TestPairAvailabilityIsBounded(t *testing.T) {
	for links, ok := range map[int]bool{maxPairElements - 1: true, maxPairElements: false} {
		e := small()
		e.Overlays[0].Hubs, e.Overlays[0].Spokes = []string{"hub-1"}, []estate.Spoke{{Site: "c"}}
		e.Sites[4].Links = nil
		for k := range links {
			e.Sites[4].Links = append(e.Sites[4].Links, estate.Link{Key: string(rune('a' + k)), Reach: estate.NAT, Rank: k + 1, Availability: 99})
		}
		if _, err := modelOf(e).PairAvailability(4, 0); (err == nil) != ok {
			t.Errorf("%d links and one: %v", links, err)
		}
	}
}
