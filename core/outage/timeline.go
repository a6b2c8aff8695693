package outage

import (
	"fmt"
	"slices"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/tunnel"
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
	bench := m.bench()
	bench.fail(&f)
	bench.touch(&f)
	c, err := m.firstHit(bench, a, b)
	if err != nil || c == nil {
		return nil, err
	}
	if len(f.links)+len(f.gates) == 0 {
		if c.now.same(&c.was) && c.now.exceeds() == c.was.exceeds() {
			return nil, nil // the way back never was there, and nothing changes
		}
		return m.degrading(c, parts), nil
	}
	// The first tunnel that died on the way there, else on the way back.
	ways := append(slices.Clone(c.was.legs[:c.was.n]), c.wasBack.legs[:c.wasBack.n]...)
	died := func(p flowPart) bool { return bench.state.dead[p.links[0]] || bench.state.dead[p.links[1]] }
	l := ways[max(0, slices.IndexFunc(ways, func(l leg) bool { return slices.ContainsFunc(m.parts(l, nil), died) }))]
	n := &m.nets[l.overlay]
	dead, share := m.tunnelsText(l, died)
	t := TimingOf(n.overlay.Spec.Probe)
	fail, repaired := "fails", "is repaired"
	if len(parts) > 1 {
		fail, repaired = "fail", "are repaired"
	}
	out := []Moment{{Phase: "fail", Text: fmt.Sprintf("%s %s; nothing gets through %s any more", partsText(parts), fail, dead)}}
	if share < 1 {
		out[0].Text += fmt.Sprintf(", which took %.0f %% of the flows", 100*share)
	}
	noticed, ok := m.noticed(bench, &n.overlay.Adjacencies[l.adjacency], t)
	if out = append(out, noticed...); !ok {
		return out, nil
	}
	if !c.now.ok || !c.nowBack.ok {
		at := c.now.at
		if c.now.ok {
			at = c.nowBack.at
		}
		return append(out, Moment{After: t.Detect, Phase: "switch", Text: fmt.Sprintf("%s has no tunnel left for this traffic; its discard route takes it", m.Plan.Site(at).Key)}), nil
	}
	next := c.other()
	stand, _ := m.tunnelsText(next, func(flowPart) bool { return true })
	role, part := "was on standby and is probed all the time", 0.0
	if share < 1 && next.overlay == l.overlay && next.adjacency == l.adjacency {
		role, part = "shared the load with it", share
	}
	return append(out,
		Moment{After: t.Detect, Phase: "switch", Text: fmt.Sprintf("the routes lead into %s then, which %s", stand, role), Part: part},
		Moment{After: t.Detect, Phase: "recover", Text: fmt.Sprintf("traffic flows again after at most %.3g s, at best %.3g s", t.Detect, t.Best)},
		Moment{After: 0, Repaired: true, Phase: "repair", Text: fmt.Sprintf("%s %s; probes through %s are answered again", partsText(parts), repaired, dead)},
		Moment{After: t.Return, Repaired: true, Phase: "hold", Text: fmt.Sprintf("%d probes in a row were answered; one miss would have started the count again, so a flapping link stays out", t.Successes)},
		Moment{After: t.Return, Repaired: true, Phase: "return", Text: fmt.Sprintf("traffic returns to %s without a gap", dead)},
	), nil
}

// other is the first leg that differs from before.
func (c *course) other() leg {
	for k := range c.now.n {
		if k >= c.was.n || c.now.legs[k] != c.was.legs[k] {
			return c.now.legs[k]
		}
	}
	return c.was.legs[0]
}

