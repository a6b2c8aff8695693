package check

import (
	"fmt"
	"net/netip"

	"wideknot/core/planning"
)

// repairs offers the three ways out of a collision for one of its subnets.
func repairs(in *Input, p place, overlay string) []planning.Repair {
	var out []planning.Repair
	if free, ok := room(in, p); ok {
		out = append(out, renumber(p, free), planning.Repair{
			Action: planning.MapTo, Site: p.site.Key, Prefix: p.subnet.Prefix, To: free,
			Label: fmt.Sprintf("Map %s at %s 1:1 to %s", p.subnet.Prefix, p.site.Key, free),
		})
	}
	return append(out, planning.Repair{
		Action: planning.Unshare, Site: p.site.Key, Prefix: p.subnet.Prefix, From: overlay,
		Label: fmt.Sprintf("Stop sharing %s at %s into %s", p.subnet.Prefix, p.site.Key, overlay),
	})
}

func renumbering(in *Input, p place) []planning.Repair {
	free, ok := room(in, p)
	if !ok {
		return nil
	}
	return []planning.Repair{renumber(p, free)}
}

func renumber(p place, free netip.Prefix) planning.Repair {
	return planning.Repair{
		Action: planning.Renumber, Site: p.site.Key, Prefix: p.subnet.Prefix, To: free,
		Label: fmt.Sprintf("Renumber %s at %s to %s", p.subnet.Prefix, p.site.Key, free),
	}
}

// room finds the best free block of equal size in the region of the site.
func room(in *Input, p place) (netip.Prefix, bool) {
	if in.used == nil {
		in.used = planning.Used(in.Plan.Estate)
	}
	return planning.FreeIn(in.Plan.Estate, in.used, p.site.Region, p.subnet.Prefix)
}
