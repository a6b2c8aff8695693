package agent

import (
	"context"
	"fmt"
	"time"

	"wideknot/core/gateway"
	"wideknot/core/words"
	"wideknot/internal/gateway/stamp"
)

// held reports whether the tunnel is held down: none of its probes leave, are answered or taken. So
// both ends find it dead as they would find any, and traffic goes on by it until they do. It is
// let go by itself, whatever becomes of whoever asked.
func (w *watched) held(now time.Time) bool {
	return w.heldAs == gateway.HoldDead && now.Before(w.heldUntil)
}

// likened is what the tunnel is taken for by this end, or by the far one by what it said last.
func (w *watched) likened(now time.Time) gateway.HoldAs {
	if now.Before(w.heldUntil) && w.heldAs != gateway.HoldDead {
		return w.heldAs
	}
	if w.farHeldAs != gateway.HoldDead && now.Sub(w.farSaid) < detection(w.tunnel.Probe) {
		return w.farHeldAs
	}
	return gateway.HoldDead
}

// inDrill reports whether the tunnel is held still, or not well again since.
func (w *watched) inDrill(now time.Time) bool {
	return now.Before(w.heldUntil) || !w.alive(now) || w.beyond
}

// taken is an answer as the limits see it: of a tunnel that is taken for slow twice as late as
// its limits say, and twice as uneven; of one that is taken for lossy with all lost that was sent.
// What the gateway reports and measures stays as it is.
func (w *watched) taken(r stamp.Result, now time.Time) *stamp.Result {
	l := &w.tunnel.Probe.Limits
	switch w.likened(now) {
	case gateway.HoldSlow:
		w.worse++
		r.RTT += 2 * time.Duration(l.Latency) * time.Microsecond
		if w.worse%2 == 0 {
			r.RTT += 2 * time.Duration(l.Jitter) * time.Microsecond
		}
	case gateway.HoldLossy:
		r.LostOut, r.LostBack = r.Sent, 0
	}
	return &r
}

// Hold holds tunnels for a time, or lets them go.
func (a *Agent) Hold(ctx context.Context, h *gateway.Hold) error {
	if err := h.Check(); err != nil {
		return err
	}
	return a.do(ctx, func() error {
		a.prober.mu.Lock()
		defer a.prober.mu.Unlock()
		for _, name := range h.Interfaces {
			w := a.prober.watched[name]
			switch {
			case w == nil:
				return fmt.Errorf("there is no tunnel %s", name)
			case !w.probes():
				return fmt.Errorf("%s has no probes, so nobody would notice", name)
			case h.As != gateway.HoldDead && w.tunnel.Probe.Limits.Window == 0:
				return fmt.Errorf("%s is held to no limits, so nobody would notice", name)
			}
		}
		until := time.Now().Add(time.Duration(h.Seconds) * time.Second)
		for _, name := range h.Interfaces {
			w := a.prober.watched[name]
			if h.Seconds == 0 && h.As == gateway.HoldDead {
				w.life.forgive() // at either end: that it was dead tells nothing of it
			}
			if h.Seconds > 0 || !w.heldUntil.IsZero() {
				w.heldUntil, w.heldAs, w.drilled = until, h.As, true
			}
		}
		what := "held down"
		if h.As != gateway.HoldDead {
			what = "taken for " + string(h.As)
		}
		if h.Seconds > 0 {
			a.event(HeldDown, "", "%s %s for %d s, for a drill", words.Many(len(h.Interfaces), "tunnel is", "tunnels are"), what, h.Seconds)
		} else {
			a.event(HeldDown, "", "%s %s no longer", words.Many(len(h.Interfaces), "tunnel is", "tunnels are"), what)
		}
		return nil
	})
}
