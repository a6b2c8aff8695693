package rollout

import (
	"slices"
	"sync/atomic"

	"wideknot/core/gateway"
)

// adds reports whether tunnels come beside those that are there.
func (w *walk) adds() bool {
	var any atomic.Bool
	spread(len(w.gateways), func(i int) {
		if g := &w.gateways[i]; !any.Load() && w.changing[i] && g.Old != nil && g.New != nil && addsTo(g.Old, g.New) {
			any.Store(true)
		}
	})
	return any.Load()
}

// rounds lists what waves do: in one step, or in three passes of which the first only widens
// and the last only narrows. Waves of sites without a hub are one in those.
func (w *walk) rounds(waves []Wave, steps bool) []Round {
	out := []Round{}
	if !steps {
		for i := range waves {
			out = append(out, Round{Name: waves[i].Name, Wave: i, Stage: New, Sites: waves[i].Sites})
		}
		return out
	}
	for _, pass := range []struct {
		stage    Stage
		from     Stage
		together bool
		name     string
	}{{Widened, Old, true, "accept more: "}, {Sending, Widened, false, "send anew: "}, {New, Sending, true, "accept less: "}} {
		differs := w.steps(pass.from, pass.stage)
		var last *Round
		for i := range waves {
			var sites []string
			hubs := false
			for _, site := range waves[i].Sites {
				g := &w.gateways[w.index[site]]
				hubs = hubs || relays(g.Old) || relays(g.New)
				if differs[w.index[site]] {
					sites = append(sites, site)
				}
			}
			switch {
			case len(sites) == 0:
			case pass.together && last != nil && i > 1 && !hubs:
				last.Sites = slices.Concat(last.Sites, sites)
				last.Name = pass.name + "the rest"
			default:
				out = append(out, Round{Name: pass.name + waves[i].Name, Wave: i, Stage: pass.stage, Sites: sites})
				last = &out[len(out)-1]
				if i == 0 {
					last = nil
				}
			}
		}
	}
	return out
}

// steps tells of which gateways something differs between two stages.
func (w *walk) steps(from, to Stage) []bool {
	out := make([]bool, len(w.gateways))
	spread(len(w.gateways), func(i int) {
		config := func(s Stage) *gateway.Config {
			switch s {
			case Old:
				return w.gateways[i].Old
			case New:
				return w.gateways[i].New
			}
			return w.at(i, s).config
		}
		out[i] = w.changing[i] && !same(config(from), config(to))
	})
	return out
}
