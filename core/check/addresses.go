package check

import (
	"fmt"
	"net/netip"
	"slices"

	"wideknot/core/addr"
	"wideknot/core/estate"
)

// place is where a prefix of a finding stands.
type place struct {
	site   *estate.Site
	subnet *estate.Subnet
}

func (p place) subject() Subject { return Subject{Site: p.site.Key, Prefix: p.subnet.Prefix} }

func (p place) String() string {
	if p.subnet.Map.IsValid() {
		return fmt.Sprintf("%s (for %s) at %s", p.subnet.Map, p.subnet.Prefix, p.site.Key)
	}
	return fmt.Sprintf("%s at %s", p.subnet.Prefix, p.site.Key)
}

// sameSite reports overlapping subnets of one site: an error, always.
func sameSite(in *Input, report func(Finding)) {
	for i := range in.Plan.Estate.Sites {
		site := in.Plan.Site(i)
		prefixes := make([]netip.Prefix, len(site.Subnets))
		for j := range site.Subnets {
			prefixes[j] = site.Subnets[j].Prefix
		}
		addr.Overlaps(prefixes, func(outer, inner int) bool {
			report(Finding{
				Code: "address/same-site", Severity: Error,
				Title:    fmt.Sprintf("%s has %s inside its own %s", site.Key, prefixes[inner], prefixes[outer]),
				Why:      "A gateway cannot tell on which of the two segments an address lies.",
				Fix:      "Give one of them another prefix, or delete it.",
				Subjects: []Subject{{Site: site.Key, Prefix: prefixes[inner]}, {Site: site.Key, Prefix: prefixes[outer]}},
				Repairs:  renumbering(in, place{site, &site.Subnets[inner]}),
			})
			return true
		})
	}
}

// collisions reports subnets of different sites that overlap: an error where
// one overlay joins them, else a note.
func collisions(in *Input, report func(Finding)) {
	e := in.Plan.Estate
	shared := map[*estate.Subnet]bool{} // in a collision already reported
	for i := range in.Plan.Overlays {
		o := &in.Plan.Overlays[i]
		var held []addr.Held
		var places []place
		for _, m := range o.Members {
			site := in.Plan.Site(m)
			for j := range site.Subnets {
				if site.Subnets[j].SharedInto(o.Spec.Key) {
					held = append(held, addr.Held{Prefix: site.Subnets[j].Taking(), Owner: m})
					places = append(places, place{site, &site.Subnets[j]})
				}
			}
		}
		for _, group := range addr.Clashes(held) {
			f := describe(in, group, places, held)
			f.Code, f.Severity = "address/collision", Error
			f.Title += " in " + o.Spec.Key
			f.Why = "Traffic to these addresses reaches only one of the sites, and which one depends on where it starts."
			f.Fix = "Renumber one side, map it 1:1 into free space, or stop sharing it."
			f.Subjects = append(f.Subjects, Subject{Overlay: o.Spec.Key})
			for _, member := range group {
				shared[places[member].subnet] = true
				f.Repairs = append(f.Repairs, repairs(in, places[member], o.Spec.Key)...)
			}
			report(f)
		}
	}
	var held []addr.Held
	var places []place
	for i := range e.Sites {
		for j := range e.Sites[i].Subnets {
			held = append(held, addr.Held{Prefix: e.Sites[i].Subnets[j].Taking(), Owner: i})
			places = append(places, place{&e.Sites[i], &e.Sites[i].Subnets[j]})
		}
	}
	for _, group := range addr.Clashes(held) {
		if !slices.ContainsFunc(group, func(m int) bool { return !shared[places[m].subnet] }) {
			continue
		}
		f := describe(in, group, places, held)
		f.Code, f.Severity = "address/latent", Note
		f.Title += ", not shared together"
		f.Why = "Nothing is wrong yet; sharing both into one overlay would make it a collision."
		f.Fix = "Nothing to do now. Keep it in mind before sharing more."
		report(f)
	}
}

// describe says who overlaps whom. The group's first member is its widest.
func describe(in *Input, group []int, places []place, held []addr.Held) Finding {
	f := Finding{}
	sites := map[int]bool{}
	relation := "equal"
	for _, m := range group {
		sites[held[m].Owner] = true
		f.Subjects = append(f.Subjects, places[m].subject())
		f.Evidence = append(f.Evidence, places[m].String())
		if held[m].Prefix != held[group[0]].Prefix {
			relation = "inside"
		}
	}
	first, last := places[group[0]], places[group[len(group)-1]]
	switch {
	case len(group) > 2:
		f.Title = fmt.Sprintf("%d subnets of %d sites overlap in %s", len(group), len(sites), held[group[0]].Prefix)
	case relation == "equal":
		f.Title = fmt.Sprintf("%s and %s both use %s", first.site.Key, last.site.Key, held[group[0]].Prefix)
	default:
		f.Title = fmt.Sprintf("%s lies inside %s", last, first)
	}
	return f
}

