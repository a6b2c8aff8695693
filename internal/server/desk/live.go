package desk

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"log/slog"
	"slices"
	"sync"
	"time"

	"wideknot/core/check"
	"wideknot/core/diff"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// An Event is something that open pages are told. ID is the revision after a
// step, 0 for events that need not be repeated after a gap.
type Event struct {
	ID   uint64
	Kind EventKind
	Data any

	written *written // shared by all pages that are told
}

type written struct {
	once sync.Once
	text []byte
	err  error
}

// event makes an event whose data is written as JSON once, however many pages
// are told.
func event(id uint64, kind EventKind, data any) Event {
	return Event{id, kind, data, &written{}}
}

// JSON returns the event's data as JSON.
func (e Event) JSON() ([]byte, error) {
	e.written.once.Do(func() { e.written.text, e.written.err = json.Marshal(e.Data) })
	return e.written.text, e.written.err
}

// EventKind is what an event tells.
type EventKind string

// The kinds of event, with the type of their data.
const (
	Stepped       EventKind = "step"         // Step
	Weighed       EventKind = "consequences" // Tally
	People        EventKind = "people"       // []Presence
	GatewaysMoved EventKind = "gateways"     // []GatewayRow: those that changed
	Lost          EventKind = "lost"         // nil: too much was missed; load everything anew
)

// A Weighing is what a draft changes against its base.
type Weighing struct {
	Tally
	Changes *diff.Consequences `json:"changes"`
}

// A Tally is a weighing in figures, as streamed.
type Tally struct {
	Revision       uint64                 `json:"revision"`
	Base           uint64                 `json:"base" doc:"release it is compared with"`
	Release        uint64                 `json:"release" doc:"release in force"`
	Parts          int                    `json:"parts" doc:"sites and overlays that differ"`
	TunnelsAdded   int                    `json:"tunnels_added"`
	TunnelsRemoved int                    `json:"tunnels_removed"`
	TunnelsChanged int                    `json:"tunnels_changed"`
	RoutesMoved    int                    `json:"routes_moved"`
	MovedAt        int                    `json:"moved_at" doc:"sites at which routes move"`
	Touched        int                    `json:"touched" doc:"sites whose tunnels or routes differ"`
	FindingsNew    map[check.Severity]int `json:"findings_new"`
	FindingsGone   map[check.Severity]int `json:"findings_gone"`
	CutPairs       int                    `json:"cut_pairs"`
	JoinedPairs    int                    `json:"joined_pairs"`
	CutOff         []string               `json:"cut_off" doc:"sites that reach nobody any more, at most 20"`
	CutOffCount    int                    `json:"cut_off_count"`
}

func weighingOf(v *View, c *diff.Consequences) *Weighing {
	count := func(s diff.Set) int { return len(s.Added) + len(s.Removed) + len(s.Changed) }
	return &Weighing{Tally{
		Revision: v.Revision, Base: v.Base, Release: v.Latest, Parts: count(c.Sites) + count(c.Overlays),
		TunnelsAdded: len(c.Tunnels.Added), TunnelsRemoved: len(c.Tunnels.Removed), TunnelsChanged: len(c.Tunnels.Changed),
		RoutesMoved: c.Moved, MovedAt: c.MovedAt, Touched: len(c.Touched),
		FindingsNew: check.Count(c.FindingsNew), FindingsGone: check.Count(c.FindingsGone),
		CutPairs: c.CutPairs, JoinedPairs: c.JoinedPairs, CutOff: c.CutOff[:min(len(c.CutOff), 20)], CutOffCount: len(c.CutOff),
	}, c}
}

// A Presence is someone who has the draft open.
type Presence struct {
	Account uint64 `json:"account"`
	Name    string `json:"name"`
	Pages   int    `json:"pages"`
}

// How often what is asked. Steps of this process are told at once; those of
// other servers within pulseEvery.
const (
	pulseEvery    = 200 * time.Millisecond
	presenceEvery = 2 * time.Second
	changedEvery  = 500 * time.Millisecond // when pages came or went here
	weighEvery    = 500 * time.Millisecond // at least, while edits queue
	appearEvery   = 10 * time.Second
	goneAfter     = 25 * time.Second
	mostMissed    = 500 // steps that are repeated after a gap
	queueLength   = 64  // events that a slow page may be behind
)

// A watch tells the pages that have a draft open what happens to it. Each
// process has one for each draft that somebody watches there; it reads what
// happened from the database, where every server writes it.
type watch struct {
	d      *Desk
	at     Place
	draft  uint64
	estate uint64
	poked  chan struct{}
	done   chan struct{}

	revision uint64 // told last; this and what follows is for run alone
	told     int    // pages that were written down last
	appeared time.Time
	weighed  time.Time
	gateways gatewayPulse

	mu      sync.Mutex
	pages   map[string]page
	tally   *Event // of the latest tally
	people  *Event
	changed bool // pages came or went since people were looked for
}

