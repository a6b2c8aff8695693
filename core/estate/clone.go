package estate

import "slices"

// Clone returns a copy that shares nothing with the estate that an edit may
// change. Allocations are shared; they are replaced as a whole.
func (e *Estate) Clone() *Estate {
	c := *e
	c.About.Regions = cloneEach(e.About.Regions, (*Region).detach)
	c.About.Underlays = cloneEach(e.About.Underlays, (*Region).detach)
	c.About.Reserved = slices.Clone(e.About.Reserved)
	c.About.Shed = slices.Clone(e.About.Shed)
	c.Sites = cloneEach(e.Sites, (*Site).detach)
	c.Overlays = cloneEach(e.Overlays, (*Overlay).detach)
	return &c
}

// cloneEach copies a list and has each copy let go of what it shares with the
// original.
func cloneEach[T any](list []T, detach func(*T)) []T {
	out := slices.Clone(list)
	for i := range out {
		detach(&out[i])
	}
	return out
}

// clonePointer copies what a pointer points to, and has the copy let go of what
// it shares.
func clonePointer[T any](p *T, detach func(*T)) *T {
	if p == nil {
		return nil
	}
	out := *p
	detach(&out)
	return &out
}

func alone[T any](*T) {} // nothing in it is shared

func (r *Region) detach() { r.Blocks = slices.Clone(r.Blocks) }

func (s *Site) detach() {
	s.Gateway.Transports = slices.Clone(s.Gateway.Transports)
	s.Gateway.UsedPorts = slices.Clone(s.Gateway.UsedPorts)
	s.Gateway.Proposals = slices.Clone(s.Gateway.Proposals)
	s.Links = cloneEach(s.Links, (*Link).detach)
	s.Subnets = cloneEach(s.Subnets, func(n *Subnet) { n.Share = slices.Clone(n.Share) })
}

func (l *Link) detach() {
	l.Addresses = slices.Clone(l.Addresses)
	l.Families = slices.Clone(l.Families)
	l.Forwards = slices.Clone(l.Forwards)
	l.SharedFate = slices.Clone(l.SharedFate)
	l.Zones = slices.Clone(l.Zones)
	l.NextHop = slices.Clone(l.NextHop)
}

func (o *Overlay) detach() {
	o.Transit = slices.Clone(o.Transit)
	o.Hubs = slices.Clone(o.Hubs)
	o.HubLinks = clonePointer(o.HubLinks, alone)
	o.Spokes = cloneEach(o.Spokes, func(s *Spoke) { s.Hubs = slices.Clone(s.Hubs) })
	o.Direct = cloneEach(o.Direct, func(pair *[]string) { *pair = slices.Clone(*pair) })
	o.Costs = clonePointer(o.Costs, alone)
	o.TunnelOrder = cloneEach(o.TunnelOrder, func(t *PairOrder) { t.Between, t.First = slices.Clone(t.Between), slices.Clone(t.First) })
	o.Pins = slices.Clone(o.Pins)
	o.Crypto = clonePointer(o.Crypto, func(c *Crypto) { c.IKE, c.ESP = slices.Clone(c.IKE), slices.Clone(c.ESP) })
	o.Breakout = clonePointer(o.Breakout, func(b *Breakout) {
		b.Hubs, b.Sites, b.Except = slices.Clone(b.Hubs), slices.Clone(b.Sites), slices.Clone(b.Except)
	})
	o.Probe = clonePointer(o.Probe, func(p *Probe) {
		p.Limits = clonePointer(p.Limits, func(l *Limits) { l.Zones = slices.Clone(l.Zones) })
	})
	o.Policy = clonePointer(o.Policy, func(p *Policy) {
		p.Rules = cloneEach(p.Rules, func(r *Rule) { r.Ports = slices.Clone(r.Ports) })
	})
}
