package desk

import (
	"context"
	"errors"
	"net/netip"
	"sync"
	"time"

	"wideknot/core/diagnose"
	"wideknot/core/gateway"
	"wideknot/core/offer"
	"wideknot/internal/server/series"
	"wideknot/internal/server/store"
)

// benchCounts is for how many days what a tunnel bore is offered to the survey.
const benchCounts = 90

// releasesBack is how many releases are looked at for what a gateway ran.
const releasesBack = 12

// RanAt returns what a gateway ran, by its digest; nil where that is of none of the last releases.
func (d *Desk) RanAt(ctx context.Context, estateKey, site, digest string) (*gateway.Config, error) {
	var latest uint64
	err := d.store.Snapshot(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(estateKey, false)
		latest = e.Release
		return err
	})
	if err != nil {
		return nil, err
	}
	key := ran{estateKey, site, digest, latest}
	if number, known := d.rans.known(key); known {
		if number == 0 {
			return nil, nil
		}
		config, _, err := d.configOf(ctx, estateKey, site, number)
		return config, err
	}
	leave, err := d.Working(ctx) // releases of long ago are derived anew
	if err != nil {
		return nil, err
	}
	defer leave()
	for number := latest; number > 0 && number+releasesBack > latest; number-- {
		config, _, err := d.configOf(ctx, estateKey, site, number)
		if err != nil && !errors.Is(err, ErrNotFound) {
			return nil, err
		}
		if config != nil && config.Digest() == digest {
			d.rans.keep(key, number)
			return config, nil
		}
	}
	d.rans.keep(key, 0)
	return nil, nil
}

// ran is what a gateway ran, while a release is the latest.
type ran struct {
	estate, site, digest string
	latest               uint64
}

// rans remembers which release that is of; 0 is none.
type rans struct {
	mu   sync.Mutex
	kept map[ran]uint64
}

// mostRans is how many are remembered.
const mostRans = 20_000

func (r *rans) known(key ran) (number uint64, known bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	number, known = r.kept[key]
	return number, known
}

func (r *rans) keep(key ran, number uint64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.kept == nil || len(r.kept) >= mostRans {
		r.kept = map[ran]uint64{}
	}
	r.kept[key] = number
}

// measured is what a site's gateway measured, by the tunnels of the release in force.
func (d *Desk) measured(ctx context.Context, estateKey, site string) (*offer.Measured, error) {
	view, err := d.View(ctx, Place{estateKey, Released})
	if err != nil {
		return nil, err
	}
	out := &offer.Measured{}
	at := view.Plan.SiteIndex(site)
	if at < 0 {
		return out, nil
	}
	tunnels, links, err := series.Summary(ctx, d.store, view.estateID, site)
	if err != nil {
		return nil, err
	}
	for i := range links {
		out.Links = append(out.Links, offer.MeasuredLink(links[i]))
	}
	runs, err := d.Benches(ctx, estateKey, site, benchCounts)
	if err != nil {
		return nil, err
	}
	for i := range runs {
		r := &runs[i]
		one := offer.MeasuredRate{Link: r.Link, Up: true, Mbps: r.LinkMbps, Limit: r.Limit, Far: r.DownMbps, With: r.Peer + "/" + r.PeerLink, Day: r.At.Format(time.DateOnly)}
		if r.Peer == site {
			one.Link, one.Up, one.Far, one.With = r.PeerLink, false, r.UpMbps, r.Site+"/"+r.Link
		}
		out.Rates = append(out.Rates, one)
	}
	config := gateway.Of(view.Routes, at)
	for i := range tunnels {
		s := &tunnels[i]
		if t := config.Tunnel(s.Interface); t != nil {
			out.Tunnels = append(out.Tunnels, offer.MeasuredTunnel{Link: t.Link, Peer: t.Peer, PeerLink: t.PeerLink, LatencyMs: s.LatencyMs, JitterMs: s.JitterMs, LossPercent: s.LossPercent, Hours: s.Hours})
		}
	}
	return out, nil
}

// Target returns an address of a site's LAN, as others know it.
func (d *Desk) Target(ctx context.Context, estateKey, site string) (netip.Addr, error) {
	view, err := d.View(ctx, Place{estateKey, Released})
	if err != nil {
		return netip.Addr{}, err
	}
	return d.addressOf(view, &diagnose.Known{Routes: view.Routes, Gateways: map[string]*diagnose.Gateway{}}, "to", site)
}
