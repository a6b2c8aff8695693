package desk

import (
	"context"
	"crypto/rand"
	"fmt"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/offer"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// A TakenDrift is what became of taking a change by hand into a draft.
type TakenDrift struct {
	Taken []string `json:"taken" doc:"what is in the draft now"`
	Left  []string `json:"left" doc:"what the gateway runs that the draft does not make"`
}

// driftWithin is how long a gateway may take to say what it runs, in seconds.
const driftWithin = 15

// TakeDrift takes what somebody set by hand at a gateway into a draft, as far as a design has
// words for it, as one edit.
func (d *Desk) TakeDrift(ctx context.Context, o Order, site string) (*View, *TakenDrift, error) {
	view, err := d.View(ctx, o.Place)
	if err != nil {
		return nil, nil, err
	}
	if view.Estate.Site(site) == nil {
		return nil, nil, fmt.Errorf("site %q: %w", site, ErrNotFound)
	}
	runs, release, err := d.running(ctx, view.estateID, site)
	if err != nil {
		return nil, nil, err
	}
	confirmed, err := d.View(ctx, Place{o.Place.Estate, fmt.Sprintf("release-%d", release)})
	if err != nil {
		return nil, nil, err
	}
	out := &TakenDrift{Taken: []string{}, Left: []string{}}
	o.Part = PartID(store.Site, site)
	changed, err := d.edit(ctx, o, "Take what was set by hand at the gateway of "+name(view.Estate.Site(site).Name, site), func(e *estate.Estate) (*estate.Estate, error) {
		drift, err := offer.Drifted(confirmed.Estate, e, site, runs)
		if err != nil {
			return nil, err
		}
		if out.Left = drift.Left; len(drift.Taken) == 0 {
			return nil, &identity.Refused{Field: "site", Text: "the design has no words for what was set by hand there; put back what was confirmed, or change the design by hand"}
		}
		out.Taken = drift.Taken
		if problems := estate.ValidateSite(e, drift.Site); len(problems) > 0 {
			return nil, estate.Problems(problems)
		}
		return estate.Merge(e, &estate.Estate{Sites: []estate.Site{*drift.Site}}), nil
	})
	return changed, out, err
}

// running asks a gateway what it runs, and tells which release it confirmed.
func (d *Desk) running(ctx context.Context, estateID uint64, site string) (runs *gateway.Config, release uint64, err error) {
	about := "drift " + rand.Text()
	err = d.store.InTransaction(ctx, func(tx *store.Tx) error {
		g, err := tx.LiveGateway(estateID, site)
		if err != nil {
			return fmt.Errorf("the gateway of %s: %w", site, err)
		}
		if release = g.Confirmed; release == 0 {
			return &identity.Refused{Field: "site", Text: "the gateway of " + site + " has confirmed nothing yet"}
		}
		if !g.Up || g.BarredAt != nil {
			return &identity.Refused{Field: "site", Text: "the gateway of " + site + " is away"}
		}
		return tx.AddAsks([]store.Ask{{EstateID: estateID, Site: site, About: about, Operation: store.AskRunning, Input: "{}"}}, driftWithin)
	})
	if err != nil {
		return nil, 0, err
	}
	by, err := d.await(ctx, estateID, about, driftWithin)
	if err != nil {
		return nil, 0, err
	}
	row := by[site]
	if row == nil || row.Output == nil {
		words := "it did not answer in time"
		if row != nil && row.Words != "" {
			words = row.Words
		}
		return nil, 0, &identity.Refused{Field: "site", Text: "the gateway of " + site + " does not say what it runs: " + words}
	}
	runs, err = gateway.Parse([]byte(*row.Output))
	return runs, release, err
}