// degrading tells how what is held to limits leaves a tunnel that is slow or lossy. The
// one end that decides tells the other with its next probe.
func (m *Model) degrading(c *course, parts []Part) []Moment {
	k := 0
	for k < min(c.was.n, c.now.n)-1 && c.was.legs[k] == c.now.legs[k] {
		k++
	}
	l := c.was.legs[k]
	n := &m.nets[l.overlay]
	leaves, _ := m.tunnelsText(l, func(flowPart) bool { return true })
	limits := n.overlay.Spec.Probe.Full().Limits
	t := TimingOf(n.overlay.Spec.Probe)
	window := float64(limits.WindowS)
	seen, back := t.Degrading(limits)
	zones := strings.Join(limits.Zones, ", ")
	out := []Moment{
		{Phase: "fail", Text: fmt.Sprintf("%s; %s still carries, beyond its limits", partsText(parts), leaves)},
		{After: seen, Phase: "detect", Text: fmt.Sprintf("the figures of the last %g s are beyond %s; less than a whole window of them is enough where they are far beyond", window, limits.Words())},
	}
	if c.now.legs[k].same(l) {
		return append(out, Moment{After: seen, Phase: "switch", Text: fmt.Sprintf("no other tunnel between the two gateways is within the limits: %s stays", zones)})
	}
	next, _ := m.tunnelsText(c.now.legs[k], func(flowPart) bool { return true })
	return append(out,
		Moment{After: seen, Phase: "switch", Text: fmt.Sprintf("%s goes by %s; all else stays", zones, next)},
		Moment{Repaired: true, Phase: "repair", Text: fmt.Sprintf("%s is as it was", leaves)},
		Moment{After: 2 * window * 1.1, Repaired: true, Phase: "hold", Text: fmt.Sprintf("%s kept to %.0f %% of its limits for a whole window, so that it does not swing", leaves, estate.Margin*100)},
		Moment{After: back, Repaired: true, Phase: "return", Text: fmt.Sprintf("%s returns to %s", zones, leaves)},
	)
}

// firstHit is the course of the two sites' traffic: of subnets that take
// different ways, of those that the failure hits. It is nil when it hits none.
func (m *Model) firstHit(b *bench, from, to int) (*course, error) {
	lanes := m.lanesOf(from, to)
	if from == to || lanes == nil {
		return nil, fmt.Errorf("%s and %s share no overlay", m.Plan.Site(from).Key, m.Plan.Site(to).Key)
	}
	for k := range lanes {
		c := &course{}
		m.walk(m.none(), &lanes[k], from, to, &c.was)
		m.walk(m.none(), &lanes[k], to, from, &c.wasBack)
		m.walk(&b.state, &lanes[k], from, to, &c.now)
		m.walk(&b.state, &lanes[k], to, from, &c.nowBack)
		if c.was.ok && (!c.was.same(&c.now) || !c.nowBack.ok || c.now.exceeds() && !c.was.exceeds()) {
			return c, nil
		}
	}
	return nil, nil
}

// noticed tells how the two ends learn that a tunnel is dead; ok is false where
// an end that lives does not.
func (m *Model) noticed(b *bench, a *tunnel.Adjacency, t Timing) (out []Moment, ok bool) {
	var idle, alive []string
	for _, site := range [2]int{a.A, a.B} {
		if b.state.gone[site] {
			continue
		}
		alive = append(alive, m.Plan.Site(site).Key)
		if !m.switching[site] {
			idle = append(idle, m.Plan.Site(site).Key)
		}
	}
	if len(idle) > 0 {
		return []Moment{{Phase: "switch", Text: fmt.Sprintf("no automatic failover at %s: the dead tunnel stays in use until somebody intervenes", strings.Join(idle, " and "))}}, false
	}
	for i := range t.Misses {
		out = append(out, Moment{After: t.Interval*float64(i+1) + t.Timeout, Phase: "missed", Text: fmt.Sprintf("probe %d of %d gets no answer within %g s", i+1, t.Misses, t.Timeout)})
	}
	ends := strings.Join(alive, " and ") + " declares"
	if len(alive) > 1 {
		ends = strings.Join(alive, " and ") + " declare"
	}
	out[len(out)-1] = Moment{After: t.Detect, Phase: "detect", Text: fmt.Sprintf("probe %d of %d is missed too: %s the tunnel down", t.Misses, t.Misses, ends)}
	return out, true
}

// tunnelsText names those tunnels of a leg that are wanted and says what part
// of the flows takes them.
func (m *Model) tunnelsText(l leg, wanted func(flowPart) bool) (text string, share float64) {
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
		if p.Degree != Dead {
			text += " is " + string(p.Degree)
		}
	}
	return text
}
