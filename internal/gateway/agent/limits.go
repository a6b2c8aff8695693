package agent

import (
	"fmt"
	"strings"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/internal/gateway/stamp"
)

// parts is into how many a window is divided: the figures of the last window are looked
// at after each.
const parts = 10

// A gauge tells whether a tunnel keeps to its limits. It is beyond them as soon as the
// figures of a window are, and within again when they kept to the margin at the end of
// each part of a whole window.
type gauge struct {
	beyond bool
	ring   [parts]part // the complete ones
	now    part
	ends   time.Time // of the part that goes on
	whole  int       // parts that are complete, in a row
	good   int       // looks in a row that found the margin kept, while beyond
	before time.Duration
}

// A part is what the probes of a part of a window found.
type part struct {
	answers, differences int
	trips, jitter        time.Duration // sums
	sent, out, back      int           // of the loss by direction
}

// answered counts an answer.
func (g *gauge) answered(r *stamp.Result) {
	if g.before > 0 {
		g.now.jitter += (r.RTT - g.before).Abs()
		g.now.differences++
	}
	g.before = r.RTT
	g.now.answers++
	g.now.trips += r.RTT
	g.now.sent, g.now.out, g.now.back = g.now.sent+r.Sent, g.now.out+r.LostOut, g.now.back+r.LostBack
}

// forget begins a new window. What the tunnel was it stays until that is over.
func (g *gauge) forget() { *g = gauge{beyond: g.beyond} }

// look reports whether the tunnel went beyond its limits or came back, and says by what.
func (g *gauge) look(l *gateway.Limits, at time.Time) (changed bool, words string) {
	if l.Window == 0 {
		changed = g.beyond
		g.forget()
		g.beyond = false
		return changed, "it has no limits any more"
	}
	length := time.Duration(l.Window) * time.Millisecond / parts
	if g.ends.IsZero() {
		g.ends = at.Add(length)
	}
	if at.Before(g.ends) {
		return false, ""
	}
	g.ring[g.whole%parts] = g.now
	g.now = part{}
	g.whole++
	if g.ends = g.ends.Add(length); g.ends.Before(at) { // the clock jumped
		g.forget()
		return false, ""
	}
	if g.whole < parts {
		return false, ""
	}
	is, any := g.figures()
	if !any {
		return false, ""
	}
	if !g.beyond {
		if over := is.over(l, 1); over != "" {
			g.beyond, g.good = true, 0
			return true, over
		}
		return false, ""
	}
	if is.over(l, estate.Margin) != "" {
		g.good = 0
		return false, ""
	}
	if g.good++; g.good < parts {
		return false, ""
	}
	g.beyond, g.good = false, 0
	return true, "it kept to them for a whole window"
}

// figures are in microseconds and in a million; the loss is of the worse direction.
type figures struct{ latency, jitter, loss float64 }

// figures are those of the last window.
func (g *gauge) figures() (out figures, any bool) {
	var sum part
	for i := range g.ring {
		p := &g.ring[i]
		sum.answers, sum.differences = sum.answers+p.answers, sum.differences+p.differences
		sum.trips, sum.jitter = sum.trips+p.trips, sum.jitter+p.jitter
		sum.sent, sum.out, sum.back = sum.sent+p.sent, sum.out+p.out, sum.back+p.back
	}
	if sum.answers == 0 {
		return out, false
	}
	out.latency = float64(sum.trips.Microseconds()) / float64(sum.answers)
	out.jitter = float64(sum.jitter.Microseconds()) / float64(max(1, sum.differences))
	if sum.sent > 0 {
		out.loss = float64(sum.out) / float64(sum.sent)
	}
	if came := sum.sent - sum.out; came > 0 {
		out.loss = max(out.loss, float64(sum.back)/float64(came))
	}
	out.loss *= 1_000_000
	return out, true
}

// over says which limits, or parts of them, are exceeded; nothing where none is.
func (f *figures) over(l *gateway.Limits, part float64) string {
	var list []string
	for _, one := range []struct {
		name  string
		is    float64
		limit int
		unit  string
		by    float64
	}{{"latency", f.latency, l.Latency, "ms", 1000}, {"jitter", f.jitter, l.Jitter, "ms", 1000}, {"loss", f.loss, l.Loss, "%", 10_000}} {
		if one.limit > 0 && one.is > float64(one.limit)*part {
			list = append(list, fmt.Sprintf("%s %.3g %s of at most %g", one.name, one.is/one.by, one.unit, float64(one.limit)/one.by))
		}
	}
	return strings.Join(list, ", ")
}

// gauge looks at the limits of a tunnel where this end decides: the one whose site sorts
// first, so that both ends order their tunnels alike.
func (p *prober) gauge(w *watched, now time.Time) {
	if !w.decides {
		return
	}
	changed, words := w.gauge.look(&w.tunnel.Probe.Limits, now)
	if !changed {
		return
	}
	p.tellLimits(w, w.gauge.beyond, ": "+words)
}

// tellLimits takes that a tunnel is beyond its limits, or within.
func (p *prober) tellLimits(w *watched, beyond bool, words string) {
	w.beyond = beyond
	kind, is := WithinLimits, "within its limits again"
	if beyond {
		kind, is = BeyondLimits, "beyond its limits"
	}
	p.events(kind, w.tunnel.Interface, "%s to %s/%s is %s%s", w.tunnel.Interface, w.tunnel.Peer, w.tunnel.PeerLink, is, words)
	p.signal(p.changed)
}
