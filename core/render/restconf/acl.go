package restconf

import (
	"fmt"
	"net/netip"
	"slices"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/render"
	"wideknot/core/route"
)

// Lists of RFC 8519 keep no state: an answer is known by its source port. A
// permit without ports therefore lets the other direction through as well.
// An entry names one prefix on each side, so a rule between
// zones becomes an entry for every pair of a prefix here and one elsewhere.

// policies renders the zone policies of a site's overlays as access control
// lists of RFC 8519, SITE/acl.json, attached to its tunnels both ways. It is
// false where there is no policy.
func policies(m *route.Map, site int) (render.File, bool, error) {
	p := m.Plan
	var lists list
	attached := map[string][]string{} // interface → lists
	for i := range p.Overlays {
		policy := m.Policy(i)
		if policy == nil || !p.Overlays[i].Has(site) {
			continue
		}
		for _, v4 := range []bool{true, false} {
			name, kind := p.Overlays[i].Spec.Key+"-ipv4", "ietf-access-control-list:ipv4-acl-type"
			if !v4 {
				name, kind = p.Overlays[i].Spec.Key+"-ipv6", "ietf-access-control-list:ipv6-acl-type"
			}
			entries := aces(m, policy, site, v4)
			lists = append(lists, object{"name": name, "type": kind, "aces": object{"ace": entries}})
			for _, e := range p.Ends(site) {
				if local, _ := p.Sides(e); e.Overlay == i {
					attached[local.Interface] = append(attached[local.Interface], name)
				}
			}
		}
	}
	if len(lists) == 0 {
		return render.File{}, false, nil
	}
	var points list
	for _, e := range p.Ends(site) {
		local, _ := p.Sides(e)
		var sets list
		for _, name := range attached[local.Interface] {
			sets = append(sets, object{"name": name})
		}
		if sets != nil {
			both := object{"acl-sets": object{"acl-set": sets}}
			points = append(points, object{"interface-id": local.Interface, "ingress": both, "egress": both})
		}
	}
	text, err := write(object{"ietf-access-control-list:acls": object{"acl": lists, "attachment-points": object{"interface": points}}})
	return render.File{Path: p.Site(site).Key + "/acl.json", Text: text}, true, err
}

func aces(m *route.Map, policy *route.Policy, site int, v4 bool) list {
	// That a packet is too big must be heard, whichever hub says it (RFC 792, 4443).
	tooBig := object{"ipv4": object{"protocol": protocols["icmp"]}, "icmp": object{"type": 3, "code": 4}}
	if !v4 {
		tooBig = object{"ipv6": object{"protocol": icmp6}, "icmp": object{"type": 2, "code": 0}}
	}
	out := list{object{"name": "too-big", "matches": tooBig, "actions": object{"forwarding": forwarding(estate.Permit)}}}
	add := func(rule int, source, target netip.Prefix, spec *estate.Rule, ports string, port string, action estate.Action) {
		out = append(out, object{
			"name":    fmt.Sprintf("%d-rule-%d", len(out)+1, rule),
			"matches": matches(source, target, spec, ports, port, v4),
			"actions": object{"forwarding": forwarding(action)},
		})
	}
	for i := range policy.Rules {
		r := &policy.Rules[i]
		directions := []struct {
			from, to *route.Party
			port     string
		}{{&r.From, &r.To, "destination-port"}}
		if r.Spec.Action == estate.Permit {
			directions = append(directions, struct {
				from, to *route.Party
				port     string
			}{&r.To, &r.From, "source-port"})
		}
		ports := r.Spec.Ports
		if len(ports) == 0 {
			ports = []string{""}
		}
		for _, d := range directions {
			for _, leaving := range []bool{true, false} {
				for _, source := range side(m, d.from, site, leaving, v4) {
					for _, target := range side(m, d.to, site, !leaving, v4) {
						for _, p := range ports {
							add(i+1, source, target, &r.Spec, p, d.port, r.Spec.Action)
						}
					}
				}
			}
		}
	}
	return append(out, object{"name": "default", "actions": object{"forwarding": forwarding(policy.Default)}})
}

func forwarding(a estate.Action) string {
	if a == estate.Permit {
		return "ietf-access-control-list:accept"
	}
	return "ietf-access-control-list:drop"
}

// side lists the prefixes of a party here or elsewhere; the zero prefix stands
// for everything.
func side(m *route.Map, p *route.Party, site int, here, v4 bool) []netip.Prefix {
	if p.Any {
		return []netip.Prefix{{}}
	}
	if p.Literal.IsValid() {
		if p.Literal.Addr().Is4() != v4 {
			return nil
		}
		if !here {
			return []netip.Prefix{p.Literal}
		}
		own := addr.Aggregate(m.OwnIn(site, p.Literal))
		return slices.DeleteFunc(own, func(p netip.Prefix) bool { return p.Addr().Is4() != v4 })
	}
	var out []netip.Prefix
	for _, member := range p.Members {
		n := &m.Plan.Site(member.Site).Subnets[member.Subnet]
		prefix := n.Taking()
		if here {
			prefix = n.Prefix
		}
		if (member.Site == site) == here && prefix.Addr().Is4() == v4 {
			out = append(out, prefix)
		}
	}
	return addr.Aggregate(out)
}

// The IP protocol numbers (IANA).
var protocols = map[string]int{"icmp": 1, "tcp": 6, "udp": 17}

const icmp6 = 58

func matches(source, target netip.Prefix, spec *estate.Rule, ports, port string, v4 bool) object {
	family := "ipv4"
	if !v4 {
		family = "ipv6"
	}
	l3 := object{}
	if source.IsValid() {
		l3["source-"+family+"-network"] = source.String()
	}
	if target.IsValid() {
		l3["destination-"+family+"-network"] = target.String()
	}
	if number, ok := protocols[spec.Protocol]; ok {
		if number == 1 && !v4 {
			number = icmp6
		}
		l3["protocol"] = number
	}
	out := object{family: l3}
	if ports != "" {
		low, high := route.PortRange(ports)
		value := object{"operator": "eq", "port": low}
		if low != high {
			value = object{"lower-port": low, "upper-port": high}
		}
		out[spec.Protocol] = object{port: value}
	}
	return out
}
