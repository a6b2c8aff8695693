package route

import (
	"math/rand/v2"
	"slices"
	"testing"

	"wideknot/core/tunnel"
)

// believing walks a packet where each site goes by what it believes of adjacencies that
// are not its own. It returns the sites on the way; the last is the one where it ends.
func believing(m *Map, from, to int, lives func(adjacency int) bool, believes func(site, adjacency int) bool) []int {
	o := &m.Plan.Overlays[0]
	prefix := m.Plan.Site(to).Subnets[0].Prefix
	way := []int{from}
	for at, before := from, -1; at != to && len(way) < 9; {
		fromHub := before >= 0 && o.IsHub(before) && o.IsHub(at)
		table := m.Table(at)
		if fromHub {
			table = m.Extras(at)[0].Routes
		}
		i := slices.IndexFunc(table, func(r Route) bool { return r.Prefix == prefix })
		hops := slices.DeleteFunc(slices.Clone(table[i].Hops), func(h Hop) bool { return !lives(h.End.Adjacency) })
		if len(hops) == 0 {
			return way
		}
		next := hops[0].Via
		if !fromHub {
			for _, c := range m.Candidates(0, at, to) {
				if slices.ContainsFunc(c.Adjacencies, func(a int) bool {
					own := o.Adjacencies[a].A == at || o.Adjacencies[a].B == at
					return own && !lives(a) || !own && !believes(at, a)
				}) {
					continue
				}
				if next = to; len(c.Via) > 0 {
					next = c.Via[0]
				}
				break
			}
		}
		before, at = at, next
		way = append(way, at)
	}
	return way
}

// Nothing circles, told or half told. Where everybody is told, what has a path arrives,
// and both directions go the same way.
func TestToldOrHalfToldNothingCircles(t *testing.T) {
	r := rand.New(rand.NewPCG(17, 18))
	arrived, tried := 0, 0
	for range 120 {
		m := randomNetwork(t, r)
		for i := range m.Plan.Estate.Sites {
			m.Plan.Estate.Sites[i].Gateway.Switches = true
		}
		m.Plan.Estate.Overlays[0].HubsTell = true
		m = Build(tunnel.Derive(m.Plan.Estate))
		if !m.Told(0) {
			continue
		}
		adjacencies := len(m.Plan.Overlays[0].Adjacencies)
		sites := len(m.Plan.Estate.Sites)
		for range 25 {
			state, stale := make([]bool, adjacencies), make([][]bool, sites)
			for a := range state {
				state[a] = len(m.Plan.Overlays[0].Adjacencies[a].Tunnels) > 0 && r.IntN(3) > 0
			}
			for s := range stale {
				stale[s] = make([]bool, adjacencies)
				for a := range state {
					stale[s][a] = state[a] != (r.IntN(4) == 0)
				}
			}
			lives := func(a int) bool { return state[a] }
			from, to := r.IntN(sites), r.IntN(sites)
			if from == to {
				continue
			}
			tried++
			if way := believing(m, from, to, lives, func(s, a int) bool { return stale[s][a] }); len(way) > 5 {
				t.Fatalf("half told, a packet from %d to %d circles: %v", from, to, way)
			}
			told := func(_, a int) bool { return state[a] }
			there, back := believing(m, from, to, lives, told), believing(m, to, from, lives, told)
			path := slices.ContainsFunc(m.Candidates(0, from, to), func(c Candidate) bool {
				return !slices.ContainsFunc(c.Adjacencies, func(a int) bool { return !state[a] })
			})
			if path && there[len(there)-1] != to {
				t.Fatalf("told, a packet from %d to %d goes %v; there is a path: %v", from, to, there, path)
			}
			if slices.Reverse(back); path && !slices.Equal(there, back) {
				t.Fatalf("told, %d to %d goes %v, and back %v", from, to, there, back)
			}
			if path {
				arrived++
			}
		}
	}
	if arrived < 500 || tried == arrived {
		t.Errorf("%d of %d arrived", arrived, tried)
	}
}
