package linux

import (
	"net/netip"
	"slices"
	"strings"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/render"
	"wideknot/core/tunnel"
)

// filter renders the nftables rules. They judge overlay traffic only: whatever
// neither comes from nor goes to a tunnel passes as it did before.
func (b *bundle) filter() []byte {
	t := b.text()
	b.heading(t, "#", "filter, MSS clamping and 1:1 maps, for nft -f")
	// Declared before it is deleted, so that the file loads whether or not the
	// table is there, and replaces it in one step.
	t.Line("table inet wideknot").Line("delete table inet wideknot").Line("table inet wideknot {")
	b.arrive(t)
	b.pass(t)
	b.clamp(t)
	b.keep(t)
	b.ownBack(t)
	b.maps(t)
	b.breakoutNAT(t)
	t.Line("}")
	return t.Bytes
}

// arrive opens each tunnel's UDP port as narrowly as the far end is known.
func (b *bundle) arrive(t *render.Text) {
	t.Line("\tchain arrive {").Line("\t\ttype filter hook input priority filter; policy accept;")
	for i := range b.peers {
		peer := &b.peers[i]
		far := b.plan.Link(peer.Remote)
		from := far.AddressOf(peer.Tunnel.Family)
		if far.Reach != estate.Static && far.Reach != estate.Forwarded || !from.IsValid() {
			continue // it may come from anywhere; only its key tells
		}
		family := "ip"
		if from.Is6() {
			family = "ip6"
		}
		t.Str("\t\tudp dport ").Num(peer.Local.UDP).Str(" ").Str(family).Str(" saddr != ").Addr(from).Line(" drop")
		other := map[string]string{"ip": "ipv6", "ip6": "ipv4"}[family]
		t.Str("\t\tudp dport ").Num(peer.Local.UDP).Str(" meta nfproto ").Str(other).Line(" drop")
	}
	t.Line("\t}")
}

// shared lists the site's own prefixes as its hosts have them.
func (b *bundle) shared() (v4, v6 []netip.Prefix) {
	var all []netip.Prefix
	for i := range b.site.Subnets {
		if len(b.site.Subnets[i].Share) > 0 {
			all = append(all, b.site.Subnets[i].Prefix)
		}
	}
	return ofFamily(all, true), ofFamily(all, false)
}

// words writes words of the design with commas between, each in the given quotes.
func words(t *render.Text, list []string, quote string) {
	for i, word := range list {
		if i > 0 {
			t.Str(", ")
		}
		t.Str(quote).Word(word).Str(quote)
	}
}

func list(t *render.Text, prefixes []netip.Prefix) *render.Text {
	t.Str("{ ")
	for i, p := range prefixes {
		if i > 0 {
			t.Str(", ")
		}
		t.Prefix(p)
	}
	return t.Str(" }")
}

// pass lets shared prefixes in and out of tunnels, as far as the zone policies
// permit; only a hub passes packets from tunnel to tunnel, and only within an
// overlay.
func (b *bundle) pass(t *render.Text) {
	var overlays []int
	for i := range b.plan.Overlays {
		if b.set(t, setOf(b.plan.Overlays[i].Spec.Key), func(o *tunnel.Overlay) bool { return o == &b.plan.Overlays[i] }) {
			overlays = append(overlays, i)
		}
	}
	b.set(t, "tunnels", func(*tunnel.Overlay) bool { return true })
	for _, i := range overlays {
		b.zones(t, i)
	}
	t.Line("\tchain pass {").Line("\t\ttype filter hook forward priority filter; policy accept;")
	// That a packet is too big must be heard, whichever hub says it.
	t.Line("\t\tct state related meta l4proto { icmp, ipv6-icmp } accept")
	b.narrow(t)
	for _, i := range overlays {
		if o := &b.plan.Overlays[i]; o.IsHub(b.index) {
			set := setOf(o.Spec.Key)
			t.Str("\t\tiifname @").Str(set).Str(" oifname @").Str(set).Line(" accept")
			b.breakoutPass(t, o, set)
		}
	}
	t.Line("\t\tiifname @tunnels oifname @tunnels drop")
	for _, i := range overlays {
		if spec := b.plan.Overlays[i].Spec; spec.Policy != nil {
			set := setOf(spec.Key)
			t.Str("\t\tiifname @").Str(set).Str(" jump zones_").Line(set)
			t.Str("\t\toifname @").Str(set).Str(" jump zones_").Line(set)
		}
	}
	v4, v6 := b.shared()
	for _, f := range []struct {
		family   string
		prefixes []netip.Prefix
	}{{"ip", v4}, {"ip6", v6}} {
		if len(f.prefixes) > 0 {
			list(t.Str("\t\tiifname @tunnels ").Str(f.family).Str(" daddr "), f.prefixes).Line(" accept")
			list(t.Str("\t\toifname @tunnels ").Str(f.family).Str(" saddr "), f.prefixes).Line(" accept")
		}
	}
	t.Line("\t\tiifname @tunnels drop").Line("\t\toifname @tunnels drop").Line("\t}")
}

