package desk

import (
	"context"
	"fmt"
	"sync"

	"wideknot/core/diff"
)

// weighed keeps what a state changes, by the release it was compared with.
type weighed struct {
	mu      sync.Mutex
	against uint64
	result  *diff.Consequences
}

// Consequences says what a draft changes against its base, the release it was
// branched from or brought up to.
func (d *Desk) Consequences(ctx context.Context, at Place) (*Weighing, error) {
	view, err := d.View(ctx, at)
	if err != nil {
		return nil, err
	}
	w := view.weighed
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.result != nil && w.against == view.Base {
		return weighingOf(view, w.result), nil
	}
	base, err := d.View(ctx, Place{at.Estate, fmt.Sprintf("release-%d", view.Base)})
	if err != nil {
		return nil, err
	}
	w.result, w.against = diff.Weigh(base.State(), view.State()), view.Base
	return weighingOf(view, w.result), nil
}

// Compare says what it comes to to go from one state of an estate to another,
// and, for one site, what becomes of the text of its configuration.
func (d *Desk) Compare(ctx context.Context, from, to Place, site string) (*diff.Consequences, []diff.FileDiff, error) {
	was, err := d.View(ctx, from)
	if err != nil {
		return nil, nil, err
	}
	is, err := d.View(ctx, to)
	if err != nil {
		return nil, nil, err
	}
	files := []diff.FileDiff{}
	if site != "" {
		old, new := was.Plan.SiteIndex(site), is.Plan.SiteIndex(site)
		if old < 0 && new < 0 {
			return nil, nil, fmt.Errorf("site %q: %w", site, ErrNotFound)
		}
		before, err := was.bundleOf(old)
		if err != nil {
			return nil, nil, err
		}
		after, err := is.bundleOf(new)
		if err != nil {
			return nil, nil, err
		}
		files = append(files, diff.Files(before, after)...)
	}
	return diff.Weigh(was.State(), is.State()), files, nil
}
