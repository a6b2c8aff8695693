package fleet

import (
	"container/heap"
	"context"
	"sync"
	"time"
)

// A wire carries packets that take their time: one goroutine delivers them in order. What is
// on its way is bounded over the whole fleet.
type wire struct {
	mu      sync.Mutex
	queue   deliveries
	bytes   int
	dropped uint64
	wake    chan struct{}
	serial  uint64
}

// mostOnWire is how much is on its way at once, in bytes.
const mostOnWire = 32 << 20

type delivery struct {
	at     time.Time
	serial uint64
	size   int
	do     func()
}

type deliveries []delivery

func (q deliveries) Len() int { return len(q) }
func (q deliveries) Less(i, j int) bool {
	if !q[i].at.Equal(q[j].at) {
		return q[i].at.Before(q[j].at)
	}
	return q[i].serial < q[j].serial
}
func (q deliveries) Swap(i, j int) { q[i], q[j] = q[j], q[i] }

// Push and Pop are for container/heap.
func (q *deliveries) Push(x any) { *q = append(*q, x.(delivery)) }
func (q *deliveries) Pop() any {
	old := *q
	last := old[len(old)-1]
	old[len(old)-1] = delivery{}
	*q = old[:len(old)-1]
	return last
}

func newWire() *wire { return &wire{wake: make(chan struct{}, 1)} }

// carry does something with a packet of a size at a time; where too much is on its way the
// packet is lost.
func (w *wire) carry(at time.Time, size int, do func()) {
	w.mu.Lock()
	if w.bytes+size > mostOnWire {
		w.dropped++
		w.mu.Unlock()
		return
	}
	w.bytes += size
	w.serial++
	heap.Push(&w.queue, delivery{at, w.serial, size, do})
	first := w.queue[0].serial == w.serial
	w.mu.Unlock()
	if first {
		select {
		case w.wake <- struct{}{}:
		default:
		}
	}
}

// run delivers until the context ends.
func (w *wire) run(ctx context.Context) {
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for {
		wait := time.Hour
		for {
			w.mu.Lock()
			if len(w.queue) == 0 {
				w.mu.Unlock()
				break
			}
			if rest := time.Until(w.queue[0].at); rest > 0 {
				wait = rest
				w.mu.Unlock()
				break
			}
			d := heap.Pop(&w.queue).(delivery)
			w.bytes -= d.size
			w.mu.Unlock()
			d.do()
		}
		timer.Reset(wait)
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		case <-w.wake:
		}
	}
}
