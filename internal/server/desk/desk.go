// Package desk holds the use cases: edit a draft, import, undo, release, hand
// out configurations. It is the only layer that joins the core and the store.
package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"wideknot/core/check"
	"wideknot/core/diff"
	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// Errors that callers tell apart. What is stale comes as a *Stale, what may
// not be released as a *Held.
var (
	ErrNotFound = store.ErrNotFound
	ErrTaken    = errors.New("that name is taken")
	ErrNothing  = errors.New("there is nothing to undo or redo")
	ErrFixed    = errors.New("what was released is never edited; start a draft from it")
	ErrShelved  = errors.New("this draft was discarded; restore it first")
)

// A Step is one thing done to a draft: an edit, an undo or a redo.
type Step struct {
	Revision uint64         `json:"revision"`
	Kind     store.StepKind `json:"kind" enum:"edit,undo,redo"`
	At       time.Time      `json:"at"`
	Author   string         `json:"author"`
	Label    string         `json:"label"`
	Parts    []string       `json:"parts" doc:"what it changed, such as 'site tarnhollow'"`
}

// Stale is the error of an edit that was based on an older state.
type Stale struct {
	What    string
	Now     uint64   // the revision it has now
	Steps   []Step   // that changed it meanwhile
	Changes []string // what became of it, in words
}

func (s *Stale) Error() string {
	by := ""
	if n := len(s.Steps); n > 0 {
		by = fmt.Sprintf(" by %s (%s)", s.Steps[n-1].Author, s.Steps[n-1].Label)
	}
	return fmt.Sprintf("%s was changed meanwhile%s; nothing was saved. Load it again and repeat the edit", s.What, by)
}

// A Desk serves the use cases. It is safe for concurrent use. Its methods take
// who asks from the context.
type Desk struct {
	store  *store.Store
	sealer *identity.Sealer

	memory memory
	queues queues
	turns  chan struct{} // edits at work: each derives, which takes a core

	looks    sync.Map // estates whose gateways are being asked to look
	rans     rans
	shown    shownBefore
	heavy    heavy
	benches  sync.Map      // estates of which a tunnel is being loaded
	sessions sync.Map      // estates of which sessions are being asked for
	nows     sync.Map      // estate → *lately
	whys     chan struct{} // see Working

	mu      sync.Mutex
	watches map[uint64]*watch
	closed  bool
}

// New returns a desk on an open store.
func New(s *store.Store, sealer *identity.Sealer) *Desk {
	return &Desk{
		store: s, sealer: sealer, memory: memory{views: map[string]*kept{}}, queues: queues{byID: map[uint64]*queue{}},
		turns: make(chan struct{}, max(2, runtime.NumCPU())), watches: map[uint64]*watch{}, whys: make(chan struct{}, runtime.NumCPU()),
	}
}

// A Place is a state of an estate: a draft by its key, "released", or
// "release-N".
type Place struct {
	Estate string
	Draft  string
}

// Released names the state in force.
const Released = "released"

// release returns the number that the place names; fixed is false for a draft.
func (p Place) release(latest uint64) (number uint64, fixed bool) {
	if p.Draft == Released {
		return latest, true
	}
	text, ok := strings.CutPrefix(p.Draft, "release-")
	if !ok {
		return 0, false
	}
	number, err := strconv.ParseUint(text, 10, 64)
	return number, err == nil
}

// A View is a state of an estate with all that follows from it. It is
// immutable and shared.
type View struct {
	Key       string // of the estate
	Draft     string // its key, or "release-N"
	DraftName string
	Fixed     bool      // a release
	At        time.Time // of a release: when it was made
	Discarded bool
	Revision  uint64
	Base      uint64 // release that the draft was branched from, or brought up to
	Latest    uint64 // release in force
	Estate    *estate.Estate
	Revisions map[string]uint64 // part → revision of its last change; see PartID
	Plan      *tunnel.Plan
	Routes    *route.Map
	Undo      string // label of the edit that undo takes back, empty for none
	Redo      string
	Added     []string // parts that the step which led here made; of what an edit returns alone

	estateID, draftID uint64
	places            map[string]int64 // part → its place in the document
	weighed           *weighed
	outages           *outages
	prompt            []check.Finding // without those of loads
}

