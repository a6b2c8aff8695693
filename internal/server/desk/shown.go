package desk

import (
	"context"
	"sync"

	"wideknot/core/gateway"
)

// atRelease is a site's gateway at a release.
type atRelease struct {
	estate, release uint64
	site            string
}

// A shown is what pages show of a gateway's configuration.
type shown struct {
	ways    []gateway.Way
	tunnels []gateway.Tunnel
	at      map[string]int // a tunnel by its interface
}

// tunnel returns one by its interface; nil where the release has none.
func (s *shown) tunnel(name string) *gateway.Tunnel {
	if i, has := s.at[name]; has {
		return &s.tunnels[i]
	}
	return nil
}

// shownBefore remembers what pages show of configurations, which take long to work out and are looked at
// again and again while a page is open.
type shownBefore struct {
	mu   sync.Mutex
	kept map[atRelease]*shown
}

// mostShown is how many gateways are remembered.
const mostShown = 1000

// shownOf returns what pages show of the configuration of a site's gateway at a release; nobody may
// change it.
func (d *Desk) shownOf(ctx context.Context, estateID uint64, estateKey, site string, release uint64) (*shown, error) {
	key := atRelease{estateID, release, site}
	d.shown.mu.Lock()
	out := d.shown.kept[key]
	d.shown.mu.Unlock()
	if out != nil {
		return out, nil
	}
	config, _, err := d.configOf(ctx, estateKey, site, release)
	if err != nil {
		return nil, err
	}
	out = &shown{ways: config.Ways, tunnels: config.Tunnels, at: make(map[string]int, len(config.Tunnels))}
	for i := range config.Tunnels {
		out.at[config.Tunnels[i].Interface] = i
	}
	d.shown.mu.Lock()
	defer d.shown.mu.Unlock()
	if d.shown.kept == nil || len(d.shown.kept) >= mostShown {
		d.shown.kept = map[atRelease]*shown{}
	}
	d.shown.kept[key] = out
	return out, nil
}
