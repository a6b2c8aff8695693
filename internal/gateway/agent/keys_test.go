package agent

import (
	"context"
	"testing"
	"testing/synctest"
	"time"
)

// With a new key the one of two ends calls at once, the other a little later, and only where its
// far end has not come meanwhile: that may have a new key of its own by then.
func TestWhoCallsByANewKey(t *testing.T) { synctest.Test(t, whoCallsByANewKey) }

func whoCallsByANewKey(t *testing.T) {
	_, a, b, planeA, planeB := pair(t, 20)
	tunnels := len(planeA.applied.Tunnels)
	calls := func(r *running, p *tray, comes bool) (atOnce, later int) {
		t.Helper()
		p.mu.Lock()
		p.knocked, p.came = nil, time.Time{}
		p.mu.Unlock()
		know := func() int {
			p.mu.Lock()
			defer p.mu.Unlock()
			return len(p.knocked)
		}
		if err := r.do(context.Background(), func() error { r.knock(r.running.Config, time.Now(), nil); return nil }); err != nil {
			t.Fatal(err)
		}
		atOnce = know()
		time.Sleep(knockLate / 2)
		if comes {
			p.mu.Lock()
			p.came = time.Now()
			p.mu.Unlock()
		}
		time.Sleep(knockLate)
		return atOnce, know() - atOnce
	}
	first, second := a, b // by the names of their sites
	planes := [2]*tray{planeA, planeB}
	if planeB.applied.Site < planeA.applied.Site {
		first, second, planes = b, a, [2]*tray{planeB, planeA}
	}
	if now, later := calls(first, planes[0], true); now != tunnels || later != 0 {
		t.Errorf("the first calls %d at once and %d later, of %d", now, later, tunnels)
	}
	if now, later := calls(second, planes[1], false); now != 0 || later != tunnels {
		t.Errorf("the second calls %d at once and %d later, of %d", now, later, tunnels)
	}
	if now, later := calls(second, planes[1], true); now != 0 || later != 0 {
		t.Errorf("the second, to whom the first has come, calls %d at once and %d later", now, later)
	}
}
