// Package drill says what is to be seen while a failure is rehearsed, and compares it with what
// gateways report.
package drill

import (
	"fmt"
	"slices"

	"wideknot/core/gateway"
	"wideknot/core/outage"
	"wideknot/core/route"
)

// A Prediction is what a part's failure does to gateways.
type Prediction struct {
	Part     string    `json:"part"`
	Tunnels  int       `json:"tunnels" doc:"that it kills"`
	Sites    []Touched `json:"sites" doc:"whose gateways have ends of them"`
	Detect   float64   `json:"detect_s" doc:"until all of them are found dead, in seconds"`
	Return   float64   `json:"return_s" doc:"until all of them are back, in seconds"`
	Moved    int       `json:"moved" doc:"pairs of sites that go by other tunnels"`
	Squeezed int       `json:"squeezed" doc:"pairs that do, and are left with too little"`
	Cut      int       `json:"cut" doc:"pairs that are cut"`
}

// A Touched is a gateway with ends of the tunnels that die.
type Touched struct {
	Key    string     `json:"key"`
	Ends   []string   `json:"ends" doc:"by their interfaces"`
	Ways   []DrillWay `json:"ways,omitempty"`
	Digest string     `json:"digest" doc:"of what its gateway is to run"`
	// Holds is whether the part is at this site, so that its gateway holds the tunnels down.
	Holds bool `json:"holds"`
}

// A DrillWay is by which tunnels a gateway sends: groups in their order.
type DrillWay struct {
	ID     int          `json:"id"`
	Groups []DrillGroup `json:"groups"`
}

// A DrillGroup is tunnels that share the load.
type DrillGroup struct {
	Place int      `json:"place"`
	Ends  []string `json:"ends"`
}

// Predict says what the failure of a part does. It errs for a part that the estate does not have,
// that is not dead, or that kills no tunnel.
func Predict(routes *route.Map, model *outage.Model, part outage.Part) (*Prediction, error) {
	if part.Degree != outage.Dead {
		return nil, fmt.Errorf("%s is not dead: only what is dead can be drilled", part)
	}
	kills, err := model.Kills(part)
	if err != nil {
		return nil, err
	}
	outcome, err := model.Fail(part)
	if err != nil {
		return nil, err
	}
	out := &Prediction{Part: part.String(), Moved: outcome.Moved, Squeezed: outcome.Squeezed, Cut: outcome.Cut, Sites: []Touched{}}
	p := routes.Plan
	ends := 0
	for i := range p.Estate.Sites {
		one := Touched{Key: p.Site(i).Key, Ends: []string{}, Ways: []DrillWay{}}
		for _, e := range p.Ends(i) {
			o, _, t := p.At(e)
			if !kills.Dead(t) || t.Mute {
				continue
			}
			local, _ := p.Sides(e)
			one.Ends = append(one.Ends, local.Interface)
			timing := outage.TimingOf(o.Spec.Probe)
			out.Detect, out.Return = max(out.Detect, timing.Detect), max(out.Return, timing.Return)
		}
		if len(one.Ends) == 0 {
			continue
		}
		ends += len(one.Ends)
		one.Holds = isAt(model, part, i)
		config := gateway.Of(routes, i)
		one.Digest = config.Digest()
		for _, name := range one.Ends {
			if t := config.Tunnel(name); t == nil || t.Probe == nil {
				return nil, fmt.Errorf("%s of %s has no probes: nobody would notice that it is dead", name, one.Key)
			}
		}
		for _, w := range config.Ways {
			way := DrillWay{ID: w.ID, Groups: []DrillGroup{}}
			for _, g := range w.Groups {
				group := DrillGroup{Place: g.Place}
				for _, m := range g.Members {
					group.Ends = append(group.Ends, m.Interface)
				}
				way.Groups = append(way.Groups, group)
			}
			one.Ways = append(one.Ways, way)
		}
		out.Sites = append(out.Sites, one)
	}
	if out.Tunnels = ends / 2; out.Tunnels == 0 {
		return nil, fmt.Errorf("%s carries no tunnel", part)
	}
	return out, nil
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
	Dead    int      `json:"dead" doc:"ends of tunnels that are dead, of those that are to be"`
	Ends    int      `json:"ends" doc:"that are to be"`
	Ways    int      `json:"ways" doc:"that go as predicted for what is dead"`
	AllWays int      `json:"all_ways"`
	Others  int      `json:"others" doc:"ends that are dead and are not to be"`
	Unheard int      `json:"unheard" doc:"gateways that say nothing"`
	Wrong   []string `json:"wrong,omitempty" doc:"the first 20 that differ, in words"`
}

// mostWrong is how many differences are named.
const mostWrong = 20

// As compares what gateways report with a prediction while the part is held down, or, once it is
// not, with nothing being dead. What was dead before is no difference.
func (p *Prediction) As(held bool, states map[string]*gateway.State, before map[string][]string) (out Seen) {
	say := func(format string, values ...any) {
		if len(out.Wrong) < mostWrong {
			out.Wrong = append(out.Wrong, fmt.Sprintf(format, values...))
		}
	}
	for i := range p.Sites {
		s := &p.Sites[i]
		state := states[s.Key]
		if state == nil {
			out.Unheard++
			say("the gateway of %s says nothing", s.Key)
			continue
		}
		dead := map[string]bool{}
		for k := range state.Tunnels {
			t := &state.Tunnels[k]
			known := slices.Contains(before[s.Key], t.Interface)
			is, to := !t.Up, held && slices.Contains(s.Ends, t.Interface)
			dead[t.Interface] = to || known && is
			switch {
			case to:
				out.Ends++
				if is {
					out.Dead++
				} else {
					say("%s of %s lives", t.Interface, s.Key)
				}
			case is && !known:
				out.Others++
				say("%s of %s is dead", t.Interface, s.Key)
			}
		}
		uses := make(map[int]int, len(state.Ways))
		for _, w := range state.Ways {
			uses[w.ID] = w.Group
		}
		for k := range s.Ways {
			w := &s.Ways[k]
			out.AllWays++
			if to, is := w.group(dead), uses[w.ID]; to == is {
				out.Ways++
			} else {
				say("a way of %s goes by %s, and is to go by %s", s.Key, w.words(is), w.words(to))
			}
		}
	}
	return out
}

// group is the place of the first group of which something lives, 0 where nothing does.
func (w *DrillWay) group(dead map[string]bool) int {
	for i := range w.Groups {
		if slices.ContainsFunc(w.Groups[i].Ends, func(end string) bool { return !dead[end] }) {
			return w.Groups[i].Place
		}
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
