package diff

import (
	"fmt"
	"net/netip"

	"wideknot/core/route"
)

// RouteLine is one prefix of a site before and after.
type RouteLine struct {
	Prefix netip.Prefix `json:"prefix"`
	To     string       `json:"to"`  // the site that has it
	Was    string       `json:"was"` // "INTERFACE via NEIGHBOUR", several that share the load joined by " + ", or the kind of a route without tunnel; empty for no route
	Is     string       `json:"is"`
	Behind []string     `json:"standby"` // what stands by now, in order
	Why    string       `json:"why"`     // what set the winner apart from the first standby
	Moved  bool         `json:"moved"`
}

func linesOf(m *route.Map, site string) (map[netip.Prefix]RouteLine, []netip.Prefix) {
	out, order := map[netip.Prefix]RouteLine{}, []netip.Prefix{}
	i := m.Plan.SiteIndex(site)
	if i < 0 {
		return out, order
	}
	for _, r := range m.Table(i) {
		line := RouteLine{Prefix: r.Prefix, To: m.Plan.Site(r.To).Key, Is: string(r.Kind), Behind: []string{}}
		sharing := route.Sharing(r.Hops)
		for n, h := range r.Hops {
			text := h.Interface + " via " + m.Plan.Site(h.Via).Key
			if h.Weight > 0 {
				text = fmt.Sprintf("%s × %d via %s", h.Interface, h.Weight, m.Plan.Site(h.Via).Key)
			}
			switch {
			case n == 0:
				line.Is, line.Why = text, string(h.Why)
			case n < sharing:
				line.Is += " + " + text
			default:
				line.Behind = append(line.Behind, text)
			}
		}
		out[r.Prefix] = line
		order = append(order, r.Prefix)
	}
	return out, order
}

// Routes lays a site's routes beside what they were: those of now in address
// order, then those that are gone; moved counts the lines that differ.
func Routes(old, new *route.Map, site string) (lines []RouteLine, moved int) {
	before, beforeOrder := linesOf(old, site)
	after, order := linesOf(new, site)
	lines = []RouteLine{}
	for _, p := range order {
		line := after[p]
		line.Was = before[p].Is
		line.Moved = line.Was != line.Is
		lines = append(lines, line)
	}
	for _, p := range beforeOrder {
		if _, still := after[p]; !still {
			lines = append(lines, RouteLine{Prefix: p, To: before[p].To, Was: before[p].Is, Behind: []string{}, Moved: true})
		}
	}
	for _, line := range lines {
		if line.Moved {
			moved++
		}
	}
	return lines, moved
}
