package identity

import (
	"context"
	"encoding/json"
	"fmt"
	"time"
	"unicode/utf8"

	"wideknot/internal/server/store"
)

// An Act is something done, for the audit. Before and After are stored as JSON;
// nil for nothing. Neither may hold a secret.
type Act struct {
	Action string // family.verb, such as draft.edit
	Estate uint64
	Draft  string
	Object string
	Before any
	After  any
}

// Record adds to the audit, in the transaction of what was done, that the actor
// of the context did it.
func Record(ctx context.Context, tx *store.Tx, at time.Time, a Act) error {
	who := ActorOf(ctx)
	row := &store.Record{
		At: at, AccountID: who.Account, Who: who.Name, Origin: shorten(who.Origin, 100), Request: shorten(who.Request, 64),
		Action: a.Action, EstateID: a.Estate, Draft: a.Draft, Object: shorten(a.Object, 255),
	}
	for _, side := range []struct {
		value any
		field **string
	}{{a.Before, &row.BeforeIt}, {a.After, &row.AfterIt}} {
		if side.value == nil {
			continue
		}
		text, err := json.Marshal(side.value)
		if err != nil {
			return fmt.Errorf("recording %s: %w", a.Action, err)
		}
		s := string(text)
		*side.field = &s
	}
	return tx.AddRecord(row)
}

// shorten cuts a text to at most n bytes, between characters.
func shorten(s string, n int) string {
	for len(s) > n {
		_, size := utf8.DecodeLastRuneInString(s)
		s = s[:len(s)-size]
	}
	return s
}

// RecordLines lists the audit, newest first, without what was changed.
func (o *Office) RecordLines(ctx context.Context, f store.RecordFilter) ([]store.Record, error) {
	f.Lines = true
	return o.Records(ctx, f)
}

// Record returns one record of an estate.
func (o *Office) Record(ctx context.Context, estate, id uint64) (store.Record, error) {
	rows, err := o.Records(ctx, store.RecordFilter{Estate: estate, Before: id + 1, Limit: 1})
	if err == nil && (len(rows) == 0 || rows[0].ID != id) {
		return store.Record{}, fmt.Errorf("record %d: %w", id, store.ErrNotFound)
	} else if err != nil {
		return store.Record{}, err
	}
	return rows[0], nil
}

// Records lists the audit, newest first.
func (o *Office) Records(ctx context.Context, f store.RecordFilter) ([]store.Record, error) {
	var out []store.Record
	err := o.store.Snapshot(ctx, func(tx *store.Tx) error {
		var err error
		out, err = tx.Records(f)
		return err
	})
	return out, err
}
