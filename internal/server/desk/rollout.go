package desk

import (
	"context"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"sync"

	"wideknot/core/gateway"
	"wideknot/core/rollout"
	"wideknot/internal/server/store"
)

// RolloutGateways lists the gateways of an estate between what they keep and what they are at
// a release, where they keep what bases say, and the release that each of those that take part
// keeps.
func (d *Desk) RolloutGateways(ctx context.Context, estateKey string, release uint64, bases map[string]uint64) ([]rollout.Gateway, map[string]uint64, error) {
	to, err := d.View(ctx, Place{estateKey, fmt.Sprintf("release-%d", release)})
	if err != nil {
		return nil, nil, err
	}
	usual := usualOf(bases, release)
	views := map[uint64]*View{release: to}
	for _, base := range append(slices.Collect(maps.Values(bases)), usual) {
		if views[base] == nil && base > 0 {
			if views[base], err = d.View(ctx, Place{estateKey, fmt.Sprintf("release-%d", base)}); err != nil {
				return nil, nil, err
			}
		}
	}
	out := d.between(views, to, bases, usual)
	part := map[string]uint64{}
	for i := range out {
		if base := bases[out[i].Key]; base > 0 && !out[i].Fixed {
			part[out[i].Key] = base
		}
	}
	return out, part, nil
}

// Keeping lists the release that each gateway of an estate that joined said it keeps.
func (d *Desk) Keeping(ctx context.Context, estateKey string) (out map[string]uint64, err error) {
	err = d.store.Snapshot(ctx, func(tx *store.Tx) error {
		out = map[string]uint64{}
		e, err := tx.Estate(estateKey, false)
		if err != nil {
			return fmt.Errorf("estate %q: %w", estateKey, err)
		}
		live, err := tx.LiveGateways(e.ID)
		for i := range live {
			g := &live[i]
			if g.BarredAt != nil || g.Confirmed == 0 {
				continue
			}
			if g.Attempt != g.ConfirmedAttempt && g.Phase != "differs" && g.Phase != "failed" && g.Phase != "went-back" && g.Up {
				return fmt.Errorf("%w: %s is not at release %d yet", ErrRolling, g.Site, g.Wanted)
			}
			out[g.Site] = g.Confirmed
		}
		return err
	})
	return out, err
}

// usualOf is the release that most gateways keep: what has not joined is taken to have it too.
// Where none has joined it is the one before.
func usualOf(bases map[string]uint64, release uint64) uint64 {
	count := map[uint64]int{}
	most := release - 1
	for _, base := range bases {
		if count[base]++; count[base] > count[most] || count[base] == count[most] && base > most {
			most = base
		}
	}
	return most
}

// between makes the configurations of all sites that the release or the usual one before it
// has.
func (d *Desk) between(views map[uint64]*View, to *View, bases map[string]uint64, usual uint64) []rollout.Gateway {
	var out []rollout.Gateway
	for i := range to.Estate.Sites {
		out = append(out, rollout.Gateway{Key: to.Estate.Sites[i].Key, Region: to.Estate.Sites[i].Region})
	}
	if was := views[usual]; was != nil {
		for i := range was.Estate.Sites {
			if site := &was.Estate.Sites[i]; to.Plan.SiteIndex(site.Key) < 0 {
				out = append(out, rollout.Gateway{Key: site.Key, Region: site.Region, Fixed: true})
			}
		}
	}
	of := func(v *View, site string) *gateway.Config {
		if v == nil {
			return nil
		}
		at := v.Plan.SiteIndex(site)
		if at < 0 {
			return nil
		}
		return gateway.Of(v.Routes, at)
	}
	var all sync.WaitGroup
	turns := make(chan struct{}, runtime.GOMAXPROCS(0))
	for i := range out {
		turns <- struct{}{}
		all.Go(func() {
			defer func() { <-turns }()
			g := &out[i]
			base, joined := bases[g.Key]
			if !joined {
				g.Fixed = true
				base = usual
			}
			g.Old = of(views[base], g.Key)
			if !g.Fixed {
				g.New = of(to, g.Key)
			}
			if joined && (g.Old == nil || g.New == nil) { // it keeps what is of no release of its own
				g.Fixed = true
			}
		})
	}
	all.Wait()
	return out
}
