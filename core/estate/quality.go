package estate

import (
	"fmt"
	"slices"
	"strings"
)

// Limits are what the traffic of some zones wants of a tunnel. Among the tunnels of two
// sites those within come before those beyond, for these zones; the order is as it was
// for others, and by which neighbour a packet goes is not changed. A limit of zero is
// none. Latency is of the round trip, jitter the mean difference between one round trip
// and the next, loss that of the worse direction.
type Limits struct {
	LatencyMs   float64  `json:"latency_ms,omitempty"`
	JitterMs    float64  `json:"jitter_ms,omitempty"`
	LossPercent float64  `json:"loss_percent,omitempty"`
	WindowS     int      `json:"window_s,omitempty"` // over which it is measured
	Zones       []string `json:"zones" max:"64"`
}

// DefaultWindowS is the window of limits that name none, in seconds.
const DefaultWindowS = 30

// Margin is the part of a limit that a tunnel beyond it must keep to for a whole window
// before it counts as within again.
const Margin = 0.8

// MaxLimited is how many overlays of an estate may have limits: packets are marked with
// one bit for each.
const MaxLimited = 4

// A Quality is what a link or a tunnel is like: milliseconds there and back, the same for
// how much that varies, and per cent lost each way.
type Quality struct {
	LatencyMs   float64 `json:"latency_ms,omitempty"`
	JitterMs    float64 `json:"jitter_ms,omitempty"`
	LossPercent float64 `json:"loss_percent,omitempty"`
}

// Through is the quality of two stretches one after the other: latencies and, at worst,
// jitters add up; what the first lets through the second may lose.
func (q Quality) Through(r Quality) Quality {
	return Quality{q.LatencyMs + r.LatencyMs, q.JitterMs + r.JitterMs, 100 - (100-q.LossPercent)*(100-r.LossPercent)/100}
}

// Exceeded lists the limits that a quality is beyond, in words; nil limits are kept to by
// all.
func (l *Limits) Exceeded(q Quality) (out []string) {
	if l == nil {
		return nil
	}
	for _, one := range []struct {
		name, unit string
		is, limit  float64
	}{{"latency", "ms", q.LatencyMs, l.LatencyMs}, {"jitter", "ms", q.JitterMs, l.JitterMs}, {"loss", "%", q.LossPercent, l.LossPercent}} {
		if one.limit > 0 && one.is > one.limit*(1+1e-9) {
			out = append(out, fmt.Sprintf("%s %.3g %s of at most %g", one.name, one.is, one.unit, one.limit))
		}
	}
	return out
}

// Words puts the limits in words: "latency 150 ms, loss 1 %".
func (l *Limits) Words() string {
	var parts []string
	if l.LatencyMs > 0 {
		parts = append(parts, fmt.Sprintf("latency %g ms", l.LatencyMs))
	}
	if l.JitterMs > 0 {
		parts = append(parts, fmt.Sprintf("jitter %g ms", l.JitterMs))
	}
	if l.LossPercent > 0 {
		parts = append(parts, fmt.Sprintf("loss %g %%", l.LossPercent))
	}
	return strings.Join(parts, ", ")
}

// Limits are those of the overlay's tunnels, nil where it has none.
func (o *Overlay) Limits() *Limits {
	if o.Probe == nil {
		return nil
	}
	return o.Probe.Limits
}

// Holds reports whether what two subnets of these zones send each other is held to the
// overlay's limits: either asks for it.
func (o *Overlay) Holds(near, far string) bool {
	l := o.Limits()
	return l != nil && (near != "" && slices.Contains(l.Zones, near) || far != "" && slices.Contains(l.Zones, far))
}

// KeepsLimits reports whether a gateway puts the tunnels of an overlay in order by its
// limits: wideknot gateway does, for those of WireGuard.
func (g *Gateway) KeepsLimits(o *Overlay) bool {
	return o.Limits() != nil && g.Switches && (g.Target == "" || g.Target == TargetLinux) && o.Transport != IPsec
}

// limited lists what is wrong with the limits of a probe profile.
func (v *validator) limited(path string, p *Probe) {
	l := p.Limits
	if l == nil {
		return
	}
	v.between(path+".latency_ms", "latency in ms", l.LatencyMs, 1, 10000)
	v.between(path+".jitter_ms", "jitter in ms", l.JitterMs, 0.1, 10000)
	v.between(path+".loss_percent", "loss in per cent", l.LossPercent, 0.01, 50)
	v.between(path+".window_s", "window in seconds", float64(l.WindowS), 1, 600)
	if l.LatencyMs == 0 && l.JitterMs == 0 && l.LossPercent == 0 {
		v.fail(path, "limits limit something: give latency_ms, jitter_ms or loss_percent")
	}
	full := p.Full()
	if least := (10*full.IntervalMs + 999) / 1000; full.Limits.WindowS < least {
		v.fail(path+".window_s", "a window of %d s has fewer than 10 probes of one in %d ms; it needs %d s", full.Limits.WindowS, full.IntervalMs, least)
	}
	if len(l.Zones) == 0 {
		v.fail(path+".zones", "say which zones are held to the limits")
	}
	for i, z := range l.Zones {
		if !isKey(z) || slices.Index(l.Zones, z) < i {
			v.fail(fmt.Sprintf("%s.zones[%d]", path, i), "%q must be a zone, each once", brief(z))
		}
	}
}

// limitedOverlays refuses more overlays with limits than packets have marks for.
func (v *validator) limitedOverlays(e *Estate) {
	n := 0
	for i := range e.Overlays {
		if e.Overlays[i].Limits() != nil {
			if n++; n > MaxLimited {
				v.limitless(fmt.Sprintf("overlays[%d].probe.limits", i))
			}
		}
	}
}

// limitedBeside refuses an overlay's limits where enough others have some.
func (v *validator) limitedBeside(e *Estate, o *Overlay) {
	n := 0
	for i := range e.Overlays {
		if e.Overlays[i].Key != o.Key && e.Overlays[i].Limits() != nil {
			n++
		}
	}
	if o.Limits() != nil && n >= MaxLimited {
		v.limitless("probe.limits")
	}
}

func (v *validator) limitless(path string) {
	v.fail(path, "at most %d overlays of an estate may have limits", MaxLimited)
}
