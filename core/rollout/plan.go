package rollout

import (
	"fmt"
	"net/netip"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
)

// A Round is one wave taking one step.
type Round struct {
	Name  string   `json:"name"`
	Wave  int      `json:"wave" doc:"from 0"`
	Stage Stage    `json:"stage" enum:"1,2,3" doc:"that its gateways are brought to: 1 accepts what old and new do and sends as the old, 2 accepts the same and sends as the new, 3 is the new"`
	Sites []string `json:"sites"`
	// Pairs of sites, each in one direction.
	Cut   int   `json:"cut" doc:"pairs of sites that do not reach each other while it lasts, or after it"`
	Moved int   `json:"moved" doc:"pairs of sites whose traffic goes by other sites after it"`
	Some  []Cut `json:"some" doc:"some of those that are cut"`
}

// A Cut is a pair of sites that does not reach each other meanwhile.
type Cut struct {
	From string `json:"from"`
	To   string `json:"to"`
	// Passing is of pairs that are cut only while gateways of the round change one after the
	// other.
	Passing bool   `json:"passing"`
	Seconds int    `json:"seconds" doc:"of passing ones: until the gateways notice that a tunnel is dead; 0 for as long as gateways of the round change"`
	Until   int    `json:"until" doc:"round after which it is whole again, from 0; that after the last for a pair that stays cut"`
	Where   string `json:"where" doc:"site at which what it sends ends meanwhile"`
}

// A Plan is how a release is brought to gateways.
type Plan struct {
	Waves     []Wave   `json:"waves"`
	Rounds    []Round  `json:"rounds"`
	TwoSteps  bool     `json:"two_steps" doc:"what is accepted is widened everywhere before anything is sent otherwise, and narrowed at last"`
	Unchanged int      `json:"unchanged" doc:"gateways of which nothing changes"`
	Fixed     []string `json:"fixed" doc:"sites whose gateways nobody can bring anywhere: they are taken to stay as they are"`
	Followed  int      `json:"followed" doc:"pairs of hosts that were followed, in both directions"`
	Of        int      `json:"of" doc:"pairs that there are"`
	Cut       int      `json:"cut" doc:"pairs of sites that are cut meanwhile and reach each other before and after"`
	Ends      int      `json:"ends" doc:"pairs of sites that reach each other before and not after: by the release itself"`
	Begins    int      `json:"begins" doc:"pairs of sites that reach each other after and not before"`
	Straight  int      `json:"straight" doc:"pairs that would be cut in one step"`
	Lines     []string `json:"lines" doc:"sites whose gateways would call a server through a tunnel: they may lose their line by what they try, and go back"`
}

// mostLanes is how many pairs of hosts are followed; mostCuts how many are listed of a round.
const (
	mostLanes = 20000
	mostCuts  = 50
	mostKinds = 12
)

// Make plans a rollout in waves; nil for those that Waves chooses.
func Make(gateways []Gateway, waves []Wave) (*Plan, error) {
	spread(len(gateways), func(i int) { gateways[i].changes() })
	if waves == nil {
		waves = Waves(gateways)
	}
	waves = append([]Wave{}, waves...) // a list, if an empty one, for who reads it as JSON
	if err := check(gateways, waves); err != nil {
		return nil, err
	}
	out := &Plan{Waves: waves, Fixed: []string{}, Lines: []string{}}
	for i := range gateways {
		switch g := &gateways[i]; {
		case g.Fixed:
			out.Fixed = append(out.Fixed, g.Key)
		case !g.changes():
			out.Unchanged++
		}
	}
	w := newWalk(gateways)
	out.Followed, out.Of, out.Ends, out.Begins = w.tried, w.all, len(w.ends), len(w.begins)
	straight := w.rounds(waves, false)
	cut := w.run(straight)
	out.Rounds, out.Cut, out.Straight = straight, cut, cut
	if cut > 0 || w.adds() {
		steps := w.rounds(waves, true)
		if fewer := w.run(steps); fewer < cut || fewer == 0 {
			out.Rounds, out.Cut, out.TwoSteps = steps, fewer, true
		}
	}
	return out, nil
}

// check says what waves that a person made cannot be.
func check(gateways []Gateway, waves []Wave) error {
	known := map[string]*Gateway{}
	for i := range gateways {
		known[gateways[i].Key] = &gateways[i]
	}
	seen := map[string]bool{}
	for _, w := range waves {
		for _, site := range w.Sites {
			switch g := known[site]; {
			case g == nil:
				return fmt.Errorf("wave %q names %s, which is no site", w.Name, site)
			case g.Fixed:
				return fmt.Errorf("wave %q names %s, whose gateway has not joined", w.Name, site)
			case seen[site]:
				return fmt.Errorf("%s is in two waves", site)
			}
			seen[site] = true
		}
	}
	for i := range gateways {
		if g := &gateways[i]; g.changes() && !seen[g.Key] {
			return fmt.Errorf("%s changes, and is in no wave", g.Key)
		}
	}
	return nil
}

