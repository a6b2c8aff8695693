package agent

import (
	"context"
	"fmt"
	"time"

	"wideknot/core/gateway"
)

// held reports whether the tunnel is held down: none of its probes leave, are answered or taken. So
// both ends find it dead as they would find any, and traffic goes on by it until they do. It is
// let go by itself, whatever becomes of whoever asked.
func (w *watched) held(now time.Time) bool { return now.Before(w.heldUntil) }

// Hold holds tunnels down for a time, or lets them go.
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
			}
		}
		until := time.Now().Add(time.Duration(h.Seconds) * time.Second)
		for _, name := range h.Interfaces {
			w := a.prober.watched[name]
			if h.Seconds == 0 {
				w.life.forgive() // at either end: that it was dead tells nothing of it
			}
			if h.Seconds > 0 || !w.heldUntil.IsZero() {
				w.heldUntil, w.drilled = until, true
			}
		}
		if h.Seconds > 0 {
			a.event(HeldDown, "", "%d tunnels are held down for %d s, for a drill", len(h.Interfaces), h.Seconds)
		} else {
			a.event(HeldDown, "", "%d tunnels are held down no longer", len(h.Interfaces))
		}
		return nil
	})
}
