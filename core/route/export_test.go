package route

import (
	"net/netip"
	"slices"
)

// An Inward is where a packet comes in at a site, for tests.
type Inward struct {
	in     arrival
	subnet int
	m      *Map
	site   int
}

// Arrivals lists all ways in which a packet comes in at a site.
func (m *Map) Arrivals(site int) (out []Inward) {
	for j := range m.Plan.Site(site).Subnets {
		out = append(out, Inward{arrival{by: lan}, j, m, site})
	}
	for _, e := range m.Plan.Ends(site) {
		out = append(out, Inward{arrival{byTunnel, e}, 0, m, site})
	}
	if len(m.returns(site)) > 0 {
		out = append(out, Inward{arrival{by: byInternet}, 0, m, site})
	}
	return out
}

// Decide is the lookup under test.
func (m *Map) Decide(site int, in Inward, to netip.Addr) (Route, bool) {
	return m.decide(site, in.in, place{site: site, subnet: in.subnet}, to)
}

// Inside is what a gateway makes of an address before it asks its tables.
func (m *Map) Inside(site int, in Inward, to netip.Addr) netip.Addr {
	if in.in.by == byTunnel {
		return m.inside(site, to)
	}
	return to
}

// Meets reports whether the rules send a packet into a table.
func (in Inward) Meets(x *Extra) bool {
	switch in.in.by {
	case byTunnel:
		local, _ := in.m.Plan.Sides(in.in.end)
		return slices.Contains(x.Arriving, local.Interface)
	case byInternet:
		return x.Why == "answers from the internet"
	}
	return len(x.From) > 0 && slices.Contains(x.From, in.m.Plan.Site(in.site).Subnets[in.subnet].Prefix)
}

func (in Inward) String() string {
	switch in.in.by {
	case byTunnel:
		local, _ := in.m.Plan.Sides(in.in.end)
		return "by " + local.Interface
	case byInternet:
		return "from the internet"
	}
	return "from " + in.m.Plan.Site(in.site).Subnets[in.subnet].Prefix.String()
}
