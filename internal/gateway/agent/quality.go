package agent

import (
	"time"

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
}

func (q *quality) missed() { q.Sent++ }

func (q *quality) answered(r *stamp.Result) {
	q.Sent++
	q.Answered++
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