// A walk is what rounds are tried on.
type walk struct {
	*net
	mixed        sync.Pool // of states, for trying those between two
	lanes        []lane    // that arrive before and after
	passages     []passage // of each, before the first round
	after        []passage // of each, after the last one
	tried, all   int
	ends, begins map[[2]int]bool
}

func newWalk(gateways []Gateway) *walk {
	w := &walk{net: newNet(gateways), ends: map[[2]int]bool{}, begins: map[[2]int]bool{}}
	old, new := make([]Stage, len(gateways)), make([]Stage, len(gateways))
	for i := range new {
		new[i] = New
	}
	w.prepare(Old, New)
	kinds := w.kinds()
	hosts := w.hosts()
	w.tried = len(hosts)
	type found struct {
		before, after bool
		kind          kind
		was, is       passage
	}
	all := make([]found, len(hosts))
	spread(len(hosts), func(i int) {
		l := hosts[i]
		for _, k := range kinds {
			l.kind = k
			was := w.reach(old, &l)
			is := was
			if !w.alike(was) {
				is = w.reach(new, &l)
			}
			all[i].before, all[i].after = all[i].before || was.arrives, all[i].after || is.arrives
			if was.arrives && is.arrives {
				all[i].kind, all[i].was, all[i].is = k, was, is
				return
			}
		}
	})
	whole := map[[2]int]bool{}
	for i, f := range all {
		l := hosts[i]
		pair := [2]int{l.a, l.b}
		switch {
		case f.was.arrives:
			l.kind = f.kind
			w.lanes, w.passages, w.after, whole[pair] = append(w.lanes, l), append(w.passages, f.was), append(w.after, f.is), true
		case f.before:
			w.ends[pair] = true
		case f.after:
			w.begins[pair] = true
		}
	}
	for pair := range whole {
		delete(w.ends, pair)
		delete(w.begins, pair)
	}
	return w
}

// alike reports whether nothing changes of what a passage depends on.
func (w *walk) alike(p passage) bool { return !p.on(w.changing) }

// spread calls do for each of some numbers, on all processors.
func spread(n int, do func(i int)) {
	var all sync.WaitGroup
	var next atomic.Int64
	for range runtime.GOMAXPROCS(0) {
		all.Go(func() {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				do(i)
			}
		})
	}
	all.Wait()
}

// prepare makes what gateways are at some stages.
func (n *net) prepare(stages ...Stage) {
	spread(len(n.gateways), func(i int) {
		for _, s := range stages {
			n.at(i, s)
		}
	})
}

// kinds lists what packets are tried: echoes, and one of each kind that a policy names.
func (w *walk) kinds() []kind {
	out := []kind{{protocol: "icmp"}}
	for i := range w.gateways {
		for _, c := range []Stage{Old, New} {
			for _, o := range w.gateways[i].at(c).Filter.Overlays {
				for _, e := range o.Policy {
					k := kind{protocol: e.Protocol}
					if len(e.Ports) > 0 {
						k.port, _ = portsOf(e.Ports[0])
					}
					if e.Protocol != "" && !slices.Contains(out, k) && len(out) < mostKinds {
						out = append(out, k)
					}
				}
			}
		}
	}
	return out
}

// hosts lists pairs of hosts of different sites, one for each prefix that a site shares; a
// part of them, spread evenly, where there are too many.
func (w *walk) hosts() (out []lane) {
	by := make([][]netip.Addr, len(w.gateways))
	for i := range w.gateways {
		for _, p := range w.gateways[i].at(Old).Filter.Own {
			if a := hostOf(p); within(w.gateways[i].at(New).Filter.Own, a) {
				by[i] = append(by[i], a)
			}
		}
	}
	total := 0
	for i := range by {
		for j := range by {
			if i != j {
				total += pairsOf(by[i], by[j])
			}
		}
	}
	w.all = total
	every := float64(max(total, mostLanes)) / mostLanes
	at, next := 0, 0.0
	for i := range by {
		for j := range by {
			for _, from := range by[i] {
				for _, to := range by[j] {
					if i == j || from.Is4() != to.Is4() {
						continue
					}
					if float64(at) >= next {
						out = append(out, lane{a: i, b: j, from: from, to: to})
						next += every
					}
					at++
				}
			}
		}
	}
	return out
}

func pairsOf(a, b []netip.Addr) (n int) {
	four := func(list []netip.Addr) (n int) {
		for _, x := range list {
			if x.Is4() {
				n++
			}
		}
		return n
	}
	x, y := four(a), four(b)
	return x*y + (len(a)-x)*(len(b)-y)
}