type page struct {
	events chan Event
	who    identity.Actor
}

// Watch streams what happens to a draft from now on, or, after a gap, from the
// revision after which events were missed. The channel is closed when the page
// is too slow, or the desk closes; the page then comes again. leave ends it.
func (d *Desk) Watch(ctx context.Context, at Place, after uint64) (<-chan Event, func(), error) {
	view, err := d.View(ctx, at)
	if err != nil {
		return nil, nil, err
	}
	if view.Fixed {
		return nil, nil, ErrFixed
	}
	who, stream := identity.ActorOf(ctx), rand.Text()
	room := queueLength
	if after > 0 && after < view.Revision {
		room += int(min(view.Revision-after, mostMissed)) + 16
	}
	events := make(chan Event, room)
	// First listen, then ask what was missed: some may be told twice, none never.
	w := d.join(at, view, stream, page{events, who})
	if w == nil {
		close(events)
		return events, func() {}, nil
	}
	missed, err := d.missed(ctx, view.draftID, after)
	if err != nil {
		w.leave(stream)
		return nil, nil, err
	}
	w.send(stream, missed...)
	return events, sync.OnceFunc(func() {
		w.leave(stream)
		_ = d.store.InTransaction(context.WithoutCancel(ctx), func(tx *store.Tx) error { return tx.Leave(stream) }) // or it fades
		d.poke(view.draftID)
	}), nil
}

// missed lists the steps after a revision, or says that they are too many.
func (d *Desk) missed(ctx context.Context, draft, after uint64) ([]Event, error) {
	if after == 0 {
		return nil, nil
	}
	var rows []store.Edit
	err := d.store.Snapshot(ctx, func(tx *store.Tx) error {
		var err error
		rows, err = tx.StepsAfter(draft, after, mostMissed+1)
		return err
	})
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	if len(rows) > mostMissed {
		return []Event{event(0, Lost, nil)}, nil
	}
	return steps(rows)
}

func steps(rows []store.Edit) ([]Event, error) {
	out := make([]Event, len(rows))
	for i, row := range rows {
		_, step, err := stepOf(row)
		if err != nil {
			return nil, err
		}
		out[i] = event(step.Revision, Stepped, step)
	}
	return out, nil
}

// join adds a page to the watch of a draft, begun when there is none, and tells
// it what the others know. A page whose state is older than the tally's
// revision loads it anew.
func (d *Desk) join(at Place, v *View, stream string, p page) *watch {
	defer d.poke(v.draftID)
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.closed {
		return nil
	}
	w := d.watches[v.draftID]
	if w == nil {
		w = &watch{
			d: d, at: at, draft: v.draftID, estate: v.estateID, poked: make(chan struct{}, 1), done: make(chan struct{}),
			pages: map[string]page{}, revision: v.Revision,
		}
		d.watches[v.draftID] = w
		go w.run()
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.pages[stream] = p
	w.changed = true
	for _, known := range []*Event{w.tally, w.people} {
		if known != nil {
			p.events <- *known
		}
	}
	return w
}

// poke tells a draft's watch that something happened.
func (d *Desk) poke(draft uint64) {
	d.mu.Lock()
	w := d.watches[draft]
	d.mu.Unlock()
	if w != nil {
		select {
		case w.poked <- struct{}{}:
		default: // it is awake already
		}
	}
}

// Close ends all streams, so that the server can stop.
func (d *Desk) Close() {
	d.mu.Lock()
	d.closed = true
	watches := d.watches
	d.watches = map[uint64]*watch{}
	d.mu.Unlock()
	for _, w := range watches {
		close(w.done)
		w.mu.Lock()
		for stream, page := range w.pages {
			delete(w.pages, stream)
			close(page.events)
		}
		w.mu.Unlock()
	}
}

func (w *watch) leave(stream string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if page, there := w.pages[stream]; there {
		delete(w.pages, stream)
		close(page.events)
	}
	w.changed = true
}

// tell sends events to every page.
func (w *watch) tell(events ...Event) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for stream := range w.pages {
		w.put(stream, events)
	}
}

// send sends events to one page.
func (w *watch) send(stream string, events ...Event) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.put(stream, events)
}

// put sends events to a page under the lock; one that does not keep up is let
// go, and comes again.
func (w *watch) put(stream string, events []Event) {
	page, there := w.pages[stream]
	if !there {
		return
	}
	for _, e := range events {
		select {
		case page.events <- e:
		default:
			delete(w.pages, stream)
			close(page.events)
			w.changed = true
			return
		}
	}
}