// PartID names a part in View.Revisions.
func PartID(kind store.Kind, key string) string { return string(kind) + " " + key }

// View returns a state of an estate as it is at present.
func (d *Desk) View(ctx context.Context, at Place) (*View, error) {
	var e store.Estate
	var row store.Draft
	number, fixed := uint64(0), false
	err := d.store.Snapshot(ctx, func(tx *store.Tx) error {
		var err error
		if e, err = tx.Estate(at.Estate, false); err != nil {
			return fmt.Errorf("estate %q: %w", at.Estate, err)
		}
		if number, fixed = at.release(e.Release); fixed {
			return nil
		}
		if row, err = tx.Draft(e.ID, at.Draft, false, false); err != nil {
			return fmt.Errorf("draft %q: %w", at.Draft, err)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	id, revision := draftID(row.ID), row.Revision
	if fixed {
		id, revision = releaseID(e.ID, number), number
	}
	view := d.memory.known(id)
	if view == nil || view.Revision != revision {
		view, err = d.memory.make(ctx, id, revision, func(ctx context.Context) (*View, error) {
			var made *View
			err := d.store.Snapshot(ctx, func(tx *store.Tx) error {
				var err error
				if fixed {
					made, err = loadRelease(tx, e, number)
				} else {
					made, err = load(tx, e, row)
				}
				return err
			})
			if err == nil {
				made.derive()
			}
			return made, err
		})
		if err != nil {
			return nil, err
		}
	}
	return view.standing(e, row), nil
}

// standing returns the view with what may change while the revision does not.
func (v *View) standing(e store.Estate, row store.Draft) *View {
	out := *v
	out.Latest, out.Added = e.Release, nil
	if !v.Fixed {
		out.DraftName, out.Base, out.Discarded = row.Name, row.Base, row.DiscardedAt != nil
	}
	return &out
}

// viewOfDraft returns the latest derivation of a draft if it is still right, and
// else loads the draft, underived.
func (d *Desk) viewOfDraft(tx *store.Tx, e store.Estate, row store.Draft) (*View, error) {
	known := d.memory.known(draftID(row.ID))
	if known == nil || known.Revision != row.Revision {
		var err error
		if known, err = load(tx, e, row); err != nil {
			return nil, err
		}
	}
	return known.standing(e, row), nil
}

// viewOfRelease returns the derivation of a release, or loads it, underived.
func (d *Desk) viewOfRelease(tx *store.Tx, e store.Estate, number uint64) (*View, error) {
	known := d.memory.known(releaseID(e.ID, number))
	if known == nil {
		var err error
		if known, err = loadRelease(tx, e, number); err != nil {
			return nil, err
		}
	}
	return known.standing(e, store.Draft{}), nil
}

func loadRelease(tx *store.Tx, e store.Estate, number uint64) (*View, error) {
	row, err := tx.Release(e.ID, number)
	if err != nil {
		return nil, fmt.Errorf("release %d: %w", number, err)
	}
	v := &View{
		Key: e.Key, Draft: fmt.Sprintf("release-%d", number), DraftName: fmt.Sprintf("Release %d", number), Fixed: true, At: row.At,
		Revision: number, Base: number, Revisions: map[string]uint64{}, estateID: e.ID,
	}
	v.Estate, err = decoded(row)
	return v, err
}

// derive works out what follows from the estate; what takes longest, the loads,
// when it is first asked for.
func (v *View) derive() {
	v.Plan = tunnel.Derive(v.Estate)
	v.Routes = route.Build(v.Plan)
	v.weighed, v.outages = &weighed{}, &outages{}
	v.prompt = check.Prompt(v.Plan, v.Routes)
}

// Findings lists what is wrong or risky.
func (v *View) Findings() []check.Finding {
	v.Model()
	return v.outages.findings
}

// FindingsNow is Findings as far as they are worked out; settled is false while
// those are missing that the loads have to be known for.
func (v *View) FindingsNow() (list []check.Finding, settled bool) {
	if v.outages.ready.Load() {
		return v.outages.findings, true
	}
	return v.prompt, false
}

// State returns what diff compares.
func (v *View) State() diff.State { return diff.State{Routes: v.Routes, Findings: v.Findings()} }

// load assembles a draft from its rows, underived.
func load(tx *store.Tx, e store.Estate, row store.Draft) (*View, error) {
	row, err := tx.Draft(row.EstateID, row.Key, false, true)
	if err != nil {
		return nil, err
	}
	parts, err := tx.Parts(row.ID)
	if err != nil {
		return nil, err
	}
	v := &View{
		Key: e.Key, Draft: row.Key, Revision: row.Revision, Estate: &estate.Estate{Format: estate.Format},
		Revisions: make(map[string]uint64, len(parts)), places: make(map[string]int64, len(parts)),
		estateID: e.ID, draftID: row.ID,
	}
	if err := json.Unmarshal([]byte(row.Allocations), &v.Estate.Allocations); err != nil {
		return nil, fmt.Errorf("reading the allocations of %s: %w", row.Key, err)
	}
	for _, p := range parts {
		v.Revisions[PartID(p.Kind, p.Key)] = p.Revision
		v.places[PartID(p.Kind, p.Key)] = p.Place
		if err := addPart(v.Estate, p.Kind, []byte(p.Body)); err != nil {
			return nil, fmt.Errorf("reading %s %s of %s: %w", p.Kind, p.Key, row.Key, err)
		}
	}
	return v, v.loadSteps(tx)
}

// loadSteps reads what undo and redo would do.
func (v *View) loadSteps(tx *store.Tx) error {
	v.Undo, v.Redo = "", ""
	if edit, err := tx.ToUndo(v.draftID); err == nil {
		v.Undo = edit.Label
	} else if !errors.Is(err, ErrNotFound) {
		return err
	}
	if edit, err := tx.ToRedo(v.draftID); err == nil {
		v.Redo = edit.Label
	} else if !errors.Is(err, ErrNotFound) {
		return err
	}
	return nil
}

func addPart(e *estate.Estate, kind store.Kind, body []byte) error {
	switch kind {
	case store.Head:
		e.About = estate.About{}
		return json.Unmarshal(body, &e.About)
	case store.Site:
		e.Sites = append(e.Sites, estate.Site{})
		return json.Unmarshal(body, &e.Sites[len(e.Sites)-1])
	default:
		e.Overlays = append(e.Overlays, estate.Overlay{})
		return json.Unmarshal(body, &e.Overlays[len(e.Overlays)-1])
	}
}

// changed returns the view after changes, underived, as loading it anew would
// give it. It shares the parts that stay.
func (v *View) changed(changes []change, revision uint64) (*View, error) {
	out, copied := *v, *v.Estate
	e := &copied
	e.Sites, e.Overlays = slices.Clone(e.Sites), slices.Clone(e.Overlays)
	out.Estate, out.Plan, out.Routes = e, nil, nil
	out.Revision, out.Revisions, out.places = revision, maps.Clone(v.Revisions), maps.Clone(v.places)
	gone := map[string]bool{}
	for _, c := range changes {
		id := PartID(c.Kind, c.Key)
		gone[id] = true
		delete(out.Revisions, id)
		delete(out.places, id)
	}
	e.Sites = slices.DeleteFunc(e.Sites, func(s estate.Site) bool { return gone[PartID(store.Site, s.Key)] })
	e.Overlays = slices.DeleteFunc(e.Overlays, func(o estate.Overlay) bool { return gone[PartID(store.Overlay, o.Key)] })
	for _, c := range changes {
		if c.After == nil {
			continue
		}
		id := PartID(c.Kind, c.Key)
		out.Revisions[id], out.places[id] = revision, c.Place
		if err := addPart(e, c.Kind, c.After); err != nil {
			return nil, err
		}
	}
	slices.SortStableFunc(e.Sites, func(a, b estate.Site) int { return out.order(store.Site, a.Key, b.Key) })
	slices.SortStableFunc(e.Overlays, func(a, b estate.Overlay) int { return out.order(store.Overlay, a.Key, b.Key) })
	return &out, nil
}

func (v *View) order(kind store.Kind, a, b string) int {
	if x, y := v.places[PartID(kind, a)], v.places[PartID(kind, b)]; x != y {
		return int(x - y)
	}
	return strings.Compare(a, b)
}