// hostOf is a host of a prefix: the ninth, or its first where it is small.
func hostOf(p netip.Prefix) netip.Addr {
	out := p.Addr()
	for range min(9, 1<<min(p.Addr().BitLen()-p.Bits(), 4)-2) {
		out = out.Next()
	}
	return out
}

// run tries rounds one after the other, fills in what each does, and returns how many pairs
// of sites are cut meanwhile.
func (w *walk) run(rounds []Round) int {
	state := make([]Stage, len(w.gateways))
	cut := map[[2]int]bool{}
	now := slices.Clone(w.passages)
	open := map[int][]*Cut{} // by lane, cuts that last
	for r := range rounds {
		round := &rounds[r]
		round.Some = make([]Cut, 0, mostCuts) // it never grows: what is open points into it
		before := slices.Clone(state)
		in := make([]bool, len(state))
		for _, site := range round.Sites {
			in[w.index[site]] = true
			state[w.index[site]] = round.Stage
		}
		met := make([]meeting, len(w.lanes))
		w.prepare(round.Stage)
		spread(len(w.lanes), func(k int) { met[k] = w.meet(k, now[k], before, state, in, round.Stage) })
		pairs, moved := map[[2]int]bool{}, map[[2]int]bool{}
		for k := range w.lanes {
			l, m := &w.lanes[k], &met[k]
			pair := [2]int{l.a, l.b}
			if m.is.arrives {
				if !slices.Equal(m.is.path, now[k].path) {
					moved[pair] = true
				}
				for _, c := range open[k] {
					c.Until = r
				}
				delete(open, k)
			}
			now[k] = m.is
			if m.ends < 0 {
				continue
			}
			cut[pair] = true
			if pairs[pair] {
				continue
			}
			pairs[pair] = true
			if len(round.Some) < mostCuts {
				round.Some = append(round.Some, Cut{From: w.gateways[l.a].Key, To: w.gateways[l.b].Key, Passing: m.is.arrives, Seconds: (m.ms + 999) / 1000, Until: r, Where: w.gateways[m.ends].Key})
				if !m.is.arrives {
					open[k] = append(open[k], &round.Some[len(round.Some)-1])
				}
			}
		}
		round.Cut, round.Moved = len(pairs), len(moved)
	}
	for _, list := range open {
		for _, c := range list {
			c.Until = len(rounds)
		}
	}
	return len(cut)
}

// A meeting is what a lane meets in a round: its passage after it, and the gateway at which
// it ends in a state on the way; -1 for none.
type meeting struct {
	is   passage
	ends int
	ms   int // until it is noticed
}

func (w *walk) meet(k int, was passage, before, state []Stage, in []bool, to Stage) meeting {
	if !was.on(in) {
		if !was.arrives {
			return meeting{was, was.last(), 0}
		}
		return meeting{was, -1, 0}
	}
	l, is := &w.lanes[k], w.after[k]
	if !w.settled(&is, state) {
		is = w.reach(state, l)
	}
	if !is.arrives {
		return meeting{is, is.last(), 0}
	}
	if is.skips {
		if p := w.reachAfter(before, state, l); !p.arrives {
			return meeting{is, p.last(), p.unseen}
		}
	}
	ends, ms := w.between(before, to, in, l, &is, &was)
	return meeting{is, ends, ms}
}

// settled reports whether all on whom a passage after the last round depends are as they are then.
func (w *walk) settled(p *passage, state []Stage) bool {
	open := func(i int) bool { return w.changing[i] && state[i] != New }
	return !slices.ContainsFunc(p.path, open) && !slices.ContainsFunc(p.asked, open)
}

// last is the gateway at which it ends.
func (p *passage) last() int { return p.path[len(p.path)-1] }

// mostBetween is how many gateways of a round on one pair's ways are tried in every order.
const mostBetween = 6

// between tries what a pair of hosts meets while some gateways of a round have changed and
// others have not: every part of those on its ways before and after. It returns the gateway at
// which one ends, -1 where all arrive, and how long until that is noticed.
func (w *walk) between(before []Stage, to Stage, in []bool, l *lane, is, was *passage) (ends, ms int) {
	var both []int
	for _, list := range [][]int{is.path, was.path, is.asked, was.asked} {
		for _, i := range list {
			if in[i] && !slices.Contains(both, i) {
				both = append(both, i)
			}
		}
	}
	if len(both) < 2 {
		return -1, 0
	}
	both = both[:min(len(both), mostBetween)]
	mixed, _ := w.mixed.Get().([]Stage)
	mixed = append(mixed[:0], before...)
	defer w.mixed.Put(mixed)
	for some := uint(1); some < 1<<len(both)-1; some++ {
		for k, i := range both {
			mixed[i] = before[i]
			if some>>k&1 != 0 {
				mixed[i] = to
			}
		}
		if p := w.reachAfter(before, mixed, l); !p.arrives {
			return p.last(), p.unseen
		}
	}
	return -1, 0
}
