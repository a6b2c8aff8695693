package agent

import (
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/stamp"
)

// window is how many probes the figures of a tunnel are of.
const window = 100

// A quality is what the last probes of a tunnel tell of it.
type quality struct {
	trips          [window]time.Duration // of answers
	at, n          int
	sent, out, bck [window]int // by answer
	Sent, Answered uint64
	lately         lately
}

// lately is what probes told since it was taken last.
type lately struct {
	probes, missed, lostOut, lostBack int
	trips, most, differences, before  time.Duration
	compared                          int
}

func (q *quality) missed() {
	q.Sent++
	q.lately.probes++
	q.lately.missed++
}

func (q *quality) answered(r *stamp.Result) {
	q.Sent++
	q.Answered++
	q.lately.answered(r)
	q.trips[q.at], q.sent[q.at], q.out[q.at], q.bck[q.at] = r.RTT, r.Sent, r.LostOut, r.LostBack
	q.at = (q.at + 1) % window
	q.n = min(q.n+1, window)
}

// latency is the mean of the round trips, and jitter the mean of the differences
// between one and the next.
func (q *quality) latency() (mean, jitter time.Duration) {
	if q.n == 0 {
		return 0, 0
	}
	first := (q.at - q.n + window) % window
	var before time.Duration
	for i := range q.n {
		t := q.trips[(first+i)%window]
		mean += t
		if i > 0 {
			jitter += (t - before).Abs()
		}
		before = t
	}
	return mean / time.Duration(q.n), jitter / time.Duration(max(1, q.n-1))
}

// loss is in a million, each way.
func (q *quality) loss() (out, back int) {
	sent, lostOut, lostBack := 0, 0, 0
	for i := range q.n {
		sent, lostOut, lostBack = sent+q.sent[i], lostOut+q.out[i], lostBack+q.bck[i]
	}
	if sent > 0 {
		out = lostOut * 1_000_000 / sent
	}
	if came := sent - lostOut; came > 0 {
		back = lostBack * 1_000_000 / came
	}
	return out, back
}

func (l *lately) answered(r *stamp.Result) {
	if l.before > 0 {
		l.differences += (r.RTT - l.before).Abs()
		l.compared++
	}
	l.probes, l.before = l.probes+1, r.RTT
	l.trips, l.most = l.trips+r.RTT, max(l.most, r.RTT)
	l.lostOut, l.lostBack = l.lostOut+r.LostOut, l.lostBack+r.LostBack
}

// take sums up what probes told since the call before.
func (l *lately) take(name string) gateway.TunnelSample {
	out := gateway.TunnelSample{
		Interface: name, Probes: l.probes, Missed: l.missed, LostOut: l.lostOut, LostBack: l.lostBack, MaxLatencyUs: int(l.most.Microseconds()),
		JitterUs: int((l.differences / time.Duration(max(1, l.compared))).Microseconds()),
	}
	if n := l.probes - l.missed; n > 0 {
		out.LatencyUs = int((l.trips / time.Duration(n)).Microseconds())
	}
	*l = lately{before: l.before}
	return out
}
