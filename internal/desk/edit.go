package desk

import (
	"context"
	"crypto/ecdh"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"time"
	"unicode/utf8"

	"wideknot/core/estate"
	"wideknot/internal/store"
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
	Estate  string
	Request string // idempotency key; the same one again edits nothing
	Part    string // PartID of what IfMatch speaks of
	IfMatch uint64 // revision the edit is based on; 0 for any
}

// edit changes an estate in one transaction: it locks the estate, lets change
// make the new one, stores what differs with its history, and gives out what
// the new design needs.
func (d *Desk) edit(ctx context.Context, o Order, label string, change func(e *estate.Estate) (*estate.Estate, error)) (*View, error) {
	var view *View
	err := d.store.InTransaction(ctx, func(tx *store.Tx) error {
		row, err := tx.Estate(o.Estate, true)
		if err != nil {
			return err
		}
		if view, err = load(tx, row); err != nil {
			return err
		}
		if o.Request != "" {
			if _, err := tx.EditOfRequest(row.ID, o.Request); err == nil {
				return nil // done before
			} else if !errors.Is(err, ErrNotFound) {
				return err
			}
		}
		if now := view.Revisions[o.Part]; o.IfMatch != 0 && now != o.IfMatch {
			return &Stale{What: o.Part, Now: now}
		}
		next, err := change(view.Estate)
		if err != nil {
			return err
		}
		if problems := estate.Validate(next); len(problems) > 0 {
			return estate.Problems(problems)
		}
		changes, err := compare(view.Estate, next, view.places)
		if err != nil || len(changes) == 0 && reflect.DeepEqual(view.Estate.Allocations, next.Allocations) {
			return err
		}
		row.Revision++
		body, err := json.Marshal(changes)
		if err != nil {
			return err
		}
		edit := &store.Edit{EstateID: row.ID, Number: row.Revision, At: time.Now().UTC(), Label: shorten(label, 255), Changes: string(body)}
		if o.Request != "" {
			edit.Request = &o.Request
		}
		if err := tx.AddEdit(edit); err != nil {
			return err
		}
		view, err = d.carryOut(tx, row, changes, next.Allocations)
		return err
	})
	if err != nil {
		return nil, err
	}
	if view.Plan == nil {
		view.derive()
	}
	d.keep(view)
	return view, nil
}

func shorten(s string, n int) string {
	for len(s) > n {
		_, size := utf8.DecodeLastRuneInString(s)
		s = s[:len(s)-size]
	}
	return s
}

// carryOut stores the changes, makes missing keys, derives, and stores what
// was given out.
func (d *Desk) carryOut(tx *store.Tx, row store.Estate, changes []change, allocations estate.Allocations) (*View, error) {
	var rows []store.Part
	for _, c := range changes {
		if c.After == nil {
			if err := tx.DeletePart(row.ID, c.Kind, c.Key); err != nil {
				return nil, err
			}
			continue
		}
		rows = append(rows, store.Part{EstateID: row.ID, Kind: c.Kind, Key: c.Key, Place: c.Place, Revision: row.Revision, Body: string(c.After)})
	}
	if len(rows) > 0 {
		if err := tx.SaveParts(rows); err != nil {
			return nil, err
		}
	}
	view, err := load(tx, row)
	if err != nil {
		return nil, err
	}
	view.Estate.Allocations = allocations
	if err := d.makeKeys(tx, row, view.Estate); err != nil {
		return nil, err
	}
	view.derive()
	view.Estate.Allocations = view.Plan.Allocations()
	text, err := json.Marshal(view.Estate.Allocations)
	if err != nil {
		return nil, err
	}
	row.Allocations = string(text)
	return view, tx.SaveEstate(&row)
}

