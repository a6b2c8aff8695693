// Package planning plans changes to an estate: repairs that findings offer, sites made
// after the pattern of others, free room.
package planning

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
		if r.To.IsValid() && slices.ContainsFunc(Used(e), r.To.Overlaps) {
			site := e.Site(r.Site)
			if site == nil {
				return nil, fmt.Errorf("%w: there is no site %q any more", ErrOutdated, r.Site)
			}
			free, ok := FreeIn(e, Used(e), site.Region, r.To)
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
