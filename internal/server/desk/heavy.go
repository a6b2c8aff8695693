package desk

import (
	"slices"
	"sync"

	"wideknot/core/gateway"
)

// heavy remembers the configurations made last that take long to make: those of hubs, which are on the
// way between most sites and are asked for again and again while a page is open. Nobody may change them.
type heavy struct {
	mu   sync.Mutex
	kept []heavyConfig // the one used last first
}

type heavyConfig struct {
	of     atRelease
	config *gateway.Config
}

// heavyTunnels is from how many tunnels on a configuration is kept, and mostHeavy how many are.
const (
	heavyTunnels = 200
	mostHeavy    = 4
)

// of returns a configuration, which is made where it is not known.
func (h *heavy) of(key atRelease, produce func() *gateway.Config) *gateway.Config {
	h.mu.Lock()
	at := slices.IndexFunc(h.kept, func(k heavyConfig) bool { return k.of == key })
	if at >= 0 {
		one := h.kept[at]
		h.kept = slices.Insert(slices.Delete(h.kept, at, at+1), 0, one)
		h.mu.Unlock()
		return one.config
	}
	h.mu.Unlock()
	config := produce()
	if len(config.Tunnels) < heavyTunnels {
		return config
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.kept = slices.Insert(h.kept, 0, heavyConfig{key, config})
	h.kept = slices.Delete(h.kept, min(mostHeavy, len(h.kept)), len(h.kept))
	return config
}
