package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"wideknot/core/estate"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// First names the draft that a new estate starts with.
const First = "first"

// Summary is a line of the list of estates.
type Summary struct {
	Key     string        `json:"key"`
	Name    string        `json:"name"`
	Release uint64        `json:"release" doc:"number of the release in force; 0 while nothing was released"`
	Role    identity.Role `json:"role" enum:"reader,planner,operator,owner"`
}

// A DraftSummary is a line of the list of drafts.
type DraftSummary struct {
	Key       string     `json:"key"`
	Name      string     `json:"name"`
	Revision  uint64     `json:"revision"`
	Base      uint64     `json:"base" doc:"release it was branched from, or brought up to"`
	Author    string     `json:"author"`
	Created   time.Time  `json:"created"`
	Discarded *time.Time `json:"discarded,omitempty"`
	Last      *Step      `json:"last,omitempty" doc:"its latest step"`
}

var notInKey = regexp.MustCompile(`[^a-z0-9]+`)

// keyOf makes a key of a name.
func keyOf(name string) string {
	key := strings.Trim(notInKey.ReplaceAllString(strings.ToLower(name), "-"), "-")
	return strings.Trim(key[:min(len(key), 40)], "-")
}

// Create makes an empty estate with a first draft; its key follows from its
// name, and who asks is its owner.
func (d *Desk) Create(ctx context.Context, name string) (Summary, error) {
	name = strings.TrimSpace(name)
	key := keyOf(name)
	if key == "" {
		return Summary{}, estate.Problems{{Path: "name", Message: "the estate needs a name with at least one letter or digit of a-z, 0-9"}}
	}
	empty := &estate.Estate{Format: estate.Format, About: estate.About{Name: name}}
	if problems := estate.Validate(empty); len(problems) > 0 {
		problems[0].Path = "name"
		return Summary{}, estate.Problems(problems)
	}
	document, err := json.Marshal(empty)
	if err != nil {
		return Summary{}, err
	}
	who, now := identity.ActorOf(ctx), time.Now().UTC()
	err = d.store.InTransaction(ctx, func(tx *store.Tx) error {
		if _, err := tx.Estate(key, false); err == nil {
			return fmt.Errorf("%w: there is an estate %q already", ErrTaken, key)
		} else if !errors.Is(err, ErrNotFound) {
			return err
		}
		row := store.Estate{Key: key, Name: name, CreatedAt: now}
		if err := tx.AddEstate(&row); err != nil {
			return err
		}
		if who.Account != 0 {
			if err := tx.SaveMember(&store.Member{EstateID: row.ID, AccountID: who.Account, Role: string(identity.Owner)}); err != nil {
				return err
			}
		}
		if err := tx.AddRelease(&store.Release{EstateID: row.ID, At: now, Author: who.Name, Message: "The empty estate", Document: string(document)}); err != nil {
			return err
		}
		draft := &store.Draft{EstateID: row.ID, Key: First, Name: "First draft", Revision: 1, Allocations: "{}", Author: who.Name, CreatedAt: now}
		if err := addDraft(tx, draft, empty); err != nil {
			return err
		}
		return identity.Record(ctx, tx, now, identity.Act{Action: "estate.create", Estate: row.ID, Object: name})
	})
	if errors.Is(err, store.ErrExists) {
		err = fmt.Errorf("%w: there is an estate %q already", ErrTaken, key)
	}
	return Summary{Key: key, Name: name, Role: identity.Owner}, err
}

// addDraft stores a new draft with the parts of an estate.
func addDraft(tx *store.Tx, draft *store.Draft, e *estate.Estate) error {
	text, err := json.Marshal(e.Allocations)
	if err != nil {
		return err
	}
	draft.Allocations = string(text)
	if err := tx.AddDraft(draft); err != nil {
		return err
	}
	parts := partsOf(e)
	rows := make([]store.Part, len(parts))
	for i, p := range parts {
		body, err := json.Marshal(p.value)
		if err != nil {
			return err
		}
		rows[i] = store.Part{DraftID: draft.ID, Kind: p.kind, Key: p.key, Place: int64(i), Revision: draft.Revision, Body: string(body)}
	}
	return tx.SaveParts(rows)
}

// mostDrafts bounds the drafts of an estate that are not discarded.
const mostDrafts = 100

