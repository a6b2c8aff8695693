package desk

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"wideknot/core/diagnose"
	"wideknot/core/gateway"
	"wideknot/core/tunnel"
	"wideknot/internal/server/store"
)

// A LiveLoom is how the pairs of an overlay are joined at present, by the release in force.
type LiveLoom struct {
	Release  uint64    `json:"release" doc:"in force; 0 for none, and then nothing is joined"`
	At       time.Time `json:"at"`
	Overlays []string  `json:"overlays" doc:"of the release"`
	Overlay  string    `json:"overlay" doc:"shown; empty where there is none"`
	diagnose.LiveLoom
}

// LiveLoom weaves an overlay of the release in force, the first where none is named, with the
// sites of a region where there are too many for a row each; nobody may change it.
func (d *Desk) LiveLoom(ctx context.Context, estateKey, overlay, region string) (*LiveLoom, error) {
	is, err := d.atPresent(ctx, estateKey)
	if err != nil {
		return nil, err
	}
	view := is.view
	out := &LiveLoom{Release: view.Latest, At: is.now.At, Overlays: []string{}, LiveLoom: diagnose.LiveLoom{Columns: []diagnose.LiveColumn{}, Rows: []diagnose.LiveRow{}}}
	for i := range view.Plan.Overlays {
		out.Overlays = append(out.Overlays, view.Plan.Overlays[i].Spec.Key)
	}
	if overlay == "" && len(out.Overlays) > 0 {
		overlay = out.Overlays[0]
	}
	at := slices.Index(out.Overlays, overlay)
	if view.Latest == 0 || at < 0 {
		if overlay != "" && at < 0 {
			return nil, fmt.Errorf("overlay %q in the release in force: %w", overlay, ErrNotFound)
		}
		return out, nil
	}
	o := &view.Plan.Overlays[at]
	if !slices.ContainsFunc(o.Members, func(site int) bool { return view.Plan.Site(site).Region == region }) {
		region = "" // there is none of it, and made up ones are not kept
	}
	is.mu.Lock()
	defer is.mu.Unlock()
	if known := is.looms[[2]string{overlay, region}]; known != nil {
		return known, nil
	}
	leave, err := d.Working(ctx)
	if err != nil {
		return nil, err
	}
	defer leave()
	known, err := d.carrying(ctx, estateKey, view, is.known, o, region)
	if err != nil {
		return nil, err
	}
	out.Overlay, out.LiveLoom = overlay, diagnose.Weave(known, o, region)
	is.looms[[2]string{overlay, region}] = out
	return out, nil
}

// carrying adds to what is known which tunnels carry at the sites that have rows.
func (d *Desk) carrying(ctx context.Context, estateKey string, view *View, known *diagnose.Known, o *tunnel.Overlay, region string) (*diagnose.Known, error) {
	out := &diagnose.Known{Routes: known.Routes, Gateways: maps.Clone(known.Gateways)}
	rows, _ := diagnose.LoomSites(view.Plan, o, region)
	var sites []string
	for _, site := range rows {
		if key := view.Plan.Site(site).Key; known.Of(key).Up {
			sites = append(sites, key)
		}
	}
	states := map[string]string{}
	err := d.store.Snapshot(ctx, func(tx *store.Tx) (err error) {
		states, err = tx.GatewayStatesOf(view.estateID, sites)
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, site := range rows {
		key := view.Plan.Site(site).Key
		state, err := gateway.ParseState([]byte(states[key]))
		if err != nil {
			continue // what cannot be read is not known
		}
		g := *known.Of(key)
		g.State = state
		if state.Release > 0 {
			runs, err := d.shownOf(ctx, view.estateID, estateKey, key, uint64(state.Release))
			switch {
			case err == nil:
				g.Carries = state.Carries(runs.ways)
			case !errors.Is(err, ErrNotFound):
				return nil, err
			}
		}
		out.Gateways[key] = &g
	}
	return out, nil
}
