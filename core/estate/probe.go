package estate

import "cmp"

// A Probe says how a tunnel is found dead and alive again, and by whose answer. Times are in
// milliseconds, Misses and Successes in probes.
type Probe struct {
	Target     ProbeTarget `json:"target,omitempty"`
	IntervalMs int         `json:"interval_ms,omitempty"`
	Misses     int         `json:"misses,omitempty"`
	Successes  int         `json:"successes,omitempty"`
	TimeoutMs  int         `json:"timeout_ms,omitempty"`
	Limits     *Limits     `json:"limits,omitempty"`
}

// Full returns the profile with what it does not say; a nil profile says
// nothing. The figures are those of section 11 of the domain.
func (p *Probe) Full() Probe {
	var out Probe
	if p != nil {
		out = *p
	}
	out.Target = cmp.Or(out.Target, FarEnd)
	out.IntervalMs, out.TimeoutMs = cmp.Or(out.IntervalMs, 1000), cmp.Or(out.TimeoutMs, 800)
	out.Misses, out.Successes = cmp.Or(out.Misses, 3), cmp.Or(out.Successes, 5)
	if out.Limits != nil {
		limits := *out.Limits
		limits.WindowS = cmp.Or(limits.WindowS, DefaultWindowS)
		out.Limits = &limits
	}
	return out
}

// Times returns, in seconds, how long it takes at best and at most until a death
// is noticed, and until a return is: detection = interval × misses + timeout for
// a failure just after a probe, an interval less just before one; return =
// interval × successes (section 8 of the domain). A nil profile has those that
// Full gives it.
func (p *Probe) Times() (best, detect, back float64) {
	q := p.Full()
	interval, timeout := float64(q.IntervalMs)/1000, float64(q.TimeoutMs)/1000
	return interval*float64(q.Misses-1) + timeout, interval*float64(q.Misses) + timeout, interval * float64(q.Successes)
}

// ProbeTarget is what answers probes.
type ProbeTarget string

// FarEnd is the tunnel's own far end, meant when none is named: its answer proves
// the tunnel. FarLAN is the far gateway's address on its LAN: its answer proves
// that this side of the gateway is up too.
const (
	FarEnd ProbeTarget = "far-end"
	FarLAN ProbeTarget = "far-lan"
)