// makeKeys gives every site without a key a new pair. A site that had one
// before it was deleted gets that one back.
func (d *Desk) makeKeys(tx *store.Tx, row store.Estate, e *estate.Estate) error {
	held, err := tx.SiteKeys(row.ID)
	if err != nil {
		return err
	}
	public := maps.Clone(e.Allocations.Keys)
	if public == nil {
		public = map[string]string{}
	}
	for _, k := range held {
		public[k.Site] = k.PublicKey
	}
	var fresh []store.SiteKey
	for i := range e.Sites {
		site := e.Sites[i].Key
		if public[site] != "" || e.Sites[i].Gateway.PublicKey != "" {
			continue
		}
		key, err := ecdh.X25519().GenerateKey(rand.Reader)
		if err != nil {
			return fmt.Errorf("making a key: %w", err)
		}
		public[site] = base64.StdEncoding.EncodeToString(key.PublicKey().Bytes())
		fresh = append(fresh, store.SiteKey{
			EstateID: row.ID, Site: site, PublicKey: public[site],
			Sealed: d.sealer.Seal(key.Bytes(), keyPurpose(row.Key, site)),
		})
	}
	e.Allocations.Keys = public
	if len(fresh) == 0 {
		return nil
	}
	return tx.AddSiteKeys(fresh)
}

func keyPurpose(estateKey, site string) string { return "site key " + estateKey + "/" + site }

// compare lists the parts in which two estates differ. A part keeps its place
// in the document; a new one goes to the end.
func compare(before, after *estate.Estate, places map[string]int64) ([]change, error) {
	old, err := partsOf(before)
	if err != nil {
		return nil, err
	}
	now, err := partsOf(after)
	if err != nil {
		return nil, err
	}
	var out []change
	end := int64(0)
	for _, place := range places {
		end = max(end, place)
	}
	was := make(map[string]change, len(old))
	for _, c := range old {
		was[PartID(c.Kind, c.Key)] = c
	}
	for _, c := range now {
		id := PartID(c.Kind, c.Key)
		earlier, ok := was[id]
		delete(was, id)
		if ok && string(earlier.After) == string(c.After) {
			continue
		}
		if ok {
			c.Place, c.Before = places[id], earlier.After
		} else {
			end++
			c.Place = end
		}
		out = append(out, c)
	}
	for _, c := range old {
		if id := PartID(c.Kind, c.Key); was[id].After != nil {
			c.Place, c.Before, c.After = places[id], c.After, nil
			out = append(out, c)
		}
	}
	return out, nil
}

func partsOf(e *estate.Estate) ([]change, error) {
	out := make([]change, 0, len(e.Sites)+len(e.Overlays)+1)
	add := func(kind store.Kind, key string, part any) error {
		body, err := json.Marshal(part)
		out = append(out, change{Kind: kind, Key: key, After: body})
		return err
	}
	if err := add(store.Head, "", e.About); err != nil {
		return nil, err
	}
	for i := range e.Sites {
		if err := add(store.Site, e.Sites[i].Key, e.Sites[i]); err != nil {
			return nil, err
		}
	}
	for i := range e.Overlays {
		if err := add(store.Overlay, e.Overlays[i].Key, e.Overlays[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Undo takes back the last edit in force.
func (d *Desk) Undo(ctx context.Context, key string) (*View, error) {
	return d.step(ctx, key, (*store.Tx).ToUndo, true)
}

// Redo carries out again the edit that was undone last.
func (d *Desk) Redo(ctx context.Context, key string) (*View, error) {
	return d.step(ctx, key, (*store.Tx).ToRedo, false)
}

func (d *Desk) step(ctx context.Context, key string, pick func(*store.Tx, uint64) (store.Edit, error), undo bool) (*View, error) {
	var view *View
	err := d.store.InTransaction(ctx, func(tx *store.Tx) error {
		row, err := tx.Estate(key, true)
		if err != nil {
			return err
		}
		edit, err := pick(tx, row.ID)
		if errors.Is(err, ErrNotFound) {
			return ErrNothing
		} else if err != nil {
			return err
		}
		var changes []change
		if err := json.Unmarshal([]byte(edit.Changes), &changes); err != nil {
			return fmt.Errorf("reading edit %d of %s: %w", edit.Number, key, err)
		}
		if undo {
			for i := range changes {
				changes[i].Before, changes[i].After = changes[i].After, changes[i].Before
			}
		}
		if err := tx.SetUndone(edit, undo); err != nil {
			return err
		}
		var allocations estate.Allocations
		if err := json.Unmarshal([]byte(row.Allocations), &allocations); err != nil {
			return err
		}
		row.Revision++
		view, err = d.carryOut(tx, row, changes, allocations)
		return err
	})
	if err == nil {
		d.keep(view)
	}
	return view, err
}