// narrow keeps the site's own subnets off tunnels whose links, at either end,
// are for other zones only.
func (b *bundle) narrow(t *render.Text) {
	for i := range b.peers {
		peer := &b.peers[i]
		near, far := b.plan.Link(peer.Local), b.plan.Link(peer.Remote)
		var kept []netip.Prefix
		for j := range b.site.Subnets {
			n := &b.site.Subnets[j]
			if len(n.Share) > 0 && !(near.Carries(n.Zone) && far.Carries(n.Zone)) {
				kept = append(kept, n.Prefix)
			}
		}
		for _, f := range []struct {
			family string
			v4     bool
		}{{"ip", true}, {"ip6", false}} {
			prefixes := ofFamily(kept, f.v4)
			if len(prefixes) == 0 {
				continue
			}
			list(t.Str("\t\toifname \"").Word(peer.Interface).Str("\" ").Str(f.family).Str(" saddr "), prefixes).Line(" drop")
			list(t.Str("\t\tiifname \"").Word(peer.Interface).Str("\" ").Str(f.family).Str(" daddr "), prefixes).Line(" drop")
		}
	}
}

// setOf names the set of an overlay's interfaces; nft takes no dashes there.
func setOf(overlay string) string { return "in_" + strings.ReplaceAll(overlay, "-", "_") }

// set declares the interfaces of the tunnels whose overlay is wanted, and
// reports whether there are any.
func (b *bundle) set(t *render.Text, name string, wanted func(*tunnel.Overlay) bool) bool {
	any := false
	for i := range b.peers {
		if !wanted(b.peers[i].Overlay) {
			continue
		}
		if any {
			t.Str(", ")
		} else {
			t.Str("\tset ").Word(name).Line(" {").Line("\t\ttype ifname").Str("\t\telements = { ")
		}
		t.Str("\"").Word(b.peers[i].Interface).Str("\"")
		any = true
	}
	if any {
		t.Line(" }").Line("\t}")
	}
	return any
}

// clamp lowers the TCP segment size announced through a tunnel to what it
// holds: its MTU less the IP and TCP headers.
func (b *bundle) clamp(t *render.Text) {
	t.Line("\tchain clamp {").Line("\t\ttype filter hook forward priority mangle; policy accept;")
	for i := range b.peers {
		peer := &b.peers[i]
		for _, f := range []struct {
			family  string
			headers int
		}{{"ipv4", 40}, {"ipv6", 60}} {
			t.Str("\t\toifname \"").Word(peer.Interface).Str("\" meta nfproto ").Str(f.family).
				Str(" tcp flags & (syn|rst) == syn tcp option maxseg size set ").Num(peer.Tunnel.MTU - f.headers).End()
		}
	}
	t.Line("\t}")
}

