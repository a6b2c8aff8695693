package gateway

import (
	"net/netip"
	"slices"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// filter says what may come in and pass.
func (k *making) filter() {
	f := &k.out.Filter
	for i := range k.peers {
		peer := &k.peers[i]
		k.arrival(f, peer)
		k.keptOff(f, peer)
	}
	for i := range k.plan.Overlays {
		if passing, any := k.passing(i); any {
			f.Overlays = append(f.Overlays, passing)
		}
	}
	var own []netip.Prefix
	for i := range k.site.Subnets {
		if len(k.site.Subnets[i].Share) > 0 {
			own = append(own, k.site.Subnets[i].Prefix)
		}
	}
	f.Own = filled(addr.Aggregate(own))
	for place, names := range k.routes.Marked(k.index) {
		if len(names) > 0 { // those that share the load may all be second choices
			k.out.Places = append(k.out.Places, Place{Mark: (place + 1) * PlaceUnit, Interfaces: names})
		}
	}
}

// arrival opens a tunnel's UDP port as narrowly as the far end is known.
func (k *making) arrival(f *Filter, peer *tunnel.Peer) {
	far := k.plan.Link(peer.Remote)
	from := far.AddressOf(peer.Tunnel.Family)
	if far.Reach != estate.Static && far.Reach != estate.Forwarded || !from.IsValid() || peer.Overlay.Spec.Transport == estate.IPsec {
		return // it may come from anywhere; only its key tells
	}
	f.Arrivals = append(f.Arrivals, Arrival{Port: peer.Local.UDP, From: from})
}

func (k *making) keptOff(f *Filter, peer *tunnel.Peer) {
	near, far := k.plan.Link(peer.Local), k.plan.Link(peer.Remote)
	var kept []netip.Prefix
	for j := range k.site.Subnets {
		n := &k.site.Subnets[j]
		if len(n.Share) > 0 && !(near.Carries(n.Zone) && far.Carries(n.Zone)) {
			kept = append(kept, n.Prefix)
		}
	}
	if len(kept) > 0 {
		f.Kept = append(f.Kept, Kept{Interface: peer.Interface, Prefixes: addr.Aggregate(kept)})
	}
}

func (k *making) passing(overlay int) (out Passing, any bool) {
	o := &k.plan.Overlays[overlay]
	out.Overlay, out.Relays = o.Spec.Key, o.IsHub(k.index)
	for i := range k.peers {
		peer := &k.peers[i]
		if peer.Overlay != o {
			continue
		}
		out.Interfaces = append(out.Interfaces, peer.Interface)
		if out.Relays && o.IsHub(peer.Remote.Site) {
			out.Back = append(out.Back, peer.Interface)
		}
	}
	if len(out.Interfaces) == 0 {
		return out, false
	}
	if len(out.Back) > 0 {
		out.BackFrom = filled(addr.Aggregate(k.site.Shared(o.Spec.Key)))
	}
	if len(out.BackFrom) == 0 {
		out.Back = nil
	}
	if policy := k.routes.Policy(overlay); policy != nil {
		out.Policed, out.Deny = true, policy.Default == estate.Deny
		for i := range policy.Rules {
			r := &policy.Rules[i]
			k.entries(&out, i+1, r, &r.From, &r.To, false)
			if r.Spec.Action == estate.Permit {
				k.entries(&out, i+1, r, &r.To, &r.From, true)
			}
		}
	}
	if out.Relays {
		k.breakout(o)
	}
	return out, true
}

// entries writes one direction of a rule as far as it concerns this site: what is
// here as its hosts have it, what is elsewhere as the overlay sees it. What is an
// answer, the gateways at the two ends know, whatever hub a flow has moved to.
func (k *making) entries(out *Passing, number int, r *route.Clause, from, to *route.Party, reply bool) {
	for _, family := range []Family{IPv4, IPv6} {
		for _, leaving := range []bool{true, false} {
			source, okFrom := k.side(from, leaving, family)
			target, okTo := k.side(to, !leaving, family)
			if !okFrom || !okTo {
				continue
			}
			e := Entry{
				Index: len(out.Policy) + 1, Rule: number, Permit: r.Spec.Action == estate.Permit, Family: family, Leaving: leaving,
				From: source, To: target, Protocol: r.Spec.Protocol, Ports: filled(r.Spec.Ports), Reply: reply,
			}
			if e.Protocol == "any" {
				e.Protocol = ""
			}
			out.Policy = append(out.Policy, e)
		}
	}
}

// side lists the prefixes of a party on one side of this site: its own subnets as
// they are, or those of others as the overlay sees them. A nil list with ok stands
// for everything.
func (k *making) side(p *route.Party, here bool, family Family) (prefixes []netip.Prefix, ok bool) {
	if p.Any {
		return nil, true
	}
	if p.Literal.IsValid() {
		if !here {
			return []netip.Prefix{p.Literal}, FamilyOf(p.Literal.Addr()) == family
		}
		prefixes = ofFamily(k.routes.OwnIn(k.index, p.Literal), family)
		return prefixes, len(prefixes) > 0
	}
	for _, m := range p.Members {
		n := &k.plan.Site(m.Site).Subnets[m.Subnet]
		prefix := n.Taking()
		if here {
			prefix = n.Prefix
		}
		if (m.Site == k.index) == here && FamilyOf(prefix.Addr()) == family {
			prefixes = append(prefixes, prefix)
		}
	}
	return addr.Aggregate(prefixes), len(prefixes) > 0
}

// breakout says what leaves here for the internet, for which sites.
func (k *making) breakout(o *tunnel.Overlay) {
	spec := o.Spec.Breakout
	if spec == nil || !slices.Contains(spec.Hubs, k.site.Key) {
		return
	}
	var devices []string
	for i := range k.site.Links {
		if l := &k.site.Links[i]; l.Device != "" && l.UnderlayOf() == estate.Internet {
			devices = append(devices, l.Device)
		}
	}
	var from []netip.Prefix
	for _, key := range spec.Sites {
		from = append(from, k.plan.Site(k.plan.SiteIndex(key)).Shared(o.Spec.Key)...)
	}
	for _, family := range []Family{IPv4, IPv6} {
		if some := ofFamily(from, family); len(some) > 0 && len(devices) > 0 {
			k.out.Breakouts = append(k.out.Breakouts, Breakout{
				Overlay: o.Spec.Key, Family: family, Devices: devices, From: some, Except: ofFamily(o.Shared, family),
			})
		}
	}
}

// ofFamily returns the prefixes of one family, aggregated.
func ofFamily(prefixes []netip.Prefix, family Family) []netip.Prefix {
	return slices.DeleteFunc(addr.Aggregate(prefixes), func(p netip.Prefix) bool { return FamilyOf(p.Addr()) != family })
}
