package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"wideknot/core/check"
	"wideknot/core/diff"
	"wideknot/core/estate"
	"wideknot/core/words"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// ErrBehind is returned for releasing a draft whose base is not in force.
var ErrBehind = errors.New("something was released since this draft was branched; bring it up to date first")

// Held says why a draft may not be released: errors that it adds, or findings
// for which no reason was given.
type Held struct {
	Errors []check.Finding // that must be fixed
	Asks   []check.Finding // for which a reason is asked
}

func (h *Held) Error() string {
	if n := len(h.Errors); n > 0 {
		return fmt.Sprintf("the draft adds %s be fixed before it is released; the first: %s", words.Many(n, "error, which must", "errors, which must"), h.Errors[0].Title)
	}
	return fmt.Sprintf("write down why this may be released with %s; the first: %s", words.Many(len(h.Asks), "warning it adds or error it leaves", "warnings it adds or errors it leaves"), h.Asks[0].Title)
}

// MaxMessage is how many characters a release's message, and its reason, may have.
const MaxMessage = 5000

// A ReleaseSummary is a line of the list of releases.
type ReleaseSummary struct {
	Number  uint64    `json:"number"`
	At      time.Time `json:"at"`
	Author  string    `json:"author"`
	Draft   string    `json:"draft" doc:"key of the draft that was released"`
	Message string    `json:"message"`
	Reason  string    `json:"reason" doc:"why it was released with warnings or standing errors"`
}

func releaseOf(row store.Release) ReleaseSummary {
	return ReleaseSummary{Number: row.Number, At: row.At, Author: row.Author, Draft: row.Draft, Message: row.Message, Reason: row.Reason}
}

// Release makes a draft's state the one in force, under the next number, for
// good. Errors that the draft adds hold it; warnings it adds, and errors that
// were released before and still stand, want a reason. The draft goes on, based
// on its own release.
func (d *Desk) Release(ctx context.Context, o Order, message, reason string) (ReleaseSummary, error) {
	message, reason = strings.TrimSpace(message), strings.TrimSpace(reason)
	for _, text := range []struct{ path, text string }{{"message", message}, {"reason", reason}} {
		if n := utf8.RuneCountInString(text.text); n > MaxMessage || n == 0 && text.path == "message" {
			return ReleaseSummary{}, estate.Problems{{Path: text.path, Message: fmt.Sprintf("a release needs a message that says what it is for; it, and a reason, have at most %d characters", MaxMessage)}}
		}
	}
	request := o.Request
	o.Request = "" // of the release, not of an edit
	var out ReleaseSummary
	_, err := d.step(ctx, o, func(at *opening) (*View, error) {
		e, err := at.tx.Estate(o.Estate, true)
		if err != nil {
			return nil, err
		}
		if request != "" {
			if row, err := at.tx.ReleaseOfRequest(e.ID, request); err == nil {
				out = releaseOf(row)
				return at.view, o.same(row.Digest)
			} else if !errors.Is(err, ErrNotFound) {
				return nil, err
			}
		}
		if at.row.Base != e.Release {
			return nil, ErrBehind
		}
		if at.view.Plan == nil {
			at.view.derive()
		}
		base, err := d.viewOfRelease(at.tx, e, e.Release)
		if err != nil {
			return nil, err
		}
		if base.Plan == nil {
			base.derive()
			d.memory.keep(base)
		}
		if err := gate(base, at.view, reason); err != nil {
			return nil, err
		}
		out, err = d.putInForce(ctx, at, e, message, reason, request, o.Digest)
		if err != nil {
			return nil, err
		}
		e.Release = out.Number
		at.row.Base = out.Number
		return at.view.standing(e, at.row), nil
	})
	return out, err
}

// gate holds what must not be released.
func gate(base, draft *View, reason string) error {
	c := diff.Weigh(base.State(), draft.State())
	if c.Empty() && len(c.Sites.Changed) == 0 {
		if parts, err := compare(base.Estate, draft.Estate, nil); err == nil && len(parts) == 0 {
			return fmt.Errorf("%w: the draft is what is released already", ErrNothing)
		}
	}
	held := &Held{}
	for _, f := range c.FindingsNew {
		switch {
		case f.Severity == check.Error && !f.Acceptable():
			held.Errors = append(held.Errors, f)
		case f.Severity != check.Note:
			held.Asks = append(held.Asks, f)
		}
	}
	stood := map[string]bool{}
	for _, f := range base.Findings() {
		stood[f.ID] = true
	}
	for _, f := range draft.Findings() {
		if f.Severity == check.Error && stood[f.ID] {
			held.Asks = append(held.Asks, f)
		}
	}
	if len(held.Errors) > 0 || len(held.Asks) > 0 && reason == "" {
		return held
	}
	return nil
}

// putInForce stores the draft's state as the next release. What is to be done
// to gateways will follow from the row: whoever rolls out takes the highest
// number that it has not carried out yet.
func (d *Desk) putInForce(ctx context.Context, at *opening, e store.Estate, message, reason, request string, digest []byte) (ReleaseSummary, error) {
	document, err := json.Marshal(at.view.Estate)
	if err != nil {
		return ReleaseSummary{}, err
	}
	now := time.Now().UTC().Truncate(time.Millisecond)
	row := store.Release{
		EstateID: e.ID, Number: e.Release + 1, At: now, Author: identity.ActorOf(ctx).Name, Draft: at.row.Key,
		Message: message, Reason: reason, Document: string(document),
	}
	if request != "" {
		row.Request, row.Digest = &request, digest
	}
	if err := at.tx.AddRelease(&row); err != nil {
		return ReleaseSummary{}, err
	}
	e.Release, e.Name = row.Number, at.view.Estate.About.Name
	if err := at.tx.SaveEstate(&e); err != nil {
		return ReleaseSummary{}, err
	}
	draft := at.row
	draft.Base = row.Number
	if err := at.tx.SaveDraft(&draft, "base"); err != nil {
		return ReleaseSummary{}, err
	}
	act := identity.Act{
		Action: "release.make", Estate: e.ID, Draft: draft.Key, Object: fmt.Sprintf("release %d", row.Number),
		Before: map[string]any{"release": row.Number - 1}, After: map[string]any{"release": row.Number, "message": message, "reason": reason},
	}
	return releaseOf(row), identity.Record(ctx, at.tx, now, act)
}

// Seed makes a release of a draft without asking about findings, for estates
// that come with some.
func (d *Desk) Seed(ctx context.Context, o Order, message string) error {
	_, err := d.step(ctx, o, func(at *opening) (*View, error) {
		e, err := at.tx.Estate(o.Estate, true)
		if err != nil {
			return nil, err
		}
		if at.view.Plan == nil {
			at.view.derive()
		}
		out, err := d.putInForce(ctx, at, e, message, "", "", nil)
		e.Release, at.row.Base = out.Number, out.Number
		return at.view.standing(e, at.row), err
	})
	return err
}

// Releases lists the releases of an estate, newest first.
func (d *Desk) Releases(ctx context.Context, key string) ([]ReleaseSummary, error) {
	out := []ReleaseSummary{}
	err := d.store.Snapshot(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(key, false)
		if err != nil {
			return err
		}
		rows, err := tx.Releases(e.ID)
		for _, row := range rows {
			out = append(out, releaseOf(row))
		}
		return err
	})
	return out, err
}

func decoded(row store.Release) (*estate.Estate, error) {
	e := &estate.Estate{}
	if err := json.Unmarshal([]byte(row.Document), e); err != nil {
		return nil, fmt.Errorf("reading release %d: %w", row.Number, err)
	}
	return e, nil
}
