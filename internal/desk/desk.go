// Package desk holds the use cases: edit an estate, import, undo, hand out
// configurations. It is the only layer that joins the core and the store.
package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"time"

	"wideknot/core/check"
	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/internal/identity"
	"wideknot/internal/store"
)

// Errors that callers tell apart. ErrStale comes as a *Stale.
var (
	ErrNotFound = store.ErrNotFound
	ErrTaken    = errors.New("that key is taken")
	ErrNothing  = errors.New("there is nothing to undo or redo")
)

// Stale is the error of an edit that was based on an older state.
type Stale struct {
	What string
	Now  uint64 // the revision it has now
}

func (s *Stale) Error() string {
	return fmt.Sprintf("%s was changed meanwhile; nothing was saved. Load it again and repeat the edit", s.What)
}

// A Desk serves the use cases. It is safe for concurrent use.
type Desk struct {
	store  *store.Store
	sealer *identity.Sealer

	mu    sync.Mutex
	views map[string]*View // the latest derivation of each estate
}

// New returns a desk on an open store.
func New(s *store.Store, sealer *identity.Sealer) *Desk {
	return &Desk{store: s, sealer: sealer, views: map[string]*View{}}
}

// A View is an estate at one revision with all that follows from it. It is
// immutable and shared.
type View struct {
	Key       string
	Revision  uint64
	Estate    *estate.Estate
	Revisions map[string]uint64 // part → revision of its last change; see PartID
	Plan      *tunnel.Plan
	Routes    *route.Map
	Findings  []check.Finding
	Undo      string // label of the edit that undo takes back, empty for none
	Redo      string

	places map[string]int64 // part → its place in the document
}

// PartID names a part in View.Revisions.
func PartID(kind store.Kind, key string) string { return string(kind) + " " + key }

// Summary is a line of the list of estates.
type Summary struct {
	Key      string `json:"key"`
	Name     string `json:"name"`
	Revision uint64 `json:"revision"`
}

// Estates lists the estates.
func (d *Desk) Estates(ctx context.Context) ([]Summary, error) {
	var out []Summary
	err := d.store.InTransaction(ctx, func(tx *store.Tx) error {
		rows, err := tx.Estates()
		out = make([]Summary, 0, len(rows))
		for _, row := range rows {
			head, err := tx.Part(row.ID, store.Head, "")
			if err != nil {
				return err
			}
			var about estate.About
			if err := json.Unmarshal([]byte(head.Body), &about); err != nil {
				return fmt.Errorf("reading the head of %s: %w", row.Key, err)
			}
			out = append(out, Summary{Key: row.Key, Name: about.Name, Revision: row.Revision})
		}
		return err
	})
	return out, err
}

var notInKey = regexp.MustCompile(`[^a-z0-9]+`)

// Create makes an empty estate; its key follows from its name.
func (d *Desk) Create(ctx context.Context, name string) (Summary, error) {
	name = strings.TrimSpace(name)
	key := strings.Trim(notInKey.ReplaceAllString(strings.ToLower(name), "-"), "-")
	if key == "" {
		return Summary{}, estate.Problems{{Path: "name", Message: "the estate needs a name with at least one letter or digit of a-z, 0-9"}}
	}
	key = strings.Trim(key[:min(len(key), 40)], "-")
	if problems := estate.Validate(&estate.Estate{Format: estate.Format, About: estate.About{Name: name}}); len(problems) > 0 {
		problems[0].Path = "name"
		return Summary{}, estate.Problems(problems)
	}
	err := d.store.InTransaction(ctx, func(tx *store.Tx) error {
		if _, err := tx.Estate(key, false); err == nil {
			return fmt.Errorf("%w: there is an estate %q already", ErrTaken, key)
		} else if !errors.Is(err, ErrNotFound) {
			return err
		}
		row := store.Estate{Key: key, Revision: 1, Allocations: "{}", CreatedAt: time.Now().UTC()}
		if err := tx.AddEstate(&row); err != nil {
			return err
		}
		body, err := json.Marshal(estate.About{Name: name})
		if err != nil {
			return err
		}
		return tx.SaveParts([]store.Part{{EstateID: row.ID, Kind: store.Head, Revision: 1, Body: string(body)}})
	})
	return Summary{Key: key, Name: name, Revision: 1}, err
}

// View returns the present state of an estate.
func (d *Desk) View(ctx context.Context, key string) (*View, error) {
	var view *View
	err := d.store.InTransaction(ctx, func(tx *store.Tx) error {
		row, err := tx.Estate(key, false)
		if err != nil {
			return err
		}
		if cached := d.cached(key); cached != nil && cached.Revision == row.Revision {
			view = cached
			return nil
		}
		view, err = load(tx, row)
		return err
	})
	if err != nil || view.Plan != nil {
		return view, err
	}
	view.derive()
	d.keep(view)
	return view, nil
}

func (d *Desk) cached(key string) *View {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.views[key]
}

func (d *Desk) keep(v *View) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if now := d.views[v.Key]; now == nil || now.Revision <= v.Revision {
		d.views[v.Key] = v
	}
}

func (v *View) derive() {
	v.Plan = tunnel.Derive(v.Estate)
	v.Routes = route.Build(v.Plan)
	v.Findings = check.Run(v.Plan, v.Routes)
}

// load assembles the estate from its rows, underived.
func load(tx *store.Tx, row store.Estate) (*View, error) {
	parts, err := tx.Parts(row.ID)
	if err != nil {
		return nil, err
	}
	e := &estate.Estate{Format: estate.Format}
	v := &View{Key: row.Key, Revision: row.Revision, Estate: e, Revisions: make(map[string]uint64, len(parts)), places: make(map[string]int64, len(parts))}
	if err := json.Unmarshal([]byte(row.Allocations), &e.Allocations); err != nil {
		return nil, fmt.Errorf("reading the allocations of %s: %w", row.Key, err)
	}
	for _, p := range parts {
		v.Revisions[PartID(p.Kind, p.Key)] = p.Revision
		v.places[PartID(p.Kind, p.Key)] = p.Place
		if err := addPart(e, p); err != nil {
			return nil, fmt.Errorf("reading %s %s of %s: %w", p.Kind, p.Key, row.Key, err)
		}
	}
	if edit, err := tx.ToUndo(row.ID); err == nil {
		v.Undo = edit.Label
	} else if !errors.Is(err, ErrNotFound) {
		return nil, err
	}
	if edit, err := tx.ToRedo(row.ID); err == nil {
		v.Redo = edit.Label
	} else if !errors.Is(err, ErrNotFound) {
		return nil, err
	}
	return v, nil
}

func addPart(e *estate.Estate, p store.Part) error {
	switch p.Kind {
	case store.Head:
		return json.Unmarshal([]byte(p.Body), &e.About)
	case store.Site:
		e.Sites = append(e.Sites, estate.Site{})
		return json.Unmarshal([]byte(p.Body), &e.Sites[len(e.Sites)-1])
	default:
		e.Overlays = append(e.Overlays, estate.Overlay{})
		return json.Unmarshal([]byte(p.Body), &e.Overlays[len(e.Overlays)-1])
	}
}
