package desk

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"
	"unicode/utf8"

	"wideknot/core/diff"
	"wideknot/core/estate"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// A change is one part before and after an edit; nil stands for absence. An
// edit is a list of changes, so that undoing is swapping each one round.
type change struct {
	Kind   store.Kind      `json:"kind"`
	Key    string          `json:"key,omitempty"`
	Place  int64           `json:"place"`
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
}

// An Order is what every edit is asked with.
type Order struct {
	Place
	Request string // idempotency key; the same one again edits nothing
	Digest  []byte // SHA-256 of what is asked for under that key; nil when unknown
	Part    string // PartID of what IfMatch speaks of; empty for the whole draft
	IfMatch uint64 // revision the edit is based on; 0 for any
}

// At is the order of an edit at a place, on whatever it is now.
func At(estate, draft string) Order { return Order{Place: Place{estate, draft}} }

// An opening is a draft locked for one step.
type opening struct {
	tx     *store.Tx
	estate store.Estate
	row    store.Draft
	view   *View
}

// step opens a draft for one step in one transaction. Those of this process
// wait their turn outside, so that they hold no connection meanwhile.
func (d *Desk) step(ctx context.Context, o Order, do func(*opening) (*View, error)) (*View, error) {
	draft, err := d.draftOf(ctx, o.Place)
	if err != nil {
		return nil, err
	}
	defer d.queues.enter(draft)()
	leave, err := d.Turn(ctx)
	if err != nil {
		return nil, err
	}
	defer leave()
	var view *View
	err = d.store.InTransaction(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(o.Estate, false)
		if err != nil {
			return fmt.Errorf("estate %q: %w", o.Estate, err)
		}
		row, err := tx.Draft(e.ID, o.Draft, true, false)
		if err != nil {
			return fmt.Errorf("draft %q: %w", o.Draft, err)
		}
		if row.DiscardedAt != nil {
			return ErrShelved
		}
		if view, err = d.viewOfDraft(tx, e, row); err != nil {
			return err
		}
		if o.Request != "" {
			if edit, err := tx.EditOfRequest(row.ID, o.Request); err == nil {
				return o.same(edit.Digest) // done before
			} else if !errors.Is(err, ErrNotFound) {
				return err
			}
		}
		if err := o.fits(tx, view); err != nil {
			return err
		}
		view, err = do(&opening{tx, e, row, view})
		return err
	})
	if err != nil {
		return nil, err
	}
	if view.Plan == nil {
		view.derive()
	}
	d.memory.keep(view)
	d.poke(view.draftID)
	return view, nil
}

