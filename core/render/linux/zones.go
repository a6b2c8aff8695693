package linux

import (
	"net/netip"
	"strings"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/render"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// zones renders the policy of an overlay as far as it concerns this site: the
// rules whose one side is here. A permit returns to the chain that asked; the
// answers to what it let through do so at the same place. What is an answer,
// the gateways at the two ends know, whatever hub a flow has moved to.
func (b *bundle) zones(t *render.Text, overlay int) {
	policy := b.routeMap.Policy(overlay)
	if policy == nil {
		return
	}
	t.Str("\tchain zones_").Word(setOf(b.plan.Overlays[overlay].Spec.Key)).Line(" {")
	for i := range policy.Rules {
		r := &policy.Rules[i]
		t.Str("\t\t# rule ").Num(i + 1).End()
		b.clause(t, r, &r.From, &r.To, "dport")
		if r.Spec.Action == estate.Permit {
			b.clause(t, r, &r.To, &r.From, "sport")
		}
	}
	if policy.Default == estate.Deny {
		t.Line("\t\tdrop")
	}
	t.Line("\t}")
}

// clause writes one direction of a rule: what is here as its hosts have it,
// what is elsewhere as the overlay sees it.
func (b *bundle) clause(t *render.Text, r *route.Clause, from, to *route.Party, port string) {
	verdict := " drop"
	if r.Spec.Action == estate.Permit {
		verdict = " return"
	}
	for _, v4 := range []bool{true, false} {
		family := "ip"
		if !v4 {
			family = "ip6"
		}
		for _, leaving := range []bool{true, false} {
			source, okFrom := b.side(from, leaving, v4)
			target, okTo := b.side(to, !leaving, v4)
			if !okFrom || !okTo {
				continue
			}
			t.Str("\t\t")
			if leaving {
				t.Str("oifname @tunnels ")
			} else {
				t.Str("iifname @tunnels ")
			}
			if source == nil && target == nil {
				t.Str("meta nfproto ").Str(map[bool]string{true: "ipv4 ", false: "ipv6 "}[v4])
			}
			if source != nil {
				list(t.Str(family).Str(" saddr "), source).Str(" ")
			}
			if target != nil {
				list(t.Str(family).Str(" daddr "), target).Str(" ")
			}
			b.protocol(t, &r.Spec, port, v4)
			if port == "sport" {
				t.Str("ct direction reply ")
			}
			t.Line(strings.TrimPrefix(verdict, " "))
		}
	}
}

func (b *bundle) protocol(t *render.Text, spec *estate.Rule, port string, v4 bool) {
	switch {
	case spec.Protocol == "" || spec.Protocol == "any":
	case spec.Protocol == "icmp" && v4:
		t.Str("meta l4proto icmp ")
	case spec.Protocol == "icmp":
		t.Str("meta l4proto ipv6-icmp ")
	case len(spec.Ports) == 0:
		t.Str("meta l4proto ").Word(spec.Protocol).Str(" ")
	default:
		words(t.Word(spec.Protocol).Str(" ").Str(port).Str(" { "), spec.Ports, "")
		t.Str(" } ")
	}
}

// side lists the prefixes of a party on one side of this site: its own subnets
// as they are, or those of others as the overlay sees them. A nil list with ok
// stands for everything.
func (b *bundle) side(p *route.Party, here, v4 bool) (prefixes []netip.Prefix, ok bool) {
	if p.Any {
		return nil, true
	}
	if p.Literal.IsValid() {
		if !here {
			return []netip.Prefix{p.Literal}, p.Literal.Addr().Is4() == v4
		}
		prefixes = ofFamily(b.routeMap.OwnIn(b.index, p.Literal), v4)
		return prefixes, len(prefixes) > 0
	}
	for _, m := range p.Members {
		n := &b.plan.Site(m.Site).Subnets[m.Subnet]
		prefix := n.Taking()
		if here {
			prefix = n.Prefix
		}
		if (m.Site == b.index) == here && prefix.Addr().Is4() == v4 {
			prefixes = append(prefixes, prefix)
		}
	}
	return addr.Aggregate(prefixes), len(prefixes) > 0
}

// breakingOut lists the prefixes of one family whose internet traffic leaves
// at this hub, and the devices by which it does.
func (b *bundle) breakingOut(o *tunnel.Overlay, v4 bool) (prefixes []netip.Prefix, devices []string) {
	spec := o.Spec.Breakout
	if spec == nil {
		return nil, nil
	}
	here := false
	for _, hub := range spec.Hubs {
		here = here || hub == b.site.Key
	}
	if !here {
		return nil, nil
	}
	for _, key := range spec.Sites {
		for _, prefix := range b.plan.Site(b.plan.SiteIndex(key)).Shared(o.Spec.Key) {
			if prefix.Addr().Is4() == v4 {
				prefixes = append(prefixes, prefix)
			}
		}
	}
	for i := range b.site.Links {
		if l := &b.site.Links[i]; l.Device != "" && l.UnderlayOf() == estate.Internet {
			devices = append(devices, l.Device)
		}
	}
	return addr.Aggregate(prefixes), devices
}

// breakoutPass lets internet traffic of other sites through this hub, and the
// answers to it back.
func (b *bundle) breakoutPass(t *render.Text, o *tunnel.Overlay, set string) {
	for _, f := range []struct {
		family string
		v4     bool
	}{{"ip", true}, {"ip6", false}} {
		prefixes, devices := b.breakingOut(o, f.v4)
		if len(prefixes) == 0 || len(devices) == 0 {
			continue
		}
		words(t.Str("\t\tiifname @").Str(set).Str(" oifname { "), devices, `"`)
		list(t.Str(" } ").Str(f.family).Str(" saddr "), prefixes).Line(" accept")
		words(t.Str("\t\tiifname { "), devices, `"`)
		list(t.Str(" } oifname @").Str(set).Str(" ct state established,related ").Str(f.family).Str(" daddr "), prefixes).Line(" accept")
	}
}

// breakoutNAT translates the source of what leaves for the internet here.
// Traffic between shared prefixes is exempt, and the exemption comes first.
func (b *bundle) breakoutNAT(t *render.Text) {
	for i := range b.plan.Overlays {
		o := &b.plan.Overlays[i]
		for _, f := range []struct {
			family string
			v4     bool
		}{{"ip", true}, {"ip6", false}} {
			prefixes, devices := b.breakingOut(o, f.v4)
			if len(prefixes) == 0 || len(devices) == 0 {
				continue
			}
			var shared []netip.Prefix
			for _, p := range o.Shared {
				if p.Addr().Is4() == f.v4 {
					shared = append(shared, p)
				}
			}
			t.Str("\tchain breakout_").Str(setOf(o.Spec.Key)).Str("_").Str(f.family).Line(" {").
				Line("\t\ttype nat hook postrouting priority srcnat; policy accept;")
			list(t.Str("\t\t").Str(f.family).Str(" daddr "), shared).Line(" accept")
			words(t.Str("\t\toifname { "), devices, `"`)
			list(t.Str(" } ").Str(f.family).Str(" saddr "), prefixes).Line(" masquerade")
			t.Line("\t}")
		}
	}
}
