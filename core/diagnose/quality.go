package diagnose

import (
	"fmt"

	"wideknot/core/gateway"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// Figures by which what is poor is told.
const (
	lossyPPM   = 20_000  // 2 %
	slowUs     = 100_000 // of a round trip, beyond what the survey says of the two links
	fewLost    = 3       // probes: fewer may be chance
	manyLost   = 6       // and fewer than these do not make it sure
	windowOf   = 100     // probes that a gateway's figures are of
	oneWayPart = 4       // the other direction loses less than a fourth of it
	fullPart   = 0.9     // of a link's figure
	rateFor    = 2000    // ms in which a rate is measured
)

// largeLost says where large packets vanish, as the small ones come through.
func (d *diagnoser) largeLost(e gateway.Echoed) {
	c := Cause{
		Code: LargeLost, Sure: Likely, Words: "large packets vanish on the way, and nobody says so",
		Evidence: []string{fmt.Sprintf("an echo of %d bytes is answered, one of %d is not, which is what the tunnels are set to", e.Answered, d.now.MTU)},
		Repair:   Cure{Words: "Correct the MTU of the link in Survey and release it, or have the carrier let larger packets through.", Where: "survey"},
	}
	var poor []string // sites of tunnels that are too narrow
	for i := range d.now.Forward.Steps {
		for _, p := range sidesOf(d.plan, d.now.Forward.Steps[i].Hop.End) {
			s := d.side(p)
			if s.state != nil && s.is != nil && s.state.PathMTU > 0 && s.state.PathMTU < s.is.MTU {
				c.Evidence = append(c.Evidence, fmt.Sprintf("%s measures %d bytes in %s, which is set to %d", s.key, s.state.PathMTU, s.port.Interface, s.is.MTU))
				c.Sure, c.Site, c.Tunnel = Sure, s.key, s.port.Interface
				poor = append(poor, s.key)
			}
			if s.wan != nil && s.wan.PathMTU > 0 && s.wan.PathMTU < s.link.MTUOf() {
				c.Evidence = append(c.Evidence, fmt.Sprintf("%s carries %d bytes, and the survey says %d", s.name(), s.wan.PathMTU, s.link.MTUOf()))
				c.Sure, c.Site, c.Link = Sure, s.key, s.link.Key
			}
		}
	}
	if c.Site == "" && len(d.now.Forward.Steps) == 1 {
		s := d.side(sidesOf(d.plan, d.now.Forward.Steps[0].Hop.End)[0])
		c.Sure, c.Site, c.Tunnel = Sure, s.key, s.port.Interface // there is but the one tunnel
	}
	c.Repair.Site = c.Site
	for i := range d.out.Steps {
		if s := &d.out.Steps[i]; s.Kind == "tunnel" && s.Verdict == Arrives && (len(poor) == 0 || s.Site == c.Site || s.Far == c.Site) {
			s.Verdict, s.Said = Poor, "large packets vanish"
		}
	}
	d.cause(c)
}

// seeQuality looks at losses of the tunnels that carry, and whether a link is full.
func (d *diagnoser) seeQuality() {
	done := map[*tunnel.Tunnel]bool{}
	for _, w := range []*route.Walk{&d.now.Forward, d.now.Return} {
		if w == nil || !d.now.Arrives() {
			continue
		}
		for i := range w.Steps {
			if done[w.Steps[i].Tunnel] {
				continue
			}
			done[w.Steps[i].Tunnel] = true
			ends := sidesOf(d.plan, w.Steps[i].Hop.End)
			d.losses(d.side(ends[0]), d.side(ends[1]))
		}
	}
}

// losses looks at the losses of a tunnel each way, as both ends count them.
func (d *diagnoser) losses(a, b *side) {
	if a.state == nil && b.state == nil {
		return
	}
	out, back := 0, 0 // from a to b, and back
	lost := 0         // probes
	for _, s := range []*side{a, b} {
		if s.state == nil || s.young() {
			continue
		}
		o, k := s.state.LossOutPPM, s.state.LossBackPPM
		if s == b {
			o, k = k, o
		}
		out, back = max(out, o), max(back, k)
		lost = max(lost, max(o, k)*min(int(s.state.Sent), windowOf)/1_000_000)
	}
	if lost < fewLost {
		out, back = 0, 0 // it may be chance
	}
	if max(out, back) < lossyPPM && !slow(a, b) {
		return
	}
	d.poor = true
	if full, known := d.full(a, b); full || !known || max(out, back) < lossyPPM {
		return
	}
	c := Cause{
		Code: Lossy, Sure: Sure, Site: a.key, Link: a.link.Key, Tunnel: a.port.Interface,
		Words:    fmt.Sprintf("the tunnel between %s and %s loses packets both ways", a.name(), b.name()),
		Evidence: []string{fmt.Sprintf("of what %s sends %.1f %% is lost, of what %s sends %.1f %%", a.key, float64(out)/1e4, b.key, float64(back)/1e4)},
		Repair:   Cure{Words: fmt.Sprintf("Tell %s; until then let quality move traffic to a standby.", carriers(a, b)), Where: "shape"},
	}
	if lost < manyLost {
		c.Sure = Likely
	}
	worse, from, to := max(out, back), a, b
	if back > out {
		from, to = b, a
	}
	if min(out, back)*oneWayPart < worse {
		c.Code, c.Site, c.Link, c.Tunnel = LossyOneWay, from.key, from.link.Key, from.port.Interface
		c.Words = fmt.Sprintf("what %s sends to %s is lost in part; the other way is well", from.name(), to.name())
	}
	for i := range d.out.Steps {
		if s := &d.out.Steps[i]; s.Kind == "tunnel" && s.Verdict == Arrives && len(s.Ends) == 2 && (s.Ends[0].Interface == a.port.Interface && s.Site == a.key || s.Ends[0].Interface == b.port.Interface && s.Site == b.key) {
			s.Verdict, s.Said = Poor, fmt.Sprintf("loses %.1f %%", float64(worse)/1e4)
		}
	}
	d.cause(c)
}

// lossFor is for how long what a tunnel lost while it was dead is among its losses.
const lossFor = 180 // seconds

// young reports whether a tunnel lives again since a short while only: its figures are of before,
// too.
func (s *side) young() bool {
	if s.g.State == nil {
		return false
	}
	since, ok := s.state.Since.Seconds()
	now, known := s.g.State.At.Seconds()
	return ok && known && now-since < lossFor // else it never was dead
}

// slow reports whether a round trip takes much longer than the survey says.
func slow(a, b *side) bool {
	expected := int(1000 * (a.link.LatencyMs + b.link.LatencyMs))
	for _, s := range []*side{a, b} {
		if s.state != nil && s.state.Up && s.state.LatencyUs > expected+slowUs {
			return true
		}
	}
	return false
}

// full looks whether a link at either end carries as much as it can; known is false while that
// is being looked at.
func (d *diagnoser) full(a, b *side) (full, known bool) {
	known = true
	for _, s := range []*side{a, b} {
		if !s.g.Up || s.g.Wants == nil {
			continue
		}
		rate, looked := d.rate(s)
		l := s.g.Wants.Link(s.link.Key)
		if l == nil || l.Up == 0 && l.Down == 0 {
			continue
		}
		if !looked {
			known = false
			continue
		}
		for _, x := range []struct {
			direction string
			is, most  float64
		}{{"leave", rate.out, float64(l.Up) / 1000}, {"arrive", rate.in, float64(l.Down) / 1000}} {
			if x.most == 0 || x.is < fullPart*x.most {
				continue
			}
			full = true
			d.cause(Cause{
				Code: LinkFull, Sure: Sure, Site: s.key, Link: s.link.Key, Words: fmt.Sprintf("the link %s of %s is full", s.link.Key, s.key),
				Evidence: []string{fmt.Sprintf("%.1f of %.1f Mbit/s %s by it, in tunnels alone", x.is, x.most, x.direction), d.suffers(a, b)},
				Repair:   Cure{Words: "Let less important traffic go by another link, or order a larger one; see who sends in its tunnels.", Where: "shape", Site: s.key},
			})
			for i := range d.out.Steps {
				if step := &d.out.Steps[i]; step.Kind == "tunnel" && step.Verdict == Arrives && (step.Site == s.key && step.Ends[0].Link == s.link.Key || step.Far == s.key && step.Ends[1].Link == s.link.Key) {
					step.Verdict, step.Said = Poor, "a link is full"
				}
			}
		}
	}
	return full, known
}

// suffers says how a tunnel fares.
func (d *diagnoser) suffers(a, b *side) string {
	latency, loss := 0, 0
	for _, s := range []*side{a, b} {
		if s.state != nil {
			latency, loss = max(latency, s.state.LatencyUs), max(loss, s.state.LossOutPPM, s.state.LossBackPPM)
		}
	}
	return fmt.Sprintf("a round trip by %s takes %.0f ms, and %.1f %% is lost", a.port.Interface, float64(latency)/1000, float64(loss)/1e4)
}

type rates struct{ in, out float64 } // Mbit/s

// outerRoom is about what a packet in a tunnel has around it on the link, for 1,200 bytes: the
// counters count what WireGuard sends, without the headers of IP and UDP.
const outerRoom = 1.03

// rate is what the tunnels of a link carried while they were looked at.
func (d *diagnoser) rate(s *side) (out rates, looked bool) {
	l := s.g.Looked
	for i := range s.g.Wants.Tunnels {
		t := &s.g.Wants.Tunnels[i]
		if t.Link != s.link.Key {
			continue
		}
		seen := l.Of(t.Interface)
		if seen == nil || l.For < 1000 {
			d.look(s.key, t.Interface, rateFor)
			continue
		}
		looked = true
		out.in += float64(seen.BytesIn) * 8 / float64(l.For) / 1000 * outerRoom
		out.out += float64(seen.BytesOut) * 8 / float64(l.For) / 1000 * outerRoom
	}
	return out, looked
}
