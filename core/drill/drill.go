// Package drill says what is to be seen while a failure is rehearsed, and compares it with what
// gateways report.
package drill

import (
	"errors"
	"fmt"
	"slices"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/outage"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// A Prediction is what a part's failure does to gateways.
type Prediction struct {
	Part     string        `json:"part"`
	Degree   outage.Degree `json:"degree,omitempty" enum:",slow,lossy" doc:"how badly it fails; empty where it is dead"`
	Tunnels  int           `json:"tunnels" doc:"that it kills, or takes beyond their limits"`
	Sites    []Touched     `json:"sites" doc:"whose gateways have ends of them"`
	Detect   float64       `json:"detect_s" doc:"until all of them are found so, in seconds"`
	Return   float64       `json:"return_s" doc:"until all of them are back, in seconds"`
	Moved    int           `json:"moved" doc:"pairs of sites that go by other tunnels, if only for what is held to limits"`
	Squeezed int           `json:"squeezed" doc:"pairs that do, and are left with too little"`
	Cut      int           `json:"cut" doc:"pairs that are cut"`
}

// A Touched is a gateway with ends of the tunnels concerned.
type Touched struct {
	Key    string     `json:"key"`
	Ends   []string   `json:"ends" doc:"by their interfaces"`
	Ways   []DrillWay `json:"ways,omitempty"`
	Digest string     `json:"digest" doc:"of what its gateway is to run"`
	// Holds is whether the part is at this site, so that its gateway holds the tunnels.
	Holds bool `json:"holds"`
}

// A DrillWay is by which tunnels a gateway sends: groups in their order.
type DrillWay struct {
	ID     int          `json:"id"`
	Keeps  bool         `json:"keeps,omitempty" doc:"to limits"`
	Groups []DrillGroup `json:"groups"`
}

// A DrillGroup is tunnels that share the load.
type DrillGroup struct {
	Place int      `json:"place"`
	Ends  []string `json:"ends"`
	// Among is the same for groups next to each other of which those within their limits come
	// first; 0 for one that no limits move.
	Among int `json:"among,omitempty"`
}

// Predict says what the failure of a part does. It errs for a part that the estate does not have,
// or whose failure no gateway would see.
func Predict(routes *route.Map, model *outage.Model, part outage.Part) (*Prediction, error) {
	kills, err := model.Kills(part)
	if err != nil {
		return nil, err
	}
	outcome, err := model.Fail(part)
	if err != nil {
		return nil, err
	}
	out := &Prediction{Part: part.String(), Degree: part.Degree, Moved: outcome.Moved, Squeezed: outcome.Squeezed, Cut: outcome.Cut, Sites: []Touched{}}
	p := routes.Plan
	ends := 0
	for i := range p.Estate.Sites {
		one := Touched{Key: p.Site(i).Key, Ends: []string{}, Ways: []DrillWay{}}
		var hit []tunnel.End
		for _, e := range p.Ends(i) {
			if _, _, t := p.At(e); !t.Mute && fails(&kills, part.Degree, t) {
				hit = append(hit, e)
			}
		}
		if len(hit) == 0 {
			continue
		}
		config := gateway.Of(routes, i)
		for _, e := range hit {
			o, _, _ := p.At(e)
			local, _ := p.Sides(e)
			t := config.Tunnel(local.Interface)
			if t == nil || t.Probe == nil {
				return nil, fmt.Errorf("%s of %s has no probes: nobody would notice what it is like", local.Interface, one.Key)
			}
			leave, back, seen := noticed(part.Degree, o.Spec.Probe, &t.Probe.Limits)
			if seen {
				one.Ends = append(one.Ends, local.Interface)
				out.Detect, out.Return = max(out.Detect, leave), max(out.Return, back)
			}
		}
		if len(one.Ends) == 0 {
			continue
		}
		ends += len(one.Ends)
		one.Holds, one.Digest, one.Ways = isAt(model, part, i), config.Digest(), waysOf(config)
		out.Sites = append(out.Sites, one)
	}
	if out.Tunnels = ends / 2; out.Tunnels == 0 {
		if part.Degree != outage.Dead {
			return nil, errors.New("no gateway holds a tunnel to limits that would notice: set limits of latency, jitter or loss in Outages, with the probes of the overlay")
		}
		return nil, fmt.Errorf("%s carries no tunnel", part)
	}
	return out, nil
}

// fails reports whether a failure makes a tunnel dead, slow or lossy.
func fails(kills *route.Failing, degree outage.Degree, t *tunnel.Tunnel) bool {
	switch degree {
	case outage.Slow:
		return kills.Slow(t)
	case outage.Lossy:
		return kills.Lossy(t)
	}
	return kills.Dead(t)
}

// noticed tells within how many seconds an end of a tunnel that fails is left and taken again, and
// whether it is at all.
func noticed(degree outage.Degree, probe *estate.Probe, l *gateway.Limits) (leave, back float64, seen bool) {
	timing := outage.TimingOf(probe)
	if degree == outage.Dead {
		return timing.Detect, timing.Return, true
	}
	if degree == outage.Slow && l.Latency+l.Jitter == 0 || degree == outage.Lossy && l.Loss == 0 {
		return 0, 0, false
	}
	leave, back = timing.Degrading(probe.Full().Limits)
	return leave, back, true
}

// waysOf lists the ways of a gateway, and beside them those that keep to limits.
func waysOf(c *gateway.Config) []DrillWay {
	spread, keeping := c.Spread()
	tunnels := make(map[string]*gateway.Tunnel, len(c.Tunnels))
	for i := range c.Tunnels {
		tunnels[c.Tunnels[i].Interface] = &c.Tunnels[i]
	}
	out := make([]DrillWay, 0, len(spread.Ways))
	for i := range spread.Ways {
		w := &spread.Ways[i]
		marks := keeping[w.ID]
		way := DrillWay{ID: w.ID, Keeps: marks != 0, Groups: make([]DrillGroup, 0, len(w.Groups))}
		var before *gateway.Tunnel
		among := 0
		for _, g := range w.Groups {
			group := DrillGroup{Place: g.Place}
			for _, m := range g.Members {
				group.Ends = append(group.Ends, m.Interface)
			}
			t := tunnels[g.Members[0].Interface]
			if before == nil || before.Overlay != t.Overlay || before.Peer != t.Peer {
				among++
			}
			if before = t; c.Held.MarkOf(t.Overlay)&marks != 0 {
				group.Among = among
			}
			way.Groups = append(way.Groups, group)
		}
		out = append(out, way)
	}
	return out
}

// isAt reports whether a part, or a link of it, is at a site.
func isAt(model *outage.Model, part outage.Part, site int) bool {
	s := model.Plan.Site(site)
	switch part.Kind {
	case outage.Gateway:
		return s.Key == part.Name
	case outage.Region:
		return s.Region == part.Name
	}
	for i := range s.Links {
		l := &s.Links[i]
		switch {
		case part.Kind == outage.Link && part.Name == s.Key+"/"+l.Key,
			part.Kind == outage.Fate && slices.Contains(l.SharedFate, part.Name),
			part.Kind == outage.Provider && l.Provider == part.Name,
			part.Kind == outage.Underlay && l.UnderlayOf() == part.Name:
			return true
		}
	}
	return false
}

// Seen is how gateways are at a moment of a drill, against what was predicted.
type Seen struct {
	Dead    int      `json:"dead" doc:"ends of tunnels that are as the part is, dead or beyond their limits, of those that are to be"`
	Ends    int      `json:"ends" doc:"that are to be"`
	Ways    int      `json:"ways" doc:"that go as predicted for that"`
	AllWays int      `json:"all_ways"`
	Others  int      `json:"others" doc:"ends that are so, or dead, and are not to be"`
	Unheard int      `json:"unheard" doc:"gateways that say nothing"`
	Wrong   []string `json:"wrong,omitempty" doc:"the first 20 that differ, in words"`
}

// mostWrong is how many differences are named.
const mostWrong = 20

// As compares what gateways report with a prediction while the part is held, or, once it is not,
// with all being well. What was dead before is no difference.
func (p *Prediction) As(held bool, states map[string]*gateway.State, before map[string][]string) (out Seen) {
	for i := range p.Sites {
		s := &p.Sites[i]
		state := states[s.Key]
		if state == nil {
			out.Unheard++
			out.say("the gateway of %s says nothing", s.Key)
			continue
		}
		dead, beyond := p.ends(s, held, state, before[s.Key], &out)
		uses := make(map[int]int, len(state.Ways)+len(state.HeldWays))
		for _, w := range slices.Concat(state.Ways, state.HeldWays) {
			uses[w.ID] = w.Group
		}
		for k := range s.Ways {
			w := &s.Ways[k]
			is, said := uses[w.ID]
			if !said && w.Keeps && p.Degree == outage.Dead { // its agent is of before
				continue
			}
			out.AllWays++
			if to := w.group(dead, beyond); to == is {
				out.Ways++
			} else {
				out.say("a way of %s goes by %s, and is to go by %s", s.Key, w.words(is), w.words(to))
			}
		}
	}
	return out
}

// ends compares the ends of tunnels at a site with what they are to be, and tells by which of
// them no way, and no way that is held to limits, is to go.
func (p *Prediction) ends(s *Touched, held bool, state *gateway.State, before []string, out *Seen) (dead, beyond map[string]bool) {
	dead, beyond = map[string]bool{}, map[string]bool{}
	for k := range state.Tunnels {
		t := &state.Tunnels[k]
		known := !t.Up && slices.Contains(before, t.Interface)
		to := held && slices.Contains(s.Ends, t.Interface)
		is, words, not := !t.Up, "is dead", "lives"
		if p.Degree != outage.Dead && t.Up {
			is, words, not = t.Beyond, "is beyond its limits", "keeps to its limits"
		}
		dead[t.Interface] = known || to && p.Degree == outage.Dead
		beyond[t.Interface] = to
		if p.Degree == outage.Dead { // what is beyond its limits meanwhile is left as it would be
			beyond[t.Interface] = t.Beyond
		}
		switch {
		case to && p.Degree != outage.Dead && !t.Up:
			out.Ends++
			out.say("%s of %s is dead", t.Interface, s.Key)
		case to:
			out.Ends++
			if is {
				out.Dead++
			} else {
				out.say("%s of %s %s", t.Interface, s.Key, not)
			}
		case is && !known:
			out.Others++
			out.say("%s of %s %s", t.Interface, s.Key, words)
		}
	}
	return dead, beyond
}

func (s *Seen) say(format string, values ...any) {
	if len(s.Wrong) < mostWrong {
		s.Wrong = append(s.Wrong, fmt.Sprintf(format, values...))
	}
}

// group is the place of the group by which it goes, 0 where nothing lives: the first with a living
// tunnel, but those within their limits first among groups that are held to them.
func (w *DrillWay) group(dead, beyond map[string]bool) int {
	for at := 0; at < len(w.Groups); {
		end := at + 1
		for end < len(w.Groups) && w.Groups[at].Among != 0 && w.Groups[end].Among == w.Groups[at].Among {
			end++
		}
		some := w.Groups[at:end]
		if i := slices.IndexFunc(some, func(g DrillGroup) bool {
			return g.Among != 0 && slices.ContainsFunc(g.Ends, func(name string) bool { return !dead[name] && !beyond[name] })
		}); i >= 0 {
			return some[i].Place
		}
		if i := slices.IndexFunc(some, func(g DrillGroup) bool {
			return slices.ContainsFunc(g.Ends, func(name string) bool { return !dead[name] })
		}); i >= 0 {
			return some[i].Place
		}
		at = end
	}
	return 0
}

func (w *DrillWay) words(place int) string {
	for i := range w.Groups {
		if w.Groups[i].Place == place {
			return fmt.Sprint(w.Groups[i].Ends[0])
		}
	}
	return "nothing"
}

// Whole reports whether all is as predicted.
func (s *Seen) Whole() bool {
	return s.Dead == s.Ends && s.Ways == s.AllWays && s.Others == 0 && s.Unheard == 0
}