// run asks the database what happened until nobody listens any more.
func (w *watch) run() {
	ctx := context.Background()
	pulse := time.NewTicker(pulseEvery)
	defer pulse.Stop()
	var people time.Time
	for {
		select {
		case <-w.done:
			return
		case <-pulse.C:
		case <-w.poked:
		}
		if w.over() {
			return
		}
		if err := w.look(ctx); err != nil {
			slog.Debug("watching a draft", "draft", w.at.Draft, "error", err) // the database may be away; the next look tells
			continue
		}
		if err := w.lookAtGateways(ctx); err != nil {
			slog.Debug("looking at gateways", "estate", w.at.Estate, "error", err)
		}
		if since := time.Since(people); since > presenceEvery || since > changedEvery && w.moved() {
			people = time.Now()
			if err := w.lookAround(ctx); err != nil {
				slog.Debug("looking who is there", "draft", w.at.Draft, "error", err)
			}
		}
	}
}

// over ends the watch when it has no page.
func (w *watch) over() bool {
	w.d.mu.Lock()
	defer w.d.mu.Unlock()
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.pages) > 0 {
		return false
	}
	if w.d.watches[w.draft] == w {
		delete(w.d.watches, w.draft)
	}
	return true
}

func (w *watch) look(ctx context.Context) error {
	var revision, release uint64
	var rows []store.Edit
	err := w.d.store.Snapshot(ctx, func(tx *store.Tx) error {
		var err error
		if revision, release, err = tx.Pulse(w.draft); err != nil || revision <= w.revision {
			return err
		}
		rows, err = tx.StepsAfter(w.draft, w.revision, mostMissed)
		return err
	})
	if err != nil {
		return err
	}
	events, err := steps(rows)
	if err != nil {
		return err
	}
	if len(events) > 0 {
		w.revision = events[len(events)-1].ID
		w.tell(events...)
	}
	if w.tally != nil {
		if now := w.tally.Data.(Tally); now.Revision == w.revision && now.Release == release {
			return nil
		}
	}
	// While edits queue, what the last of them comes to is enough, now and then.
	if w.d.queues.waiting(w.draft) && time.Since(w.weighed) < weighEvery {
		return nil
	}
	weighing, err := w.d.Consequences(ctx, w.at)
	if err != nil {
		return err
	}
	w.weighed = time.Now()
	tally := event(0, Weighed, weighing.Tally)
	w.mu.Lock()
	w.tally = &tally
	w.mu.Unlock()
	w.tell(tally)
	return nil
}

// moved reports whether pages came or went since it was asked last.
func (w *watch) moved() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	moved := w.changed
	w.changed = false
	return moved
}

// appear writes down, in one transaction, that all pages here are there, when one
// came or some time has passed.
func (w *watch) appear(ctx context.Context) error {
	now := time.Now().UTC()
	w.mu.Lock()
	rows := make([]store.Presence, 0, len(w.pages))
	for stream, p := range w.pages {
		rows = append(rows, store.Presence{Stream: stream, DraftID: w.draft, AccountID: p.who.Account, Name: p.who.Name, SeenAt: now})
	}
	due := len(rows) != w.told || time.Since(w.appeared) > appearEvery
	w.mu.Unlock()
	if !due {
		return nil
	}
	err := w.d.store.InTransaction(ctx, func(tx *store.Tx) error { return tx.Appear(w.draft, rows, now.Add(-goneAfter)) })
	if err == nil {
		w.told, w.appeared = len(rows), time.Now()
	}
	return err
}

func (w *watch) lookAround(ctx context.Context) error {
	if err := w.appear(ctx); err != nil {
		return err
	}
	var rows []store.Presence
	err := w.d.store.Snapshot(ctx, func(tx *store.Tx) error {
		var err error
		rows, err = tx.Present(w.draft, time.Now().UTC().Add(-goneAfter))
		return err
	})
	if err != nil {
		return err
	}
	people := []Presence{}
	for _, row := range rows {
		i := slices.IndexFunc(people, func(p Presence) bool { return p.Account == row.AccountID })
		if i < 0 {
			i = len(people)
			people = append(people, Presence{Account: row.AccountID, Name: row.Name})
		}
		people[i].Pages++
	}
	if w.people != nil && slices.Equal(people, w.people.Data.([]Presence)) {
		return nil
	}
	now := event(0, People, people)
	w.mu.Lock()
	w.people = &now
	w.mu.Unlock()
	w.tell(now)
	return nil
}
