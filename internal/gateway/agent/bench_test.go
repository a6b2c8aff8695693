package agent

import (
	"testing"
	"testing/synctest"
	"time"

	"wideknot/internal/gateway/stamp"
)

// heldUp is a socket whose packets go nowhere, on a machine that stands still once.
type heldUp struct {
	stamp.Conn
	after, stands int // packets, milliseconds
	at            []time.Time
}

func (h *heldUp) Write([]byte, stamp.Meta) error {
	if h.at = append(h.at, time.Now()); len(h.at) == h.after {
		time.Sleep(time.Duration(h.stands) * time.Millisecond)
	}
	return nil
}

// A gateway that was held up does not send at once what it did not send: the queue of a circuit
// would overflow, though the circuit carries the rate.
func TestWhatABenchMissedIsNotMadeUpFor(t *testing.T) {
	for _, c := range []struct{ stands, sent, together int }{ // packets of 1,250 bytes at 10 Mbit/s: one a millisecond
		{0, 1500, 5},
		{10, 1500, 15},  // any queue takes as many: the rate is kept
		{300, 1220, 25}, // of the 300 that were missed 20 are sent
		{1400, 500, 5},  // the step is over
	} {
		synctest.Test(t, func(t *testing.T) {
			h := &heldUp{after: 500, stands: c.stands}
			k := &bench{conn: h, size: 1250}
			got := k.step(t.Context(), 10_000)
			most := 0
			for i, first := 0, 0; i < len(h.at)-benchEnds; i++ {
				for h.at[i].Sub(h.at[first]) > benchTick {
					first++
				}
				most = max(most, i-first+1)
			}
			if got.Sent < c.sent-3 || got.Sent > c.sent+3 || most > c.together {
				t.Errorf("held up for %d ms: %d are sent, not %d; %d within %v, not %d at most", c.stands, got.Sent, c.sent, most, benchTick, c.together)
			}
		})
	}
}
