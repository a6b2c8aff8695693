package route

import (
	"fmt"
	"slices"
)

// Where tunnels share the load, a flow keeps to one of them there and back,
// though each end chooses among them by itself: a gateway marks each flow with
// the place of the tunnel by which it came, and answers of a marked flow prefer
// the tunnel of that place among those that share the load on their way. By
// which neighbour they go is decided as for any other packet.

// Marked lists, for each place that tunnels which share the load have in the
// order of their adjacencies, the site's interfaces of such tunnels; the first
// list is that of place 1. It is empty where nothing shares the load.
func (m *Map) Marked(site int) [][]string {
	var out [][]string
	for _, e := range m.Plan.Ends(site) {
		if _, _, t := m.Plan.At(e); t.Weight > 0 {
			local, _ := m.Plan.Sides(e)
			for len(out) <= e.Tunnel {
				out = append(out, nil)
			}
			out[e.Tunnel] = append(out[e.Tunnel], local.Interface)
		}
	}
	return out
}

// placed lists, before a table, one for the answers of flows of each place:
// those of its routes for which that makes a difference.
func placed(x Extra) (out []Extra) {
	last := -1
	for i := range x.Routes {
		for _, h := range x.Routes[i].Hops {
			if h.Weight > 0 {
				last = max(last, h.End.Tunnel)
			}
		}
	}
	for place := 0; place <= last; place++ {
		one := x
		one.Place, one.Why, one.Routes = place+1, fmt.Sprintf("%s, answers by choice %d", x.Why, place+1), nil
		for _, r := range x.Routes {
			if hops, differ := preferring(r.Hops, place); differ {
				r.Hops = hops
				one.Routes = append(one.Routes, r)
			}
		}
		if one.Routes != nil {
			out = append(out, one)
		}
	}
	return append(out, x)
}

// preferring returns hops of which, among those that share the load, that of a
// place comes first alone.
func preferring(hops []Hop, place int) (out []Hop, differ bool) {
	for len(hops) > 0 {
		n := Sharing(hops)
		group := hops[:n]
		hops = hops[n:]
		at := slices.IndexFunc(group, func(h Hop) bool { return h.Weight > 0 && h.End.Tunnel == place })
		if at < 0 {
			out = append(out, group...)
			continue
		}
		differ = true
		first := group[at]
		first.Weight, first.lead = 0, -1
		out = append(out, first)
		for i, h := range group {
			if i == at {
				continue
			}
			h.Metric++ // there is room between metrics
			if n == 2 {
				h.Weight = 0
			}
			out = append(out, h)
		}
	}
	return out, differ
}
