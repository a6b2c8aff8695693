package check

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"

	"wideknot/core/estate"
)

// A Repair is a change to one subnet that makes a finding go away. It is data:
// Apply carries it out on an estate, which can then be checked again.
type Repair struct {
	Action RepairAction `json:"action"`
	Label  string       `json:"label"`
	Site   string       `json:"site"`
	Prefix netip.Prefix `json:"prefix"` // the subnet as it is
	To     netip.Prefix `json:"to,omitzero"`
	From   string       `json:"from,omitempty"` // the overlay it leaves
}

// RepairAction is what a repair does.
type RepairAction string

// The repairs of a subnet.
const (
	Renumber RepairAction = "renumber" // the subnet becomes To
	MapTo    RepairAction = "map"      // To stands for the subnet in overlays
	Unshare  RepairAction = "unshare"  // the subnet leaves the overlay From
)

// ErrOutdated is returned for a repair of something that is not there any more.
var ErrOutdated = errors.New("the repair is out of date")

// Apply returns the estate with the repair carried out.
func Apply(e *estate.Estate, r Repair) (*estate.Estate, error) {
	out := e.Clone()
	site := out.Site(r.Site)
	if site == nil {
		return nil, fmt.Errorf("%w: there is no site %q any more", ErrOutdated, r.Site)
	}
	for i := range site.Subnets {
		n := &site.Subnets[i]
		if n.Prefix != r.Prefix {
			continue
		}
		switch r.Action {
		case Renumber:
			n.Prefix, n.Map = r.To, netip.Prefix{}
		case MapTo:
			n.Map = r.To
		case Unshare:
			n.Share = slices.DeleteFunc(slices.Clone(n.Share), func(o string) bool { return o == r.From })
		default:
			return nil, fmt.Errorf("%w: there is no repair %q", ErrOutdated, r.Action)
		}
		return out, nil
	}
	return nil, fmt.Errorf("%w: %s has no subnet %s any more", ErrOutdated, r.Site, r.Prefix)
}

// ApplyAll carries out several repairs, one after the other. A free block that
// an earlier one took is replaced by the next free one of the site's region.
func ApplyAll(e *estate.Estate, list []Repair) (*estate.Estate, error) {
	for _, r := range list {
		if r.To.IsValid() && slices.ContainsFunc(usedSpace(e), r.To.Overlaps) {
			site := e.Site(r.Site)
			if site == nil {
				return nil, fmt.Errorf("%w: there is no site %q any more", ErrOutdated, r.Site)
			}
			free, ok := freeIn(e, usedSpace(e), site.Region, r.To)
			if !ok {
				return nil, fmt.Errorf("%w: region %q has no free block of the size of %s left for %s", ErrOutdated, site.Region, r.To, r.Site)
			}
			r.To = free
		}
		var err error
		if e, err = Apply(e, r); err != nil {
			return nil, err
		}
	}
	return e, nil
}

// repairs offers the three ways out of a collision for one of its subnets.
func repairs(in *Input, p place, overlay string) []Repair {
	var out []Repair
	if free, ok := room(in, p); ok {
		out = append(out, renumber(p, free), Repair{
			Action: MapTo, Site: p.site.Key, Prefix: p.subnet.Prefix, To: free,
			Label: fmt.Sprintf("Map %s at %s 1:1 to %s", p.subnet.Prefix, p.site.Key, free),
		})
	}
	return append(out, Repair{
		Action: Unshare, Site: p.site.Key, Prefix: p.subnet.Prefix, From: overlay,
		Label: fmt.Sprintf("Stop sharing %s at %s into %s", p.subnet.Prefix, p.site.Key, overlay),
	})
}

func renumbering(in *Input, p place) []Repair {
	free, ok := room(in, p)
	if !ok {
		return nil
	}
	return []Repair{renumber(p, free)}
}

func renumber(p place, free netip.Prefix) Repair {
	return Repair{
		Action: Renumber, Site: p.site.Key, Prefix: p.subnet.Prefix, To: free,
		Label: fmt.Sprintf("Renumber %s at %s to %s", p.subnet.Prefix, p.site.Key, free),
	}
}

// room finds the best free block of equal size in the region of the site.
func room(in *Input, p place) (netip.Prefix, bool) {
	if in.used == nil {
		in.used = usedSpace(in.Plan.Estate)
	}
	return freeIn(in.Plan.Estate, in.used, p.site.Region, p.subnet.Prefix)
}

// usedSpace lists everything a new subnet must not overlap.
func usedSpace(e *estate.Estate) []netip.Prefix {
	var used []netip.Prefix
	for _, r := range e.About.Reserved {
		used = append(used, r.Prefix)
	}
	for i := range e.Sites {
		for j := range e.Sites[i].Subnets {
			used = append(used, e.Sites[i].Subnets[j].Prefix)
			if e.Sites[i].Subnets[j].Map.IsValid() {
				used = append(used, e.Sites[i].Subnets[j].Map)
			}
		}
		for _, l := range e.Sites[i].Links {
			for _, a := range l.Addresses {
				used = append(used, netip.PrefixFrom(a, a.BitLen()))
			}
		}
	}
	for i := range e.Overlays {
		used = append(used, e.Overlays[i].Transit...)
	}
	return used
}
