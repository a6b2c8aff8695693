package outage

import (
	"wideknot/core/estate"
)

// Timing is how long a tunnel's failure and return take to be noticed, in
// seconds (estate.Probe.Times), and what the probes prove.
type Timing struct {
	Interval  float64 `json:"interval"`
	Timeout   float64 `json:"timeout"`
	Misses    int     `json:"misses"`
	Successes int     `json:"successes"`
	Best      float64 `json:"best"`
	Detect    float64 `json:"detect"`
	Return    float64 `json:"return"`
	// What an answer to a probe proves, and what it does not.
	Proves  string `json:"proves"`
	Ignores string `json:"ignores"`
}

// Degrading is how long it takes until a tunnel that is beyond limits is left by what is held to
// them, and until it is taken again once it keeps to them, at most, in seconds. The figures are those
// of a window, looked at after each tenth of it; the end that decides tells the other with its
// next probe. A tunnel is taken again after a whole window within the margin.
func (t *Timing) Degrading(l *estate.Limits) (leave, back float64) {
	window, tell := float64(l.WindowS)*1.1, t.Timeout+t.Interval
	return window + tell, 2*window + tell
}

// TimingOf works out an overlay's timing.
func TimingOf(p *estate.Probe) Timing {
	q := p.Full()
	t := Timing{Interval: float64(q.IntervalMs) / 1000, Timeout: float64(q.TimeoutMs) / 1000, Misses: q.Misses, Successes: q.Successes}
	t.Best, t.Detect, t.Return = p.Times()
	t.Proves, t.Ignores = "the tunnel and the far gateway", "a dead LAN behind it: traffic goes on into the tunnel and is lost there"
	if q.Target == estate.FarLAN {
		t.Proves, t.Ignores = "the tunnel, the far gateway and its side of the LAN", "a single host there; and while the LAN is dead all tunnels to the site count as dead, though the gateway could be managed"
	}
	return t
}