// keep marks each flow with the tunnel by which it came, where tunnels share
// the load, and its answers with the same mark, by which rules.ip sends them
// into that tunnel.
func (b *bundle) keep(t *render.Text) {
	if len(b.marked) == 0 {
		return
	}
	t.Line("\tchain keep {").Line("\t\ttype filter hook prerouting priority mangle; policy accept;")
	t.Str("\t\tct direction original ct mark set iifname map { ")
	first := true
	for place, names := range b.marked {
		for _, name := range names {
			if !first {
				t.Str(", ")
			}
			first = false
			t.Str("\"").Word(name).Str("\" : ").Num(firstAnswer + place)
		}
	}
	t.Line(" } accept")
	marks := func(what string) *render.Text {
		return t.Str("\t\tct direction ").Str(what).Str(" ct mark ").Num(firstAnswer).Str("-").Num(firstAnswer + len(b.marked) - 1)
	}
	marks("original").Line(" ct mark set 0")
	marks("reply").Line(" meta mark set ct mark")
	t.Line("\t}")
	t.Line("\tchain keep_own {").Line("\t\ttype route hook output priority mangle; policy accept;")
	marks("reply").Line(" meta mark set ct mark")
	t.Line("\t}")
}

// ownBack leaves what comes back from another hub, for want of a tunnel of its
// own, to that hub's tables alone: its flow is tracked, and translated, where it
// first set out.
func (b *bundle) ownBack(t *render.Text) {
	for i := range b.plan.Overlays {
		o := &b.plan.Overlays[i]
		var from []string
		for j := range b.peers {
			if p := &b.peers[j]; p.Overlay == o && o.IsHub(b.index) && o.IsHub(p.Remote.Site) {
				from = append(from, p.Interface)
			}
		}
		own := b.site.Shared(o.Spec.Key)
		if len(from) == 0 || len(own) == 0 {
			continue
		}
		t.Str("\tchain back_").Str(setOf(o.Spec.Key)).Line(" {").Line("\t\ttype filter hook prerouting priority raw; policy accept;")
		for _, f := range []struct {
			family string
			v4     bool
		}{{"ip", true}, {"ip6", false}} {
			if prefixes := ofFamily(own, f.v4); len(prefixes) > 0 {
				words(t.Str("\t\tiifname { "), from, `"`)
				list(t.Str(" } ").Str(f.family).Str(" saddr "), prefixes).Line(" notrack")
			}
		}
		t.Line("\t}")
	}
}

// ofFamily returns the prefixes of one family, aggregated.
func ofFamily(prefixes []netip.Prefix, v4 bool) []netip.Prefix {
	return slices.DeleteFunc(addr.Aggregate(prefixes), func(p netip.Prefix) bool { return p.Addr().Is4() != v4 })
}

// maps translates between a subnet and the prefix that stands for it in the
// overlays, address by address.
func (b *bundle) maps(t *render.Text) {
	for _, f := range []struct {
		family string
		v4     bool
	}{{"ip", true}, {"ip6", false}} {
		var mapped []*estate.Subnet
		for i := range b.site.Subnets {
			n := &b.site.Subnets[i]
			if n.Map.IsValid() && len(n.Share) > 0 && n.Map.Addr().Is4() == f.v4 {
				mapped = append(mapped, n)
			}
		}
		if len(mapped) == 0 {
			continue
		}
		pairs := func(from, to func(*estate.Subnet) netip.Prefix) {
			for i, n := range mapped {
				if i > 0 {
					t.Str(", ")
				}
				t.Prefix(from(n)).Str(" : ").Prefix(to(n))
			}
			t.Line(" }")
		}
		inside := func(n *estate.Subnet) netip.Prefix { return n.Prefix }
		outside := func(n *estate.Subnet) netip.Prefix { return n.Map }
		t.Str("\tchain mapin_").Str(f.family).Line(" {").Line("\t\ttype nat hook prerouting priority dstnat; policy accept;")
		t.Str("\t\tiifname @tunnels dnat ").Str(f.family).Str(" prefix to ").Str(f.family).Str(" daddr map { ")
		pairs(outside, inside)
		t.Line("\t}")
		t.Str("\tchain mapout_").Str(f.family).Line(" {").Line("\t\ttype nat hook postrouting priority srcnat; policy accept;")
		t.Str("\t\toifname @tunnels snat ").Str(f.family).Str(" prefix to ").Str(f.family).Str(" saddr map { ")
		pairs(inside, outside)
		t.Line("\t}")
	}
}
