// Package events keeps what was not as designed, one event for one cause, and tells people who
// are away.
package events

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"wideknot/core/diagnose"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// Kinds of events.
const (
	Began  = "began"
	Ended  = "ended"
	Joined = "joined" // it turned out to be part of another trouble
)

// How long a trouble is to last before it is told, and to be gone: what belongs together is seen
// together by then.
const (
	turnEvery   = 400 * time.Millisecond
	settles     = 1200 * time.Millisecond
	settlesLate = 6 * time.Second // where what it goes by may be dead as a whole
	returns     = 3 * time.Second
	forgetEvery = time.Hour
)

// A Watcher looks after the events of estates.
type Watcher struct {
	Store  *store.Store
	Desk   *desk.Desk
	Sealer *identity.Sealer
	Name   string // of this server
	Log    *slog.Logger
	Teller *Teller // nil tells nobody

	estates map[uint64]*watched
	forgot  time.Time
}

// watched is an estate as this server saw it last.
type watched struct {
	pulse any
	begin map[string]time.Time // since when a trouble is seen that was not told
	gone  map[string]time.Time // since when one that was told is not seen
}

// Run looks after events until the context ends.
func (w *Watcher) Run(ctx context.Context) {
	w.estates = map[uint64]*watched{}
	failing := false
	for {
		err := w.turn(ctx)
		if err != nil && !failing && ctx.Err() == nil {
			w.Log.Error("looking after events", "error", err)
		}
		failing = err != nil
		select {
		case <-ctx.Done():
			return
		case <-time.After(turnEvery):
		}
	}
}

func (w *Watcher) turn(ctx context.Context) error {
	var estates []uint64
	err := w.Store.InTransaction(ctx, func(tx *store.Tx) (err error) {
		if time.Since(w.forgot) > forgetEvery {
			if err := tx.ForgetEvents(); err != nil {
				return err
			}
			w.forgot = time.Now()
		}
		estates, err = tx.LeaseEvents(w.Name)
		return err
	})
	if err != nil {
		return err
	}
	for id := range w.estates {
		if !slices.Contains(estates, id) {
			delete(w.estates, id)
		}
	}
	for _, id := range estates {
		if err := w.estate(ctx, id); err != nil {
			return fmt.Errorf("events of estate %d: %w", id, err)
		}
	}
	return nil
}

// estate looks at one, where anything changed or something waits to be told.
func (w *Watcher) estate(ctx context.Context, id uint64) error {
	seen := w.estates[id]
	if seen == nil {
		seen = &watched{begin: map[string]time.Time{}, gone: map[string]time.Time{}}
		w.estates[id] = seen
	}
	var row store.Estate
	var pulse any
	err := w.Store.Snapshot(ctx, func(tx *store.Tx) (err error) {
		if row, err = tx.EstateByID(id); err != nil {
			return err
		}
		is, err := tx.GatewayPulse(id)
		changed := ""
		if is.Changed != nil {
			changed = is.Changed.String()
		}
		pulse = [4]any{changed, is.Count, is.Up, row.Release}
		return err
	})
	if err != nil {
		return err
	}
	if seen.pulse == pulse && len(seen.begin) == 0 && len(seen.gone) == 0 {
		return nil
	}
	now, err := w.Desk.Now(ctx, row.Key)
	if err != nil {
		return err
	}
	if err := w.settle(ctx, id, seen, now); err != nil {
		return err
	}
	seen.pulse = pulse
	return nil
}

