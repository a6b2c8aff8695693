package planning

import (
	"net/netip"

	"wideknot/core/addr"
	"wideknot/core/estate"
)

// A Room is the space of one region block: what is free in it, and one summary
// for what is used, with the holes it would cover.
type Room struct {
	Region  string         `json:"region"`
	Block   netip.Prefix   `json:"block"`
	Used    []netip.Prefix `json:"used"`
	Free    []netip.Prefix `json:"free"`
	Summary netip.Prefix   `json:"summary,omitzero"`
	Holes   []netip.Prefix `json:"holes,omitempty"`
}

// Rooms lists the space of every region block of an estate.
func Rooms(e *estate.Estate) []Room {
	used := Used(e)
	rooms := []Room{}
	for _, region := range e.About.Regions {
		for _, block := range region.Blocks {
			r := Room{Region: region.Key, Block: block, Used: []netip.Prefix{}, Free: addr.Free(block, used)}
			for _, s := range addr.Summarise([]netip.Prefix{block}, used) {
				r.Used, r.Summary, r.Holes = s.Covers, s.Prefix, s.Holes
			}
			rooms = append(rooms, r)
		}
	}
	return rooms
}

// Used lists everything a new subnet must not overlap.
func Used(e *estate.Estate) []netip.Prefix {
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
