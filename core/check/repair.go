package check

import (
	"fmt"
	"net/netip"

	"wideknot/core/mend"
)

// repairs offers the three ways out of a collision for one of its subnets.
func repairs(in *Input, p place, overlay string) []mend.Repair {
	var out []mend.Repair
	if free, ok := room(in, p); ok {
		out = append(out, renumber(p, free), mend.Repair{
			Action: mend.MapTo, Site: p.site.Key, Prefix: p.subnet.Prefix, To: free,
			Label: fmt.Sprintf("Map %s at %s 1:1 to %s", p.subnet.Prefix, p.site.Key, free),
		})
	}
	return append(out, mend.Repair{
		Action: mend.Unshare, Site: p.site.Key, Prefix: p.subnet.Prefix, From: overlay,
		Label: fmt.Sprintf("Stop sharing %s at %s into %s", p.subnet.Prefix, p.site.Key, overlay),
	})
}

func renumbering(in *Input, p place) []mend.Repair {
	free, ok := room(in, p)
	if !ok {
		return nil
	}
	return []mend.Repair{renumber(p, free)}
}

func renumber(p place, free netip.Prefix) mend.Repair {
	return mend.Repair{
		Action: mend.Renumber, Site: p.site.Key, Prefix: p.subnet.Prefix, To: free,
		Label: fmt.Sprintf("Renumber %s at %s to %s", p.subnet.Prefix, p.site.Key, free),
	}
}

// room finds the best free block of equal size in the region of the site.
func room(in *Input, p place) (netip.Prefix, bool) {
	if in.used == nil {
		in.used = mend.Used(in.Plan.Estate)
	}
	return mend.FreeIn(in.Plan.Estate, in.used, p.site.Region, p.subnet.Prefix)
}
