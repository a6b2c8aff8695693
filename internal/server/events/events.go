// Package events keeps what was not as designed, one event for one cause, and tells people who
// are away.
package events

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"wideknot/core/diagnose"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/store"
	"wideknot/internal/server/turns"
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
	turnEvery      = 400 * time.Millisecond
	settles        = 1200 * time.Millisecond
	settlesGrown   = 500 * time.Millisecond // of one as which others are seen that lasted already
	settlesLate    = 6 * time.Second        // where what it goes by may be dead as a whole
	settlesPatient = 45 * time.Second       // of what cuts nobody, and mostly passes
	returns        = 3 * time.Second
	follows        = time.Minute // for which tunnels may come back after their circuit
	forgetEvery    = time.Hour
)

// A Watcher looks after the events of estates.
type Watcher struct {
	Store *store.Store
	Desk  *desk.Desk
	Name  string // of this server
	Log   *slog.Logger

	estates map[uint64]*watched
	forgot  time.Time
}

// watched is an estate as this server saw it last.
type watched struct {
	pulse any
	begin waiting              // troubles that were not told
	gone  map[string]time.Time // since when one that was told is not seen
	quiet bool                 // something lasts of which nobody was told, as there is a window
}

// Run looks after events until the context ends.
func (w *Watcher) Run(ctx context.Context) {
	w.estates = map[uint64]*watched{}
	turns.Take(ctx, turnEvery, w.Log, "looking after events", w.turn)
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
		seen = &watched{gone: map[string]time.Time{}}
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
	if seen.pulse == pulse && len(seen.begin.waits) == 0 && len(seen.gone) == 0 && !seen.quiet {
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
	return w.Store.InTransaction(ctx, func(tx *store.Tx) error {
		leads, err := tx.LeadsEvents(id, w.Name)
		if err != nil || !leads {
			return err
		}
		open, err := tx.Troubles(id)
		if err != nil {
			return err
		}
		quiet, err := windowsNow(tx, id)
		if err != nil {
			return err
		}
		told := make([]lasting, len(open))
		for i := range open {
			told[i].Trouble = open[i]
			if err := json.Unmarshal([]byte(open[i].Data), &told[i].kept); err != nil {
				return err
			}
		}
		left, err := w.ending(tx, id, seen, now, told)
		seen.quiet = slices.ContainsFunc(left, func(o lasting) bool { return o.Quiet })
		return errors.Join(err, w.overdue(tx, left, quiet), w.beginning(tx, id, seen, now, left, quiet))
	})
}

// lasting is a trouble that was told.
type lasting struct {
	store.Trouble
	kept
}

// ending tells of those troubles that are gone for long enough, and returns those that last. When
// a circuit is back its tunnels follow: while some are dead still, and nothing else that was told
// explains that, it lasts.
func (w *Watcher) ending(tx *store.Tx, id uint64, seen *watched, now *desk.Now, told []lasting) (left []lasting, err error) {
	at := time.Now()
	present := map[string]bool{}
	dead := map[string]bool{} // tunnels, under whatever trouble
	for i := range now.Troubles {
		present[now.Troubles[i].Name()] = true
		for _, name := range now.Troubles[i].All {
			dead[name] = true
		}
	}
	explained := map[string]bool{} // by what was told and is seen
	for i := range told {
		if present[told[i].Name] {
			for _, name := range told[i].Tunnels {
				explained[name] = true
			}
		}
	}
	for i := range told {
		o := &told[i]
		since, is := seen.gone[o.Name]
		if present[o.Name] || !is {
			delete(seen.gone, o.Name)
			if !present[o.Name] {
				seen.gone[o.Name] = at
			}
			left = append(left, *o)
			continue
		}
		still, apart := 0, 0
		for _, name := range o.Tunnels {
			if dead[name] && explained[name] {
				apart++
			} else if dead[name] {
				still++
			}
		}
		if at.Sub(since) < returns || still > 0 && at.Sub(since) < follows {
			left = append(left, *o)
			continue
		}
		kind := Ended
		if apart > 0 && still == 0 {
			kind = Joined
		}
		if err := w.end(tx, id, o, kind, now.Release); err != nil {
			return nil, err
		}
		delete(seen.gone, o.Name)
	}
	return left, nil
}

// overdue tells of what began in a window, and lasts longer than that.
func (w *Watcher) overdue(tx *store.Tx, left []lasting, quiet quietness) error {
	for i := range left {
		o := &left[i]
		if !o.Quiet || quiet.holds(o.Sites...) {
			continue
		}
		e, err := tx.EventByID(o.EventID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err == nil {
			err = enqueue(tx, &e)
		}
		o.Quiet = false
		if err := errors.Join(err, tx.PutTrouble(&o.Trouble)); err != nil {
			return err
		}
	}
	return nil
}

// beginning tells of those troubles that were not told and last. What is but the rest of one that
// was is no news.
func (w *Watcher) beginning(tx *store.Tx, id uint64, seen *watched, now *desk.Now, told []lasting, quiet quietness) error {
	at := time.Now()
	begin := waiting{}
	names, covered := map[string]bool{}, map[string]diagnose.Sureness{}
	for i := range told {
		names[told[i].Name] = true
		for _, name := range told[i].Tunnels {
			if sure := diagnose.Sureness(told[i].Sure); covered[name] == "" || sure.Surer(covered[name]) {
				covered[name] = sure
			}
		}
	}
	for i := range now.Troubles {
		t := &now.Troubles[i]
		name := t.Name()
		news := slices.ContainsFunc(t.All, func(tunnel string) bool { return covered[tunnel] == "" || t.Sure.Surer(covered[tunnel]) })
		if names[name] || len(t.All) > 0 && !news {
			continue
		}
		if wait := seen.begin.of(t, at); !wait.over(t, at) {
			begin.add(t, wait)
			continue
		}
		untold := quiet.holds(sitesOf(t)...)
		if err := w.begin(tx, id, name, t, now.Release, untold); err != nil {
			return err
		}
		seen.quiet = seen.quiet || untold // the end of the window may be all that changes
	}
	seen.begin = begin
	return nil
}

// kept is what is kept of a trouble that lasts.
type kept struct {
	Words   string
	Code    string
	Sure    string
	Site    string
	Sites   []string // whose windows hold for it
	Link    string
	Part    string
	Tunnels []string
	Cut     int
}

// sitesOf lists the sites whose windows hold for a trouble: of a tunnel both.
func sitesOf(t *diagnose.Trouble) []string {
	if len(t.Pair) > 0 {
		return t.Pair
	}
	return []string{t.Site}
}

func (w *Watcher) begin(tx *store.Tx, id uint64, name string, t *diagnose.Trouble, release uint64, quiet bool) error {
	at, err := tx.Now()
	if err != nil {
		return err
	}
	e := store.Event{
		EstateID: id, At: at, Kind: Began, Code: string(t.Code), Sure: string(t.Sure), Words: cut(t.Words, 500), Site: t.Site, Link: t.Link, Part: cut(t.Part, 200),
		Tunnels: t.Tunnels, Cut: t.Cut, ReleaseNo: release, Quiet: quiet,
	}
	if err := tx.AddEvent(&e); err != nil {
		return err
	}
	data, err := json.Marshal(kept{Words: e.Words, Code: e.Code, Sure: e.Sure, Site: e.Site, Sites: sitesOf(t), Link: e.Link, Part: e.Part, Tunnels: t.All, Cut: t.Cut})
	if err != nil {
		return err
	}
	if err := tx.PutTrouble(&store.Trouble{EstateID: id, Name: name, EventID: e.ID, Since: at, Data: string(data), Quiet: quiet}); err != nil || quiet {
		return err
	}
	return enqueue(tx, &e)
}

func (w *Watcher) end(tx *store.Tx, id uint64, o *lasting, kind string, release uint64) error {
	at, err := tx.Now()
	if err != nil {
		return err
	}
	e := store.Event{
		EstateID: id, At: at, Kind: kind, Code: o.Code, Sure: o.Sure, Words: o.Words, Site: o.Site, Link: o.Link, Part: o.Part,
		Tunnels: len(o.Tunnels), Cut: o.Cut, Lasted: int(at.Sub(o.Since).Seconds()), ReleaseNo: release, Quiet: o.Quiet,
	}
	if err := tx.AddEvent(&e); err != nil {
		return err
	}
	if err := tx.EndTrouble(id, o.Name); err != nil || kind == Joined || o.Quiet {
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