// NewDraft branches a draft from a state of an estate: what is released, an
// earlier release, or another draft.
func (d *Desk) NewDraft(ctx context.Context, key, name, from string) (DraftSummary, error) {
	name = strings.TrimSpace(name)
	draft := keyOf(name)
	switch {
	case draft == "" || len(name) > 200:
		return DraftSummary{}, estate.Problems{{Path: "name", Message: "the draft needs a name of at most 200 bytes, with at least one letter or digit of a-z, 0-9"}}
	case draft == Released || strings.HasPrefix(draft, "release-"):
		return DraftSummary{}, estate.Problems{{Path: "name", Message: "names beginning with release stand for what was released; choose another"}}
	}
	if from == "" {
		from = Released
	}
	view, err := d.View(ctx, Place{key, from})
	if err != nil {
		return DraftSummary{}, err
	}
	who := identity.ActorOf(ctx)
	row := store.Draft{Key: draft, Name: name, Revision: 1, Author: who.Name}
	err = d.store.InTransaction(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(key, true)
		if err != nil {
			return err
		}
		drafts, err := tx.Drafts(e.ID)
		if err != nil {
			return err
		}
		open := 0
		for _, other := range drafts {
			if other.Key == draft {
				return fmt.Errorf("%w: there is, or was, a draft %q already", ErrTaken, draft)
			}
			if other.DiscardedAt == nil {
				open++
			}
		}
		if open >= mostDrafts {
			return fmt.Errorf("%w: there are %d drafts already; discard one first", ErrTaken, open)
		}
		row.ID, row.EstateID, row.CreatedAt = 0, e.ID, time.Now().UTC()
		// An earlier release differs from the present one on purpose.
		row.Base = e.Release
		if !view.Fixed {
			row.Base = view.Base
		}
		if err := addDraft(tx, &row, view.Estate); err != nil {
			return err
		}
		act := identity.Act{Action: "draft.new", Estate: e.ID, Draft: draft, Object: name, After: map[string]any{"from": view.Draft, "revision": view.Revision}}
		return identity.Record(ctx, tx, row.CreatedAt, act)
	})
	if errors.Is(err, store.ErrExists) {
		err = fmt.Errorf("%w: there is a draft %q already", ErrTaken, draft)
	}
	return summaryOf(row, nil), err
}

func summaryOf(row store.Draft, last *Step) DraftSummary {
	return DraftSummary{
		Key: row.Key, Name: row.Name, Revision: row.Revision, Base: row.Base, Author: row.Author,
		Created: row.CreatedAt, Discarded: row.DiscardedAt, Last: last,
	}
}

// Drafts lists the drafts of an estate, discarded ones too.
func (d *Desk) Drafts(ctx context.Context, key string) ([]DraftSummary, error) {
	out := []DraftSummary{}
	err := d.store.Snapshot(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(key, false)
		if err != nil {
			return err
		}
		rows, err := tx.Drafts(e.ID)
		if err != nil {
			return err
		}
		for _, row := range rows {
			var last *Step
			steps, err := tx.LastSteps(row.ID, 1)
			if err != nil {
				return err
			}
			if len(steps) > 0 {
				last = &Step{Revision: steps[0].Number, Kind: steps[0].Kind, At: steps[0].At, Author: steps[0].Author, Label: steps[0].Label, Parts: []string{}}
			}
			out = append(out, summaryOf(row, last))
		}
		return nil
	})
	return out, err
}

// History lists the latest steps of a draft, newest first.
func (d *Desk) History(ctx context.Context, at Place, limit int) ([]Step, error) {
	out := []Step{}
	err := d.store.Snapshot(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(at.Estate, false)
		if err != nil {
			return err
		}
		row, err := tx.Draft(e.ID, at.Draft, false, false)
		if err != nil {
			return fmt.Errorf("draft %q: %w", at.Draft, err)
		}
		steps, err := tx.LastSteps(row.ID, limit)
		for _, s := range steps {
			out = append(out, Step{Revision: s.Number, Kind: s.Kind, At: s.At, Author: s.Author, Label: s.Label, Parts: []string{}})
		}
		return err
	})
	return out, err
}

// Shelve discards a draft, or takes it up again. Nothing of it is lost.
func (d *Desk) Shelve(ctx context.Context, at Place, discard bool) error {
	var id uint64
	err := d.store.InTransaction(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(at.Estate, false)
		if err != nil {
			return err
		}
		if _, fixed := at.release(e.Release); fixed {
			return ErrFixed
		}
		row, err := tx.Draft(e.ID, at.Draft, true, false)
		if err != nil {
			return fmt.Errorf("draft %q: %w", at.Draft, err)
		}
		id = row.ID
		if discard == (row.DiscardedAt != nil) {
			return nil
		}
		now := time.Now().UTC()
		row.DiscardedAt = nil
		act := identity.Act{Action: "draft.reopen", Estate: e.ID, Draft: row.Key, Object: row.Name}
		if discard {
			row.DiscardedAt, act.Action = &now, "draft.discard"
		}
		if err := tx.SaveDraft(&row, "discarded_at"); err != nil {
			return err
		}
		return identity.Record(ctx, tx, now, act)
	})
	if err == nil && discard {
		d.memory.forget(draftID(id))
	}
	return err
}

// Delete removes an estate with all its drafts and releases, for good; what was
// done to it stays in the server's audit. name must be its name, typed again.
func (d *Desk) Delete(ctx context.Context, key, name string) error {
	return d.store.InTransaction(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(key, true)
		if err != nil {
			return fmt.Errorf("estate %q: %w", key, err)
		}
		if strings.TrimSpace(name) != e.Name {
			return estate.Problems{{Path: "name", Message: fmt.Sprintf("type the estate's name, %q, to delete it; nothing was deleted", e.Name)}}
		}
		act := identity.Act{Action: "estate.delete", Object: e.Name, Before: map[string]any{"key": e.Key, "release": e.Release}}
		if err := identity.Record(ctx, tx, time.Now().UTC(), act); err != nil {
			return err
		}
		return tx.DeleteEstate(e.ID)
	})
}