// Turn waits until few enough others derive, and returns how to end it: reading
// stays quick however many edit.
func (d *Desk) Turn(ctx context.Context) (leave func(), err error) {
	select {
	case d.turns <- struct{}{}:
		return func() { <-d.turns }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// draftOf returns the ID of a draft that can be edited.
func (d *Desk) draftOf(ctx context.Context, at Place) (uint64, error) {
	var id uint64
	err := d.store.Snapshot(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(at.Estate, false)
		if err != nil {
			return fmt.Errorf("estate %q: %w", at.Estate, err)
		}
		if _, fixed := at.release(e.Release); fixed {
			return ErrFixed
		}
		row, err := tx.Draft(e.ID, at.Draft, false, false)
		if err != nil {
			return fmt.Errorf("draft %q: %w", at.Draft, err)
		}
		id = row.ID
		return nil
	})
	return id, err
}

// ErrReused is returned for an idempotency key that came with another request
// before.
var ErrReused = errors.New("this Idempotency-Key was used for another request before; nothing was done. Use a new one")

// same compares what a request asks for with what came under its key before.
func (o Order) same(digest []byte) error {
	if len(digest) > 0 && len(o.Digest) > 0 && !bytes.Equal(digest, o.Digest) {
		return ErrReused
	}
	return nil
}

// fits compares what the order is based on with what is there.
func (o Order) fits(tx *store.Tx, v *View) error {
	now := v.Revision
	if o.Part != "" {
		now = v.Revisions[o.Part]
	}
	if o.IfMatch == 0 || now == o.IfMatch {
		return nil
	}
	stale := &Stale{What: o.Part, Now: now}
	if o.Part == "" {
		stale.What = "the draft"
	}
	rows, err := tx.StepsAfter(v.draftID, o.IfMatch, 100)
	if err != nil {
		return err
	}
	for _, row := range rows {
		changes, step, err := stepOf(row)
		if err != nil {
			return err
		}
		touched := o.Part == ""
		for _, c := range changes {
			if PartID(c.Kind, c.Key) == o.Part {
				touched = true
				stale.Changes = append(stale.Changes, c.inWords()...)
			}
		}
		if touched {
			stale.Steps = append(stale.Steps, step)
		}
	}
	return stale
}

func stepOf(row store.Edit) ([]change, Step, error) {
	var changes []change
	if err := json.Unmarshal([]byte(row.Changes), &changes); err != nil {
		return nil, Step{}, fmt.Errorf("reading step %d: %w", row.Number, err)
	}
	step := Step{Revision: row.Number, Kind: row.Kind, At: row.At, Author: row.Author, Label: row.Label, Parts: []string{}}
	for _, c := range changes {
		step.Parts = append(step.Parts, PartID(c.Kind, c.Key))
	}
	return changes, step, nil
}

// inWords says what became of the part.
func (c change) inWords() []string {
	switch {
	case c.Before == nil:
		return []string{"added"}
	case c.After == nil:
		return []string{"deleted"}
	}
	before, after := &estate.Estate{}, &estate.Estate{}
	if addPart(before, c.Kind, c.Before) != nil || addPart(after, c.Kind, c.After) != nil {
		return []string{"changed"}
	}
	return diff.Words(before, after)
}

// edit changes a draft: it lets change make the new estate, stores what differs
// with its history, and gives out what the new design needs.
func (d *Desk) edit(ctx context.Context, o Order, label string, change func(e *estate.Estate) (*estate.Estate, error)) (*View, error) {
	return d.step(ctx, o, func(at *opening) (*View, error) {
		next, err := change(at.view.Estate)
		if err != nil {
			return nil, err
		}
		return d.take(ctx, at, o, label, next, at.row.Base)
	})
}

// take makes an estate the draft's state, by an edit that can be undone.
func (d *Desk) take(ctx context.Context, at *opening, o Order, label string, next *estate.Estate, base uint64) (*View, error) {
	changes, err := compare(at.view.Estate, next, at.view.places)
	if err != nil {
		return nil, err
	}
	numbered := at.view.Estate.Allocations.Equal(next.Allocations)
	if problems := problemsAfter(next, changes, numbered); len(problems) > 0 {
		return nil, estate.Problems(problems)
	}
	if len(changes) == 0 && base == at.row.Base && numbered {
		return at.view, nil
	}
	edit := &store.Edit{Kind: store.Edited, Label: shorten(label, 255), FormerBase: at.row.Base, Base: base}
	if o.Request != "" {
		edit.Request, edit.Digest = &o.Request, o.Digest
	}
	return d.carryOut(ctx, at, edit, changes, next.Allocations)
}

// problemsAfter lists what makes an estate unusable after changes of a usable
// one; numbered says that its allocations are as they were. Most edits replace
// one site, which needs no look at the others.
func problemsAfter(next *estate.Estate, changes []change, numbered bool) []estate.Problem {
	replaced := map[string]bool{}
	for _, c := range changes {
		if !numbered || c.Kind != store.Site || c.Before == nil || c.After == nil {
			return estate.Validate(next)
		}
		replaced[c.Key] = true
	}
	return estate.ValidateSites(next, replaced)
}

func shorten(s string, n int) string {
	for len(s) > n {
		_, size := utf8.DecodeLastRuneInString(s)
		s = s[:len(s)-size]
	}
	return s
}

// carryOut stores a step with its changes, makes missing keys, derives, and
// stores what was given out.
// Long because its steps belong to one transaction, in this order.
func (d *Desk) carryOut(ctx context.Context, at *opening, step *store.Edit, changes []change, allocations estate.Allocations) (*View, error) {
	row := at.row
	row.Revision++
	row.Base = step.Base
	body, err := json.Marshal(changes)
	if err != nil {
		return nil, err
	}
	step.DraftID, step.Number, step.Changes = row.ID, row.Revision, string(body)
	step.At, step.Author = time.Now().UTC(), identity.ActorOf(ctx).Name
	add := at.tx.AddEdit
	if step.Kind != store.Edited {
		add = at.tx.AddStep
	}
	if err := add(step); err != nil {
		return nil, err
	}
	if err := storeParts(at.tx, row, changes); err != nil {
		return nil, err
	}
	before, after := map[string]json.RawMessage{}, map[string]json.RawMessage{}
	for _, c := range changes {
		if c.Before != nil {
			before[PartID(c.Kind, c.Key)] = c.Before
		}
		if c.After != nil {
			after[PartID(c.Kind, c.Key)] = c.After
		}
	}
	act := identity.Act{Action: "draft." + string(step.Kind), Estate: at.estate.ID, Draft: row.Key, Object: step.Label, Before: before, After: after}
	if err := identity.Record(ctx, at.tx, step.At, act); err != nil {
		return nil, err
	}
	view, err := at.view.changed(changes, row.Revision)
	if err != nil {
		return nil, err
	}
	view.Estate.Allocations = allocations
	if err := d.makeKeys(at.tx, at.estate, view.Estate); err != nil {
		return nil, err
	}
	view.derive()
	view.Estate.Allocations = view.Plan.Allocations()
	columns := []string{"revision", "base"}
	if !at.view.Estate.Allocations.Equal(view.Estate.Allocations) {
		text, err := json.Marshal(view.Estate.Allocations)
		if err != nil {
			return nil, err
		}
		row.Allocations = string(text)
		columns = append(columns, "allocations")
	}
	if err := at.tx.SaveDraft(&row, columns...); err != nil {
		return nil, err
	}
	if err := view.loadSteps(at.tx); err != nil {
		return nil, err
	}
	view = view.standing(at.estate, row)
	for _, c := range changes {
		if c.Before == nil {
			view.Added = append(view.Added, PartID(c.Kind, c.Key))
		}
	}
	return view, nil
}

func storeParts(tx *store.Tx, row store.Draft, changes []change) error {
	var rows []store.Part
	for _, c := range changes {
		if c.After == nil {
			if err := tx.DeletePart(row.ID, c.Kind, c.Key); err != nil {
				return err
			}
			continue
		}
		rows = append(rows, store.Part{DraftID: row.ID, Kind: c.Kind, Key: c.Key, Place: c.Place, Revision: row.Revision, Body: string(c.After)})
	}
	if len(rows) == 0 {
		return nil
	}
	return tx.SaveParts(rows)
}

// Undo takes back the last edit in force.
func (d *Desk) Undo(ctx context.Context, o Order) (*View, error) {
	return d.back(ctx, o, (*store.Tx).ToUndo, store.Undone)
}

// Redo carries out again the edit that was undone last.
func (d *Desk) Redo(ctx context.Context, o Order) (*View, error) {
	return d.back(ctx, o, (*store.Tx).ToRedo, store.Redone)
}

func (d *Desk) back(ctx context.Context, o Order, pick func(*store.Tx, uint64) (store.Edit, error), kind store.StepKind) (*View, error) {
	return d.step(ctx, o, func(at *opening) (*View, error) {
		edit, err := pick(at.tx, at.row.ID)
		if errors.Is(err, ErrNotFound) {
			return nil, ErrNothing
		} else if err != nil {
			return nil, err
		}
		changes, _, err := stepOf(edit)
		if err != nil {
			return nil, err
		}
		step := &store.Edit{Kind: kind, Label: edit.Label, FormerBase: at.row.Base, Base: at.row.Base}
		if o.Request != "" {
			step.Request, step.Digest = &o.Request, o.Digest
		}
		if edit.FormerBase != edit.Base {
			step.Base = edit.Base
			if kind == store.Undone {
				step.Base = edit.FormerBase
			}
		}
		if kind == store.Undone {
			for i := range changes {
				changes[i].Before, changes[i].After = changes[i].After, changes[i].Before
			}
		}
		if err := at.tx.SetUndone(edit, kind == store.Undone); err != nil {
			return nil, err
		}
		return d.carryOut(ctx, at, step, changes, at.view.Estate.Allocations)
	})
}
