package sample

import (
	"math/rand/v2"
	"net/netip"
	"slices"

	"wideknot/core/estate"
)

// Edit changes an estate as a day's work does, in one to three places, the same for a seed:
// links and subnets that come or go, hubs in another order, sites that leave an overlay,
// ports, policies. The estate is a copy.
func Edit(e *estate.Estate, seed uint64) *estate.Estate {
	m := &mixer{random: rand.New(rand.NewPCG(seed, 77)), e: e.Clone()}
	for range 1 + m.random.IntN(3) {
		m.edit()
	}
	return m.e
}

func (m *mixer) edit() {
	s := &m.e.Sites[m.random.IntN(len(m.e.Sites))]
	o := &m.e.Overlays[m.random.IntN(len(m.e.Overlays))]
	switch m.random.IntN(9) {
	case 0: // a link goes
		if n := len(s.Links); n > 1 {
			s.Links = s.Links[:n-1]
		}
	case 1: // a link costs more than the others
		s.Links[0].Rank = len(s.Links) + 1
	case 2: // a subnet goes
		if n := len(s.Subnets); n > 1 {
			s.Subnets = s.Subnets[:n-1]
		}
	case 3: // a subnet comes
		i := byte(slices.IndexFunc(m.e.Sites, func(o estate.Site) bool { return o.Key == s.Key }))
		at := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 18, i, byte(m.random.IntN(4)) * 64}), 26)
		if !slices.ContainsFunc(s.Subnets, func(n estate.Subnet) bool { return n.Prefix == at }) {
			s.Subnets = append(s.Subnets, estate.Subnet{Prefix: at, Share: slices.Clone(s.Subnets[0].Share)})
		}
	case 4: // hubs in another order, or fewer of them
		if len(o.Spokes) > 0 && len(o.Hubs) > 1 {
			spoke := &o.Spokes[m.random.IntN(len(o.Spokes))]
			spoke.Hubs = nil
			for _, i := range m.random.Perm(len(o.Hubs)) {
				spoke.Hubs = append(spoke.Hubs, o.Hubs[i])
			}
			spoke.Hubs = spoke.Hubs[:1+m.random.IntN(len(spoke.Hubs))]
		}
	case 5: // a site leaves
		if len(o.Spokes) > 2 && len(o.Pins) == 0 && o.Breakout == nil && len(o.Direct) == 0 {
			o.Spokes = o.Spokes[:len(o.Spokes)-1]
		}
	case 6: // other ports
		s.Gateway.ListenPort = 42000 + m.random.IntN(1000)
	case 7: // another shape
		o.Shape = pick(m, estate.HubAndSpoke, estate.FullMesh)
		o.Direct = nil
	case 8: // another policy
		if o.Policy != nil {
			o.Policy.Default = pick(m, estate.Permit, estate.Deny)
		}
	}
}