// mapped reports 1:1 maps that hide nothing: a map into space the estate
// itself uses is found as a collision; here, one that nobody shares.
func mapped(in *Input, report func(Finding)) {
	for i := range in.Plan.Estate.Sites {
		site := in.Plan.Site(i)
		for j := range site.Subnets {
			n := &site.Subnets[j]
			if n.Map.IsValid() && len(n.Share) == 0 {
				report(Finding{
					Code: "address/idle-map", Severity: Note,
					Title:    fmt.Sprintf("%s at %s is mapped to %s but shared nowhere", n.Prefix, site.Key, n.Map),
					Why:      "A 1:1 map only acts on what takes part in an overlay.",
					Fix:      "Share the subnet, or remove the map.",
					Subjects: []Subject{{Site: site.Key, Prefix: n.Prefix}},
				})
			}
		}
	}
}

// special lists address space with a purpose of its own (RFC 6890 and the
// registries it points to).
var special = []struct {
	prefix  netip.Prefix
	purpose string
}{

	{netip.MustParsePrefix("0.0.0.0/8"), "reserved (RFC 791)"},
	{netip.MustParsePrefix("127.0.0.0/8"), "loopback (RFC 1122)"},
	{netip.MustParsePrefix("169.254.0.0/16"), "link-local (RFC 3927)"},
	{netip.MustParsePrefix("192.0.2.0/24"), "documentation (RFC 5737)"},
	{netip.MustParsePrefix("198.51.100.0/24"), "documentation (RFC 5737)"},
	{netip.MustParsePrefix("203.0.113.0/24"), "documentation (RFC 5737)"},
	{netip.MustParsePrefix("224.0.0.0/4"), "multicast (RFC 5771)"},
	{netip.MustParsePrefix("240.0.0.0/4"), "reserved (RFC 1112)"},
	{netip.MustParsePrefix("::/8"), "reserved (RFC 4291)"},
	{netip.MustParsePrefix("2001:db8::/32"), "documentation (RFC 3849)"},
	{netip.MustParsePrefix("fe80::/10"), "link-local (RFC 4291)"},
	{netip.MustParsePrefix("ff00::/8"), "multicast (RFC 4291)"},
}

// specialSpace warns of LAN subnets in space that is not for LANs.
func specialSpace(in *Input, report func(Finding)) {
	for i := range in.Plan.Estate.Sites {
		site := in.Plan.Site(i)
		for j := range site.Subnets {
			prefix := site.Subnets[j].Prefix
			for _, s := range special {
				if prefix.Overlaps(s.prefix) {
					report(Finding{
						Code: "address/special", Severity: Warning,
						Title:    fmt.Sprintf("%s at %s lies in %s space", prefix, site.Key, s.purpose),
						Why:      "Hosts and routers treat such addresses specially; traffic to them is dropped or stays local.",
						Fix:      "Renumber the subnet into private space (RFC 1918, RFC 4193).",
						Subjects: []Subject{{Site: site.Key, Prefix: prefix}},
						Repairs:  renumbering(in, place{site, &site.Subnets[j]}),
					})
					break
				}
			}
		}
	}
}

// underlays reports shared subnets in the address space of a private underlay.
func underlays(in *Input, report func(Finding)) {
	for _, u := range in.Plan.Estate.About.Underlays {
		for _, block := range u.Blocks {
			for i := range in.Plan.Estate.Sites {
				site := in.Plan.Site(i)
				for j := range site.Subnets {
					n := &site.Subnets[j]
					if len(n.Share) > 0 && n.Taking().Overlaps(block) {
						report(Finding{
							Code: "address/underlay", Severity: Error,
							Title:    fmt.Sprintf("%s at %s lies in underlay %s (%s)", n.Taking(), site.Key, u.Key, block),
							Why:      "Sites on the underlay would send packets between tunnel ends into a tunnel.",
							Fix:      "Renumber the subnet, or map it 1:1.",
							Subjects: []Subject{{Site: site.Key, Prefix: n.Prefix}},
							Repairs:  renumbering(in, place{site, n}),
						})
					}
				}
			}
		}
	}
}
