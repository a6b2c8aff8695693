package planning

import (
	"fmt"
	"net/netip"

	"wideknot/core/addr"
	"wideknot/core/estate"
)

// Like makes a new site after the pattern of another: its gateway, its links
// without what belongs to one place (addresses, names, forwarded ports, shared
// fates), and for each of its subnets the next free block of the same size in
// the region, with zone and sharing. Missing lists what has no free block.
func Like(e *estate.Estate, pattern, key, name string) (site estate.Site, missing []string, err error) {
	from := e.Site(pattern)
	if from == nil {
		return site, nil, fmt.Errorf("there is no site %q", pattern)
	}
	site = estate.Site{Key: key, Name: name, Region: from.Region, DemandMbps: from.DemandMbps, Gateway: from.Gateway}
	site.Gateway.PublicKey, site.Gateway.LANAddress, site.Gateway.Upstream = "", netip.Addr{}, netip.Addr{}
	site.Gateway.LANAddress6, site.Gateway.Upstream6 = netip.Addr{}, netip.Addr{}
	for _, l := range from.Links {
		l.Addresses, l.NextHop, l.Forwards, l.SharedFate = nil, nil, nil, nil
		l.Hostname, l.Outside = "", netip.Addr{}
		site.Links = append(site.Links, l)
	}
	used := Used(e)
	for _, n := range from.Subnets {
		if len(n.Share) == 0 {
			site.Subnets = append(site.Subnets, n) // nobody else sees it, so it may be the same everywhere
			continue
		}
		free, ok := FreeIn(e, used, from.Region, n.Prefix)
		if !ok {
			missing = append(missing, fmt.Sprintf("%s of zone %q", n.Prefix, n.Zone))
			continue
		}
		used = append(used, free)
		n.Prefix, n.Map = free, netip.Prefix{}
		site.Subnets = append(site.Subnets, n)
	}
	return site, missing, nil
}

// FreeIn finds the best free block of the size of a prefix in a region; false when
// there is none.
func FreeIn(e *estate.Estate, used []netip.Prefix, region string, size netip.Prefix) (netip.Prefix, bool) {
	for _, r := range e.About.Regions {
		if r.Key != region {
			continue
		}
		for _, block := range r.Blocks {
			if block.Addr().Is4() != size.Addr().Is4() {
				continue
			}
			if free, ok := addr.BestFit(block, used, size.Bits()); ok {
				return free, true
			}
		}
	}
	return netip.Prefix{}, false
}

// JoinLike makes a site a member of the overlays of another, as it is: with the
// same hubs, in the same order. It does not become a hub.
func JoinLike(e *estate.Estate, pattern, key string) *estate.Estate {
	out := e.Clone()
	for i := range out.Overlays {
		o := &out.Overlays[i]
		for _, s := range o.Spokes {
			if s.Site == pattern {
				o.Spokes = append(append([]estate.Spoke{}, o.Spokes...), estate.Spoke{Site: key, Hubs: s.Hubs})
				break
			}
		}
	}
	return out
}

// An Offer is a free block for a size that was asked for.
type Offer struct {
	Region string       `json:"region"`
	Prefix netip.Prefix `json:"prefix"`
	Left   int          `json:"left"` // further blocks of that size in the region block
}

// Offers lists, for each region block with room, the best fit for a prefix of
// the given length; with a region, only there.
func Offers(e *estate.Estate, region string, v4 bool, bits int) []Offer {
	out := []Offer{}
	used := Used(e)
	for _, r := range e.About.Regions {
		if region != "" && r.Key != region {
			continue
		}
		for _, block := range r.Blocks {
			if block.Addr().Is4() != v4 || bits < block.Bits() {
				continue
			}
			fit, ok := addr.BestFit(block, used, bits)
			if !ok {
				continue
			}
			left := 0
			for _, free := range addr.Free(block, used) {
				if free.Bits() <= bits && bits-free.Bits() < 30 {
					left += 1 << (bits - free.Bits())
				}
			}
			out = append(out, Offer{r.Key, fit, left - 1})
		}
	}
	return out
}
