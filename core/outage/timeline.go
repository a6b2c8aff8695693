package outage

import (
	"fmt"
	"slices"
	"strings"
)

// A Moment is one point of a failure's course. After counts seconds from the
// failure, or from the repair when Repaired is set.
type Moment struct {
	After    float64 `json:"after"`
	Repaired bool    `json:"repaired,omitempty"`
	Phase    string  `json:"phase" enum:"fail,missed,detect,switch,recover,repair,hold,return"`
	Text     string  `json:"text"`
	// Part is what part of the flows the failed tunnel took, where those that
	// shared the load with it take over.
	Part float64 `json:"part,omitempty"`
}

// Timeline tells the course of a failure and of its repair for the traffic
// between two sites, at the slowest: the failure falls just after a probe. With
// no way left it ends at the detection. A pair that the failure does not move
// has none.
func (m *Model) Timeline(a, b int, parts ...Part) ([]Moment, error) {
	f, err := m.failing(parts)
	if err != nil {
		return nil, err
	}
	key := func(i int) string { return m.Plan.Site(i).Key }
	lanes := m.lanesOf(a, b)
	if a == b || lanes == nil {
		return nil, fmt.Errorf("%s and %s share no overlay", key(a), key(b))
	}
	bench := m.bench()
	bench.fail(&f)
	bench.touch(&f)
	// Of subnets that take different ways, those that the failure hits.
	var was, now, wasBack, back way
	hit := false
	for k := 0; k < len(lanes) && !hit; k++ {
		m.walk(m.none(), &lanes[k], a, b, &was)
		m.walk(m.none(), &lanes[k], b, a, &wasBack)
		m.walk(&bench.state, &lanes[k], a, b, &now)
		m.walk(&bench.state, &lanes[k], b, a, &back)
		hit = was.ok && (!was.same(&now) || !back.ok)
	}
	if !hit {
		return nil, nil
	}
	// The first tunnel that died on the way there, else on the way back.
	ways := append(slices.Clone(was.legs[:was.n]), wasBack.legs[:wasBack.n]...)
	died := func(p part) bool { return bench.state.dead[p.links[0]] || bench.state.dead[p.links[1]] }
	l := ways[max(0, slices.IndexFunc(ways, func(l leg) bool { return slices.ContainsFunc(m.parts(l, nil), died) }))]
	n := &m.nets[l.overlay]
	adjacency := &n.overlay.Adjacencies[l.adjacency]
	dead, share := m.tunnelsText(l, died)
	t := TimingOf(n.overlay.Spec.Probe)
	out := []Moment{{Phase: "fail", Text: fmt.Sprintf("%s fails; nothing gets through %s any more", partsText(parts), dead)}}
	if share < 1 {
		out[0].Text += fmt.Sprintf(", which took %.0f %% of the flows", 100*share)
	}
	var idle []string
	for _, site := range [2]int{adjacency.A, adjacency.B} {
		if !m.switching[site] && !bench.state.gone[site] {
			idle = append(idle, key(site))
		}
	}
	if len(idle) > 0 {
		return append(out, Moment{Phase: "switch", Text: fmt.Sprintf("nothing switches at %s: the dead tunnel stays in use until somebody acts", strings.Join(idle, " and "))}), nil
	}
	for i := range t.Misses {
		out = append(out, Moment{After: t.Interval*float64(i+1) + t.Timeout, Phase: "missed", Text: fmt.Sprintf("probe %d of %d gets no answer within %g s", i+1, t.Misses, t.Timeout)})
	}
	ends := key(adjacency.A) + " and " + key(adjacency.B) + " take"
	for i, site := range [2]int{adjacency.A, adjacency.B} {
		if bench.state.gone[site] {
			ends = key([2]int{adjacency.B, adjacency.A}[i]) + " takes"
		}
	}
	out[len(out)-1] = Moment{After: t.Detect, Phase: "detect", Text: fmt.Sprintf("probe %d of %d is missed too: %s the tunnel for dead", t.Misses, t.Misses, ends)}
	if !now.ok || !back.ok {
		at := now.at
		if now.ok {
			at = back.at
		}
		return append(out, Moment{After: t.Detect, Phase: "switch", Text: fmt.Sprintf("%s has no tunnel left for this traffic; its discard route takes it", key(at))}), nil
	}
	next := was.legs[0]
	for k := range now.n {
		if k >= was.n || now.legs[k] != was.legs[k] {
			next = now.legs[k]
			break
		}
	}
	stand, _ := m.tunnelsText(next, func(part) bool { return true })
	role, part := "stood by and is probed all the time", 0.0
	if share < 1 && next.overlay == l.overlay && next.adjacency == l.adjacency {
		role, part = "shared the load with it", share
	}
	out = append(out,
		Moment{After: t.Detect, Phase: "switch", Text: fmt.Sprintf("the routes lead into %s then, which %s", stand, role), Part: part},
		Moment{After: t.Detect, Phase: "recover", Text: fmt.Sprintf("traffic flows again, after at most %.3g s, at best %.3g s", t.Detect, t.Best)},
		Moment{After: 0, Repaired: true, Phase: "repair", Text: fmt.Sprintf("%s is repaired; probes through %s are answered again", partsText(parts), dead)},
		Moment{After: t.Return, Repaired: true, Phase: "hold", Text: fmt.Sprintf("%d probes in a row were answered; one miss would have started the count again, so a flapping link stays out", t.Successes)},
		Moment{After: t.Return, Repaired: true, Phase: "return", Text: fmt.Sprintf("traffic returns to %s without a gap", dead)},
	)
	return out, nil
}

// tunnelsText names those tunnels of a leg that are wanted and says what part
// of the flows takes them.
func (m *Model) tunnelsText(l leg, wanted func(part) bool) (text string, share float64) {
	tunnels := m.nets[l.overlay].overlay.Adjacencies[l.adjacency].Tunnels
	for _, p := range m.parts(l, nil) {
		if !wanted(p) {
			continue
		}
		if share > 0 {
			text += " and "
		}
		text += m.Plan.Ident(&tunnels[p.tunnel])
		share += p.of
	}
	return text, share
}

func partsText(parts []Part) string {
	text := ""
	for i, p := range parts {
		if i > 0 {
			text += " and "
		}
		kind := string(p.Kind)
		if p.Kind == Fate {
			kind = "shared fate"
		}
		text += kind + " " + p.Name
	}
	return text
}
