package events

import (
	"context"
	"fmt"
	"slices"
	"time"

	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// A Window is one of maintenance: what begins in it is told nobody, unless it lasts longer.
type Window struct {
	ID       uint64    `json:"id,omitempty" readOnly:"true"`
	Site     string    `json:"site,omitempty" maxLength:"40" doc:"empty for all sites"`
	BeginsAt time.Time `json:"begins_at"`
	Minutes  int       `json:"minutes" minimum:"5" maximum:"10080"`
	Every    string    `json:"every,omitempty" enum:",day,week" doc:"how often it comes again; empty for once"`
	Words    string    `json:"words,omitempty" maxLength:"200"`
	Author   string    `json:"author,omitempty" readOnly:"true"`
	Open     bool      `json:"open,omitempty" readOnly:"true" doc:"it is now"`
}

// mostWindows is how many an estate may have.
const mostWindows = 500

// period is how often a window comes again; 0 for once.
func period(every string) time.Duration {
	return map[string]time.Duration{"day": 24 * time.Hour, "week": 7 * 24 * time.Hour}[every]
}

// holds reports whether a window is open at a time.
func holds(row *store.Window, now time.Time) bool {
	since := now.Sub(row.BeginsAt)
	if again := period(row.Every); again > 0 && since >= 0 {
		since %= again
	}
	return since >= 0 && since < time.Duration(row.Minutes)*time.Minute
}

// quietness is the sites with a window now; all with an empty name.
type quietness map[string]bool

// holds reports whether there is one now for what is of some sites; of none, one of all.
func (q quietness) holds(sites ...string) bool {
	return q[""] || slices.ContainsFunc(sites, func(site string) bool { return site != "" && q[site] })
}

func windowsNow(tx *store.Tx, estate uint64) (quietness, error) {
	rows, err := tx.Windows(estate)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	now, err := tx.Now()
	out := quietness{}
	for i := range rows {
		if holds(&rows[i], now) {
			out[rows[i].Site] = true
		}
	}
	return out, err
}

// IsOpen reports whether a window of some of the sites, or of all, is open now.
func IsOpen(ctx context.Context, s *store.Store, estate uint64, sites ...string) (open bool, err error) {
	err = s.Snapshot(ctx, func(tx *store.Tx) (err error) {
		open, err = IsOpenIn(tx, estate, sites...)
		return err
	})
	return open, err
}

// IsOpenIn is the same in a transaction.
func IsOpenIn(tx *store.Tx, estate uint64, sites ...string) (bool, error) {
	now, err := windowsNow(tx, estate)
	return now.holds(sites...), err
}

// Windows lists an estate's windows, without those that are over for good.
func Windows(ctx context.Context, s *store.Store, estate uint64) (out []Window, err error) {
	out = []Window{}
	err = s.Snapshot(ctx, func(tx *store.Tx) error {
		rows, err := tx.Windows(estate)
		if err != nil {
			return err
		}
		now, err := tx.Now()
		for i := range rows {
			r := &rows[i]
			if r.Every == "" && now.After(r.BeginsAt.Add(time.Duration(r.Minutes)*time.Minute)) {
				continue
			}
			out = append(out, Window{r.ID, r.Site, r.BeginsAt.UTC(), r.Minutes, r.Every, r.Words, r.Author, holds(r, now)})
		}
		return err
	})
	return out, err
}

// AddWindow keeps a window.
func AddWindow(ctx context.Context, s *store.Store, estate uint64, w Window) (id uint64, err error) {
	if again := period(w.Every); again > 0 && time.Duration(w.Minutes)*time.Minute > again {
		return 0, &identity.Refused{Field: "minutes", Text: fmt.Sprintf("it would last longer than until it comes again, a %s later", w.Every)}
	}
	err = s.InTransaction(ctx, func(tx *store.Tx) error {
		have, err := tx.Windows(estate)
		if err != nil {
			return err
		}
		if len(have) >= mostWindows {
			return &identity.Refused{Field: "begins_at", Text: fmt.Sprintf("an estate has up to %d windows", mostWindows)}
		}
		at, err := tx.Now()
		if err != nil {
			return err
		}
		if w.Every == "" && w.BeginsAt.Add(time.Duration(w.Minutes)*time.Minute).Before(at) {
			return &identity.Refused{Field: "begins_at", Text: "it would be over already"}
		}
		row := store.Window{EstateID: estate, Site: w.Site, BeginsAt: w.BeginsAt.UTC(), Minutes: w.Minutes, Every: w.Every, Words: w.Words, Author: identity.ActorOf(ctx).Name, MadeAt: at}
		if err := tx.AddWindow(&row); err != nil {
			return err
		}
		id = row.ID
		return identity.Record(ctx, tx, at, identity.Act{Action: "window.add", Estate: estate, Object: fmt.Sprintf("window %d", id), After: w})
	})
	return id, err
}

// DropWindow takes a window back.
func DropWindow(ctx context.Context, s *store.Store, estate, id uint64) error {
	return s.InTransaction(ctx, func(tx *store.Tx) error {
		n, err := tx.DropWindow(estate, id)
		if err != nil {
			return err
		}
		if n == 0 {
			return fmt.Errorf("window %d: %w", id, store.ErrNotFound)
		}
		at, err := tx.Now()
		if err != nil {
			return err
		}
		return identity.Record(ctx, tx, at, identity.Act{Action: "window.drop", Estate: estate, Object: fmt.Sprintf("window %d", id)})
	})
}
