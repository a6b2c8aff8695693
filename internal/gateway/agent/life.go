package agent

import (
	"time"

	"wideknot/core/gateway"
)

// Damping of tunnels that die soon after they came back, in probe intervals. The first
// such death holds a tunnel down for firstHold beyond its successes; each further one
// twice as long as the one before, up to longestHold. One that lived quiet long is
// forgiven.
const (
	firstHold   = 10
	longestHold = 300
	quiet       = 60
)

// A life is whether one end takes a tunnel for alive, by its own probes.
type life struct {
	dead      bool
	since     time.Time
	misses    int       // in a row, while alive
	successes int       // in a row, while dead
	returned  time.Time // when it came back last
	hold      time.Duration
	heldUntil time.Time
}

func intervals(p *gateway.Probe, n int) time.Duration {
	return time.Duration(n*p.Interval) * time.Millisecond
}

// miss counts a probe without an answer, and reports whether the tunnel died of it.
func (l *life) miss(p *gateway.Probe, at time.Time) bool {
	l.successes = 0
	if l.dead {
		return false
	}
	if l.misses++; l.misses < p.Misses {
		return false
	}
	if l.returned.IsZero() || at.Sub(l.returned) >= intervals(p, quiet) {
		l.hold = 0
	} else {
		l.hold = min(max(2*l.hold, intervals(p, firstHold)), intervals(p, longestHold))
	}
	l.dead, l.misses, l.since, l.heldUntil = true, 0, at, at.Add(l.hold)
	return true
}

// answer counts an answered probe, and reports whether the tunnel came back by it.
func (l *life) answer(p *gateway.Probe, at time.Time) bool {
	l.misses = 0
	if !l.dead {
		return false
	}
	if l.successes++; l.successes < p.Successes || at.Before(l.heldUntil) {
		return false
	}
	l.dead, l.successes, l.since, l.returned = false, 0, at, at
	return true
}

// steadies reports whether the tunnel is dead alone because it came and went: it would be back by its
// probes.
func (l *life) steadies(p *gateway.Probe, now time.Time) bool {
	return l.dead && l.successes >= p.Successes && now.Before(l.heldUntil)
}

// forgive forgets that the tunnel came and went.
func (l *life) forgive() { l.hold, l.heldUntil, l.returned = 0, time.Time{}, time.Time{} }

// detection is how long a death may take to be seen: interval × misses + timeout
// (domain, failover).
func detection(p *gateway.Probe) time.Duration {
	return intervals(p, p.Misses) + time.Duration(p.Timeout)*time.Millisecond
}