// settle tells what lasts, and what is gone for long enough.
func (w *Watcher) settle(ctx context.Context, id uint64, seen *watched, now *desk.Now) error {
	at := time.Now()
	present := map[string]*diagnose.Trouble{}
	dead := map[string]bool{} // tunnels, under whatever trouble
	for i := range now.Troubles {
		t := &now.Troubles[i]
		present[t.Name()] = t
		for _, name := range t.All {
			dead[name] = true
		}
	}
	return w.Store.InTransaction(ctx, func(tx *store.Tx) error {
		leads, err := tx.LeadsEvents(id, w.Name)
		if err != nil || !leads {
			return err
		}
		open, err := tx.Troubles(id)
		if err != nil {
			return err
		}
		told := map[string]bool{}
		for i := range open {
			o := &open[i]
			told[o.Name] = true
			if present[o.Name] != nil {
				delete(seen.gone, o.Name)
				continue
			}
			if since, is := seen.gone[o.Name]; !is {
				seen.gone[o.Name] = at
			} else if at.Sub(since) >= returns {
				if err := w.end(tx, id, o, dead, now.Release); err != nil {
					return err
				}
				delete(seen.gone, o.Name)
			}
		}
		for name := range seen.begin {
			if present[name] == nil || told[name] {
				delete(seen.begin, name)
			}
		}
		for i := range now.Troubles {
			t := &now.Troubles[i]
			name := t.Name()
			if told[name] {
				continue
			}
			since, is := seen.begin[name]
			if !is {
				since = at
				seen.begin[name] = at
			}
			lasts := settles
			if t.Unsettled {
				lasts = settlesLate
			}
			if at.Sub(since) < lasts {
				continue
			}
			if err := w.begin(tx, id, name, t, now.Release); err != nil {
				return err
			}
			delete(seen.begin, name)
		}
		return nil
	})
}

// kept is what is kept of a trouble that lasts.
type kept struct {
	Words   string
	Code    string
	Sure    string
	Site    string
	Link    string
	Part    string
	Tunnels []string
	Cut     int
}

func (w *Watcher) begin(tx *store.Tx, id uint64, name string, t *diagnose.Trouble, release uint64) error {
	at, err := tx.Now()
	if err != nil {
		return err
	}
	e := store.Event{
		EstateID: id, At: at, Kind: Began, Code: string(t.Code), Sure: string(t.Sure), Words: cut(t.Words, 500), Site: t.Site, Link: t.Link, Part: cut(t.Part, 200),
		Tunnels: t.Tunnels, Cut: t.Cut, ReleaseNo: release,
	}
	if err := tx.AddEvent(&e); err != nil {
		return err
	}
	data, err := json.Marshal(kept{Words: e.Words, Code: e.Code, Sure: e.Sure, Site: e.Site, Link: e.Link, Part: e.Part, Tunnels: t.All, Cut: t.Cut})
	if err != nil {
		return err
	}
	if err := tx.PutTrouble(&store.Trouble{EstateID: id, Name: name, EventID: e.ID, Since: at, Data: string(data)}); err != nil {
		return err
	}
	return enqueue(tx, &e)
}

func (w *Watcher) end(tx *store.Tx, id uint64, o *store.Trouble, dead map[string]bool, release uint64) error {
	at, err := tx.Now()
	if err != nil {
		return err
	}
	var k kept
	if err := json.Unmarshal([]byte(o.Data), &k); err != nil {
		return err
	}
	e := store.Event{
		EstateID: id, At: at, Kind: Ended, Code: k.Code, Sure: k.Sure, Words: k.Words, Site: k.Site, Link: k.Link, Part: k.Part,
		Tunnels: len(k.Tunnels), Cut: k.Cut, Lasted: int(at.Sub(o.Since).Seconds()), ReleaseNo: release,
	}
	if len(k.Tunnels) > 0 && !slices.ContainsFunc(k.Tunnels, func(name string) bool { return !dead[name] }) {
		e.Kind = Joined // all of it is dead still, for another cause
	}
	if err := tx.AddEvent(&e); err != nil {
		return err
	}
	if err := tx.EndTrouble(id, o.Name); err != nil || e.Kind == Joined {
		return err
	}
	return enqueue(tx, &e)
}

// cut shortens a text to so many octets, between characters.
func cut(text string, most int) string {
	for i := range text {
		if i > most-4 && len(text) > most {
			return text[:i] + "…"
		}
	}
	return text
}
