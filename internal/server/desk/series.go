package desk

import (
	"context"
	"errors"
	"net/netip"

	"wideknot/core/diagnose"
	"wideknot/core/gateway"
	"wideknot/internal/server/store"
)

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
	for number := latest; number > 0 && number+releasesBack > latest; number-- {
		config, _, err := d.configOf(ctx, estateKey, site, number)
		if err != nil && !errors.Is(err, ErrNotFound) {
			return nil, err
		}
		if config != nil && config.Digest() == digest {
			return config, nil
		}
	}
	return nil, nil
}

// Target returns an address of a site's LAN, as others know it.
func (d *Desk) Target(ctx context.Context, estateKey, site string) (netip.Addr, error) {
	view, err := d.View(ctx, Place{estateKey, Released})
	if err != nil {
		return netip.Addr{}, err
	}
	return d.addressOf(view, &diagnose.Known{Routes: view.Routes, Gateways: map[string]*diagnose.Gateway{}}, "to", site)
}
