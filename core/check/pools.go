package check

import (
	"fmt"
	"net/netip"

	"wideknot/core/addr"
	"wideknot/core/estate"
)

// pools reports transit pools that overlap a subnet, a link address or another
// pool.
// Long for the words of its four findings.
func pools(in *Input, report func(Finding)) {
	e := in.Plan.Estate
	var prefixes []netip.Prefix
	var owners []Subject
	add := func(p netip.Prefix, s Subject) { prefixes, owners = append(prefixes, p), append(owners, s) }
	for i := range e.Overlays {
		for _, pool := range e.Overlays[i].Transit {
			add(pool, Subject{Overlay: e.Overlays[i].Key, Prefix: pool})
		}
	}
	count := len(prefixes)
	if count == 0 {
		return
	}
	for i := range e.Sites {
		site := &e.Sites[i]
		for j := range site.Subnets {
			add(site.Subnets[j].Taking(), Subject{Site: site.Key, Prefix: site.Subnets[j].Prefix})
		}
		for _, l := range site.Links {
			for _, a := range l.Addresses {
				add(netip.PrefixFrom(a, a.BitLen()), Subject{Site: site.Key, Link: l.Key, Prefix: netip.PrefixFrom(a, a.BitLen())})
			}
		}
	}
	for _, u := range e.About.Underlays {
		for _, block := range u.Blocks {
			add(block, Subject{Link: u.Key, Prefix: block})
		}
	}
	// Each pool is swept against the rest by itself: sites overlap sites too,
	// and those pairs are none of this check's business.
	var outerOrInner = func(pool, other int) {
		s := owners[other]
		f := Finding{Severity: Error, Subjects: []Subject{s, owners[pool]}, Evidence: []string{owners[pool].String(), s.String()}}
		what := fmt.Sprintf("transit pool %s of %s", prefixes[pool], owners[pool].Overlay)
		switch {
		case s.Overlay != "":
			f.Code = "pool/pool"
			f.Title = fmt.Sprintf("%s overlaps transit pool %s of %s", what, s.Prefix, s.Overlay)
			f.Why = "Two tunnels could be given the same address."
			f.Fix = "Give one of the overlays another pool in Shape."
		case s.Site == "":
			f.Code = "pool/underlay"
			f.Title = fmt.Sprintf("%s overlaps %s of underlay %s", what, s.Prefix, s.Link)
			f.Why = "Packets between the tunnels' own ends would be sent into a tunnel."
			f.Fix = "Choose another pool in Shape."
			f.Subjects = f.Subjects[1:]
		case s.Link != "":
			f.Code = "pool/link"
			f.Title = fmt.Sprintf("%s holds the address of %s/%s", what, s.Site, s.Link)
			f.Why = "Packets to the link's own address would be sent into a tunnel."
			f.Fix = "Choose another pool in Shape, or correct the link's address."
		default:
			f.Code = "pool/subnet"
			f.Title = fmt.Sprintf("%s overlaps subnet %s at %s", what, s.Prefix, s.Site)
			f.Why = "Tunnel addresses and hosts of the subnet would be the same addresses."
			f.Fix = "Renumber the subnet, or choose another pool in Shape."
			site := e.Site(s.Site)
			for j := range site.Subnets {
				if site.Subnets[j].Prefix == s.Prefix {
					f.Repairs = renumbering(in, place{site, &site.Subnets[j]})
				}
			}
		}
		report(f)
	}
	for pool := range count {
		for other := range prefixes {
			if (other >= count || other > pool) && prefixes[pool].Overlaps(prefixes[other]) {
				outerOrInner(pool, other)
			}
		}
	}
}

// poolRoom reports overlays whose pools are missing or too small.
func poolRoom(in *Input, report func(Finding)) {
	for i := range in.Plan.Overlays {
		o := &in.Plan.Overlays[i]
		if o.Starved == 0 {
			continue
		}
		total := 0
		for j := range o.Adjacencies {
			total += len(o.Adjacencies[j].Tunnels)
		}
		f := Finding{
			Code: "pool/room", Severity: Error,
			Title:    fmt.Sprintf("%s has addresses for %d of its %d tunnels", o.Spec.Key, total-o.Starved, total),
			Why:      "A tunnel without addresses cannot be probed, and its routes have no source address.",
			Fix:      "Give the overlay a wider transit pool in Shape, or another one besides; what was given out stays.",
			Subjects: []Subject{{Overlay: o.Spec.Key}},
		}
		if len(o.Spec.Transit) == 0 {
			f.Title = fmt.Sprintf("%s has no transit pool", o.Spec.Key)
			f.Fix = "Give the overlay a transit pool in Shape, such as a block of 100.64.0.0/10."
		}
		report(f)
	}
}

var carrierNAT = netip.MustParsePrefix("100.64.0.0/10") // RFC 6598

// carrierSpace warns where a pool in shared address space may meet a carrier
// that numbers its customers from it.
func carrierSpace(in *Input, report func(Finding)) {
	for i := range in.Plan.Overlays {
		o := &in.Plan.Overlays[i]
		var pool netip.Prefix
		for _, p := range o.Spec.Transit {
			if p.Overlaps(carrierNAT) {
				pool = p
			}
		}
		if !pool.IsValid() {
			continue
		}
		for _, m := range o.Members {
			site := in.Plan.Site(m)
			for _, l := range site.Links {
				if a := inCarrierSpace(&l); a.IsValid() && !addr.Covers(pool, netip.PrefixFrom(a, 32)) {
					report(Finding{
						Code: "pool/carrier", Severity: Warning,
						Title:    fmt.Sprintf("%s/%s is numbered from carrier space (%s), from which %s takes its tunnel addresses", site.Key, l.Key, a, o.Spec.Key),
						Why:      "The carrier may give the link an address out of the pool at any time, and the site is then cut off.",
						Fix:      "Take a pool outside 100.64.0.0/10, or ask the carrier which part of it they use.",
						Subjects: []Subject{{Site: site.Key, Link: l.Key}, {Overlay: o.Spec.Key, Prefix: pool}},
					})
				}
			}
		}
	}
}

func inCarrierSpace(l *estate.Link) netip.Addr {
	for _, a := range l.Addresses {
		if carrierNAT.Contains(a) {
			return a
		}
	}
	return netip.Addr{}
}
