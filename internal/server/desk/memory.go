package desk

import (
	"context"
	"fmt"
	"sync"

	"golang.org/x/sync/singleflight"

	"wideknot/core/check"
)

// A memory keeps the latest derivations of drafts and releases, as many as weigh
// no more than mostKept together; those longest not used go first. However many
// pages ask for one at the same time, it is made once.
type memory struct {
	making singleflight.Group

	mu     sync.Mutex
	views  map[string]*kept
	clock  uint64
	weight int
}

type kept struct {
	view *View
	used uint64
}

// mostKept is in tunnels and subnets: an estate of 1,000 sites with three links
// each has 21,000, and takes about 40 MB.
const mostKept = 120_000

func draftID(draft uint64) string            { return fmt.Sprint("draft ", draft) }
func releaseID(estate, number uint64) string { return fmt.Sprintf("release %d %d", estate, number) }

func (v *View) id() string {
	if v.Fixed {
		return releaseID(v.estateID, v.Revision)
	}
	return draftID(v.draftID)
}

func (v *View) weight() int {
	n := 1000 + v.Plan.Tunnels()
	for i := range v.Estate.Sites {
		n += len(v.Estate.Sites[i].Subnets)
	}
	return n
}

// known returns the latest derivation, or nil.
func (m *memory) known(id string) *View {
	m.mu.Lock()
	defer m.mu.Unlock()
	k := m.views[id]
	if k == nil {
		return nil
	}
	m.clock++
	k.used = m.clock
	return k.view
}

// keep remembers a derivation, unless there is a later one.
func (m *memory) keep(v *View) {
	m.mu.Lock()
	defer m.mu.Unlock()
	id := v.id()
	if old := m.views[id]; old != nil {
		if old.view.Revision > v.Revision {
			return
		}
		m.drop(id)
	}
	m.clock++
	m.views[id] = &kept{v, m.clock}
	m.weight += v.weight()
	for m.weight > mostKept && len(m.views) > 1 {
		oldest := ""
		for other, k := range m.views {
			if oldest == "" || k.used < m.views[oldest].used {
				oldest = other
			}
		}
		m.drop(oldest)
	}
}

// drop forgets a derivation under the lock.
func (m *memory) drop(id string) {
	if k := m.views[id]; k != nil {
		m.weight -= k.view.weight()
		delete(m.views, id)
	}
}

// forget forgets the derivation of what nobody works on any more.
func (m *memory) forget(id string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.drop(id)
}

// make has a view made once for all that ask for the same. It goes on when who
// asked first gives up, for the others.
func (m *memory) make(ctx context.Context, id string, revision uint64, do func(context.Context) (*View, error)) (*View, error) {
	made := m.making.DoChan(fmt.Sprint(id, " ", revision), func() (any, error) {
		v, err := do(context.WithoutCancel(ctx))
		if err == nil {
			m.keep(v)
		}
		return v, err
	})
	select {
	case <-ctx.Done():
		return nil, ctx.Err()
	case r := <-made:
		if r.Err != nil {
			return nil, r.Err
		}
		return r.Val.(*View), nil
	}
}

// queues let the edits of a draft in this process wait their turn outside the
// database, so that those who wait hold no connection. A queue is there as long
// as somebody is in it.
type queues struct {
	mu   sync.Mutex
	byID map[uint64]*queue
}

type queue struct {
	sync.Mutex
	in int
}

// enter waits for the turn and returns how to end it.
func (q *queues) enter(draft uint64) (leave func()) {
	q.mu.Lock()
	one := q.byID[draft]
	if one == nil {
		one = &queue{}
		q.byID[draft] = one
	}
	one.in++
	q.mu.Unlock()
	one.Lock()
	return func() {
		one.Unlock()
		q.mu.Lock()
		defer q.mu.Unlock()
		if one.in--; one.in == 0 {
			delete(q.byID, draft)
		}
	}
}

// waiting reports whether an edit of the draft is at work or waits.
func (q *queues) waiting(draft uint64) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.byID[draft] != nil
}

// FindingsKnown counts the findings of the states that are in memory.
func (d *Desk) FindingsKnown() map[check.Severity]int {
	d.memory.mu.Lock()
	defer d.memory.mu.Unlock()
	out := map[check.Severity]int{check.Error: 0, check.Warning: 0, check.Note: 0}
	for _, k := range d.memory.views {
		list, _ := k.view.FindingsNow()
		for severity, n := range check.Count(list) {
			out[severity] += n
		}
	}
	return out
}
