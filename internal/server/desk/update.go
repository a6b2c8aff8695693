package desk

import (
	"context"
	"fmt"

	"wideknot/core/diff"
	"wideknot/core/estate"
	"wideknot/core/words"
	"wideknot/internal/server/store"
)

// Unsettled is the error of bringing a draft up to date while conflicts are
// open.
type Unsettled struct{ Conflicts []diff.Conflict }

func (u *Unsettled) Error() string {
	return words.Many(len(u.Conflicts), "part was", "parts were") + " changed both in the draft and in what was released since; choose for each whose state it takes"
}

// Catching is what bringing a draft up to date comes to.
type Catching struct {
	From      uint64          `json:"from" doc:"the draft's base"`
	To        uint64          `json:"to" doc:"the release in force"`
	Conflicts []diff.Conflict `json:"conflicts"`
	Released  []string        `json:"released" doc:"parts that only the releases changed"`
}

// Behind says what bringing a draft up to date would meet.
func (d *Desk) Behind(ctx context.Context, at Place) (Catching, error) {
	view, err := d.View(ctx, at)
	if err != nil {
		return Catching{}, err
	}
	out := Catching{From: view.Base, To: view.Latest, Conflicts: []diff.Conflict{}, Released: []string{}}
	if view.Base == view.Latest {
		return out, nil
	}
	base, err := d.View(ctx, Place{at.Estate, fmt.Sprintf("release-%d", view.Base)})
	if err != nil {
		return out, err
	}
	latest, err := d.View(ctx, Place{at.Estate, Released})
	if err != nil {
		return out, err
	}
	_, out.Conflicts = diff.Reconcile(base.Estate, view.Estate, latest.Estate, nil)
	changes, err := compare(base.Estate, latest.Estate, nil)
	if err != nil {
		return out, err
	}
	open := map[string]bool{}
	for _, c := range out.Conflicts {
		open[c.Part] = true
	}
	for _, c := range changes {
		if id := PartID(c.Kind, c.Key); !open[id] {
			out.Released = append(out.Released, id)
		}
	}
	return out, nil
}

// CatchUp brings a draft up to the release in force, by an edit that can be
// undone. Every conflict needs a choice.
func (d *Desk) CatchUp(ctx context.Context, o Order, choices map[string]diff.Choice) (*View, error) {
	return d.step(ctx, o, func(at *opening) (*View, error) {
		if at.row.Base == at.estate.Release {
			return at.view, nil
		}
		base, err := estateOf(at.tx, at.estate.ID, at.row.Base)
		if err != nil {
			return nil, err
		}
		latest, err := estateOf(at.tx, at.estate.ID, at.estate.Release)
		if err != nil {
			return nil, err
		}
		next, conflicts := diff.Reconcile(base, at.view.Estate, latest, choices)
		open := &Unsettled{}
		for _, c := range conflicts {
			if c.Choice != diff.Mine && c.Choice != diff.Theirs {
				open.Conflicts = append(open.Conflicts, c)
			}
		}
		if len(open.Conflicts) > 0 {
			return nil, open
		}
		return d.take(ctx, at, o, fmt.Sprintf("Bring up to release %d", at.estate.Release), next, at.estate.Release)
	})
}

func estateOf(tx *store.Tx, id, number uint64) (*estate.Estate, error) {
	row, err := tx.Release(id, number)
	if err != nil {
		return nil, err
	}
	return decoded(row)
}
