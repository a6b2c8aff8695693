package linux

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"wideknot/core/gateway"
	"wideknot/core/render"
)

// Filter renders the nftables rules of a configuration as a gateway that applies them
// by itself loads them. Interfaces of another configuration, if any, belong to their
// overlays as well, for the time in which both are there.
func Filter(c, also *gateway.Config) ([]byte, error) {
	b := &bundle{c: c, also: also, kept: true}
	t := &render.Text{}
	b.filter(t)
	return t.Bytes, t.Err
}

// Settings are the lines NAME = VALUE of sysctl.conf for a configuration.
func Settings(c *gateway.Config) ([]byte, error) {
	t := &render.Text{}
	(&bundle{c: c}).sysctl(t)
	return t.Bytes, t.Err
}

// filter renders the nftables rules. They judge overlay traffic only: whatever
// neither comes from nor goes to a tunnel passes as it did before.
func (b *bundle) filter(t *render.Text) {
	b.heading(t, "filter, MSS clamping and translation, for nft -f")
	// Declared before it is deleted, so that the file loads whether or not the
	// table is there, and replaces it in one step.
	t.Line("table inet wideknot").Line("delete table inet wideknot").Line("table inet wideknot {")
	b.counters(t)
	b.arrive(t)
	b.pass(t)
	b.clamp(t)
	b.classes(t)
	b.keep(t)
	b.held(t)
	b.ownBack(t)
	b.maps(t)
	b.breakouts(t)
	t.Line("}")
}

// families are the address families as nft names them.
var families = []struct {
	family   gateway.Family
	word     string // of its header
	protocol string // of meta nfproto
}{{gateway.IPv4, "ip", "ipv4"}, {gateway.IPv6, "ip6", "ipv6"}}

// wordOf names a family's header.
func wordOf(f gateway.Family) string {
	if f == gateway.IPv4 {
		return "ip"
	}
	return "ip6"
}

// arrive opens each tunnel's UDP port as narrowly as the far end is known.
func (b *bundle) arrive(t *render.Text) {
	t.Line("\tchain arrive {").Line("\t\ttype filter hook input priority filter; policy accept;")
	for _, a := range b.c.Filter.Arrivals {
		family, other := "ip", "ipv6"
		if a.From.Is6() {
			family, other = "ip6", "ipv4"
		}
		t.Str("\t\tudp dport ").Num(a.Port).Str(" ").Str(family).Str(" saddr != ").Addr(a.From).Line(" drop")
		t.Str("\t\tudp dport ").Num(a.Port).Str(" meta nfproto ").Str(other).Line(" drop")
	}
	t.Line("\t}")
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

// ofFamily returns the prefixes of one family.
func ofFamily(prefixes []netip.Prefix, f gateway.Family) (out []netip.Prefix) {
	for _, p := range prefixes {
		if gateway.FamilyOf(p.Addr()) == f {
			out = append(out, p)
		}
	}
	return out
}

// pass lets shared prefixes in and out of tunnels, as far as the zone policies
// permit; only a hub passes packets from tunnel to tunnel, and only within an
// overlay.
func (b *bundle) pass(t *render.Text) {
	f := &b.c.Filter
	for i := range f.Overlays {
		b.set(t, setOf(f.Overlays[i].Overlay), b.interfaces(&f.Overlays[i]))
	}
	b.set(t, "tunnels", b.names())
	for i := range f.Overlays {
		b.zones(t, &f.Overlays[i])
	}
	t.Line("\tchain pass {").Line("\t\ttype filter hook forward priority filter; policy accept;")
	// That a packet is too big must be heard, whichever hub says it.
	t.Line("\t\tct state related meta l4proto { icmp, ipv6-icmp } accept")
	b.keptOff(t)
	for i := range f.Overlays {
		if o := &f.Overlays[i]; o.Relays {
			set := setOf(o.Overlay)
			t.Str("\t\tiifname @").Str(set).Str(" oifname @").Str(set).Line(" accept")
			b.breakoutPass(t, o.Overlay, set)
		}
	}
	t.Line("\t\tiifname @tunnels oifname @tunnels drop")
	for i := range f.Overlays {
		if o := &f.Overlays[i]; o.Policed {
			set := setOf(o.Overlay)
			t.Str("\t\tiifname @").Str(set).Str(" jump zones_").Line(set)
			t.Str("\t\toifname @").Str(set).Str(" jump zones_").Line(set)
		}
	}
	for _, family := range families {
		if own := ofFamily(f.Own, family.family); len(own) > 0 {
			list(t.Str("\t\tiifname @tunnels ").Str(family.word).Str(" daddr "), own).Line(" accept")
			list(t.Str("\t\toifname @tunnels ").Str(family.word).Str(" saddr "), own).Line(" accept")
		}
	}
	t.Line("\t\tiifname @tunnels drop").Line("\t\toifname @tunnels drop").Line("\t}")
}

// keptOff keeps the site's own subnets off tunnels whose links, at either end, are
// for other zones only.
func (b *bundle) keptOff(t *render.Text) {
	for i := range b.c.Filter.Kept {
		kept := &b.c.Filter.Kept[i]
		for _, family := range families {
			prefixes := ofFamily(kept.Prefixes, family.family)
			if len(prefixes) == 0 {
				continue
			}
			list(t.Str("\t\toifname \"").Word(kept.Interface).Str("\" ").Str(family.word).Str(" saddr "), prefixes).Str(" counter name ").Word(KeptCounter(i)).Line(" drop")
			list(t.Str("\t\tiifname \"").Word(kept.Interface).Str("\" ").Str(family.word).Str(" daddr "), prefixes).Str(" counter name ").Word(KeptCounter(i)).Line(" drop")
		}
	}
}

// setOf names the set of an overlay's interfaces; nft takes no dashes there.
func setOf(overlay string) string { return "in_" + strings.ReplaceAll(overlay, "-", "_") }

// names lists all interfaces.
func (b *bundle) names() (names []string) {
	for i := range b.c.Tunnels {
		names = append(names, b.c.Tunnels[i].Interface)
	}
	for i := 0; b.also != nil && i < len(b.also.Tunnels); i++ {
		if name := b.also.Tunnels[i].Interface; !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}

// interfaces lists those of an overlay.
func (b *bundle) interfaces(o *gateway.Passing) []string {
	names := slices.Clone(o.Interfaces)
	for i := 0; b.also != nil && i < len(b.also.Filter.Overlays); i++ {
		if was := &b.also.Filter.Overlays[i]; was.Overlay == o.Overlay {
			for _, name := range was.Interfaces {
				if !slices.Contains(names, name) {
					names = append(names, name)
				}
			}
		}
	}
	return names
}

// Counter names the counter of a rule of an overlay's policy; rule 0 is for what no
// rule names.
func Counter(overlay string, rule int) string {
	return setOf(overlay) + "_rule_" + strconv.Itoa(rule)
}

// KeptCounter names the counter of what is kept off a tunnel, by its place in the
// filter's list.
func KeptCounter(place int) string { return "kept_off_" + strconv.Itoa(place+1) }

// counters declares one for each rule of a policy that concerns this site, and for each
// tunnel that some zones are kept off.
func (b *bundle) counters(t *render.Text) {
	for i := range b.c.Filter.Kept {
		t.Str("\tcounter ").Word(KeptCounter(i)).Line(" { }")
	}
	for i := range b.c.Filter.Overlays {
		o := &b.c.Filter.Overlays[i]
		last := -1
		for j := range o.Policy {
			if e := &o.Policy[j]; e.Rule != last {
				last = e.Rule
				t.Str("\tcounter ").Word(Counter(o.Overlay, e.Rule)).Line(" { }")
			}
		}
		if o.Policed && o.Deny {
			t.Str("\tcounter ").Word(Counter(o.Overlay, 0)).Line(" { }")
		}
	}
}

// set declares a set of interfaces. apply reads its lines.
func (b *bundle) set(t *render.Text, name string, interfaces []string) {
	t.Str("\tset ").Word(name).Line(" {").Line("\t\ttype ifname").Str("\t\telements = { ")
	words(t, interfaces, `"`)
	t.Line(" }").Line("\t}")
}

// zones renders the policy of an overlay. A permit returns to the chain that asked;
// the answers to what it let through do so at the same place.
func (b *bundle) zones(t *render.Text, o *gateway.Passing) {
	if !o.Policed {
		return
	}
	t.Str("\tchain zones_").Word(setOf(o.Overlay)).Line(" {")
	rule := 0
	for i := range o.Policy {
		e := &o.Policy[i]
		if e.Rule != rule {
			rule = e.Rule
			t.Str("\t\t# rule ").Num(rule).End()
		}
		entry(t, e, o.Overlay)
	}
	if o.Deny {
		t.Str("\t\tcounter name \"").Word(Counter(o.Overlay, 0)).Line("\" drop")
	}
	t.Line("\t}")
}

func entry(t *render.Text, e *gateway.Entry, overlay string) {
	family := wordOf(e.Family)
	t.Str(map[bool]string{true: "\t\toifname @tunnels ", false: "\t\tiifname @tunnels "}[e.Leaving])
	if e.From == nil && e.To == nil {
		t.Str("meta nfproto ").Str(string(e.Family)).Str(" ")
	}
	if e.From != nil {
		list(t.Str(family).Str(" saddr "), e.From).Str(" ")
	}
	if e.To != nil {
		list(t.Str(family).Str(" daddr "), e.To).Str(" ")
	}
	switch {
	case e.Protocol == "":
	case e.Protocol == "icmp" && e.Family == gateway.IPv4:
		t.Str("meta l4proto icmp ")
	case e.Protocol == "icmp":
		t.Str("meta l4proto ipv6-icmp ")
	case len(e.Ports) == 0:
		t.Str("meta l4proto ").Word(e.Protocol).Str(" ")
	default:
		t.Word(e.Protocol).Str(map[bool]string{true: " sport { ", false: " dport { "}[e.Reply])
		words(t, e.Ports, "")
		t.Str(" } ")
	}
	if e.Reply {
		t.Str("ct direction reply ")
	}
	t.Str("counter name \"").Word(Counter(overlay, e.Rule)).Str("\" ").Line(map[bool]string{true: "return", false: "drop"}[e.Permit])
}

// clamp lowers the TCP segment size announced through a tunnel to what it
// holds: its MTU less the IP and TCP headers.
func (b *bundle) clamp(t *render.Text) {
	t.Line("\tchain clamp {").Line("\t\ttype filter hook forward priority mangle; policy accept;")
	for i := range b.c.Tunnels {
		one := &b.c.Tunnels[i]
		for j, headers := range []int{40, 60} {
			t.Str("\t\toifname \"").Word(one.Interface).Str("\" meta nfproto ").Str(families[j].protocol).
				Str(" tcp flags & (syn|rst) == syn tcp option maxseg size set ").Num(one.MTU - headers).End()
		}
	}
	t.Line("\t}")
}

// Classes of a WAN link's tree, as packet priorities 1:N in hexadecimal. Zones that give way follow.
const (
	ProbeClass = 0x10 // probes of tunnels
	OtherClass = 0x20 // what is in no zone that gives way
	FirstZone  = 0x30 // of the zone that gives way first; the next have the next
)

// classes puts packets that leave by tunnels into the classes by which their link
// gives way. A packet's zone is the first of either of its addresses.
func (b *bundle) classes(t *render.Text) {
	if !b.kept || !b.c.Shapes() {
		return
	}
	t.Line("\tchain classes {").Line("\t\ttype filter hook postrouting priority mangle; policy accept;")
	t.Line("\t\toifname != @tunnels accept")
	class := func(condition string, prefixes []netip.Prefix, n int) {
		for _, family := range families {
			if some := ofFamily(prefixes, family.family); len(some) > 0 {
				list(t.Str("\t\t").Str(family.word).Str(" ").Str(condition).Str(" "), some).Str(" meta priority set 1:").Str(strconv.FormatInt(int64(n), 16)).Line(" accept")
			}
		}
	}
	t.Str("\t\tudp dport 862 meta priority set 1:").Str(strconv.FormatInt(ProbeClass, 16)).Line(" accept")
	t.Str("\t\tudp sport 862 meta priority set 1:").Str(strconv.FormatInt(ProbeClass, 16)).Line(" accept")
	for i := range b.c.Shaping {
		s := &b.c.Shaping[i]
		all := slices.Concat(s.Here, s.Beyond)
		class("saddr", all, FirstZone+i)
		class("daddr", all, FirstZone+i)
	}
	t.Str("\t\tmeta priority set 1:").Str(strconv.FormatInt(OtherClass, 16)).End()
	t.Line("\t}")
}

// others are the bits of a mark that are not a place.
const others = ^uint32(gateway.PlaceMask)

// keep marks each flow with the place of the tunnel by which it came, where tunnels
// share the load, and its answers with the same, by which rules.ip sends them into
// that tunnel. Other bits of marks are left as they are.
func (b *bundle) keep(t *render.Text) {
	if len(b.c.Places) == 0 {
		return
	}
	t.Line("\tchain keep {").Line("\t\ttype filter hook prerouting priority mangle; policy accept;")
	if b.kept { // a probe goes back by the tunnel it came by, whatever place that has
		t.Line("\t\tudp dport 862 fib daddr type local accept")
	}
	for _, p := range b.c.Places {
		words(t.Str("\t\tct direction original iifname { "), p.Interfaces, `"`)
		t.Str(" } ct mark set ct mark & ").Hex(others).Str(" | ").Hex(uint32(p.Mark)).Line(" accept")
	}
	t.Str("\t\tct direction original ct mark & ").Hex(gateway.PlaceMask).Str(" != 0 ct mark set ct mark & ").Hex(others).End()
	b.answers(t)
	t.Line("\t}")
	t.Line("\tchain keep_own {").Line("\t\ttype route hook output priority mangle; policy accept;")
	b.answers(t)
	t.Line("\t}")
}

func (b *bundle) answers(t *render.Text) {
	for _, p := range b.c.Places {
		t.Str("\t\tct direction reply ct mark & ").Hex(gateway.PlaceMask).Str(" == ").Hex(uint32(p.Mark)).
			Str(" meta mark set meta mark & ").Hex(others).Str(" | ").Hex(uint32(p.Mark)).End()
	}
}

// held marks what is held to limits, by which the rules of a gateway that keeps to them
// send it into tables of its own. Bundles have none.
func (b *bundle) held(t *render.Text) {
	if !slices.ContainsFunc(b.c.Rules, func(r gateway.Rule) bool { return r.Mask&gateway.LimitMask != 0 }) {
		return
	}
	// Answers from the internet have their own address again only behind translation.
	for _, chain := range []struct{ name, hook string }{{"held", "filter hook prerouting priority dstnat + 1"}, {"held_own", "route hook output priority mangle + 1"}} {
		t.Str("\tchain ").Str(chain.name).Line(" {").Str("\t\ttype ").Str(chain.hook).Line("; policy accept;")
		t.Str("\t\tmeta mark & ").Hex(gateway.ProbeMark).Line(" != 0 accept")
		mark := func(condition string, prefixes []netip.Prefix, then func()) {
			for _, family := range families {
				if some := ofFamily(prefixes, family.family); len(some) > 0 {
					list(t.Str("\t\t").Str(family.word).Str(" ").Str(condition).Str(" "), some)
					then()
				}
			}
		}
		mark("daddr", b.c.Held.Here, func() { t.Line(" accept") })
		for i := range b.c.Held.Overlays {
			o := &b.c.Held.Overlays[i]
			set := func() { t.Str(" meta mark set meta mark | ").Hex(uint32(o.Mark)).End() }
			if chain.name == "held" {
				for _, family := range families {
					if own := ofFamily(o.Own, family.family); len(own) > 0 {
						list(t.Str("\t\tiifname != @tunnels ").Str(family.word).Str(" saddr "), own)
						set()
					}
				}
			} else {
				mark("saddr", o.Own, set)
			}
			mark("saddr", o.Prefixes, set)
			mark("daddr", o.Prefixes, set)
		}
		t.Line("\t}")
	}
}

// ownBack leaves what comes back from another hub, for want of a tunnel of its
// own, to that hub's tables alone: its flow is tracked, and translated, where it
// first set out.
func (b *bundle) ownBack(t *render.Text) {
	for i := range b.c.Filter.Overlays {
		o := &b.c.Filter.Overlays[i]
		if len(o.Back) == 0 {
			continue
		}
		t.Str("\tchain back_").Str(setOf(o.Overlay)).Line(" {").Line("\t\ttype filter hook prerouting priority raw; policy accept;")
		for _, family := range families {
			if prefixes := ofFamily(o.BackFrom, family.family); len(prefixes) > 0 {
				words(t.Str("\t\tiifname { "), o.Back, `"`)
				list(t.Str(" } ").Str(family.word).Str(" saddr "), prefixes).Line(" notrack")
			}
		}
		t.Line("\t}")
	}
}

// maps translates between a subnet and the prefix that stands for it in the
// overlays, address by address.
func (b *bundle) maps(t *render.Text) {
	for _, family := range families {
		var mapped []gateway.Map
		for _, m := range b.c.Maps {
			if gateway.FamilyOf(m.Inside.Addr()) == family.family {
				mapped = append(mapped, m)
			}
		}
		if len(mapped) == 0 {
			continue
		}
		pairs := func(pair func(gateway.Map) (from, to netip.Prefix)) {
			for i, m := range mapped {
				if i > 0 {
					t.Str(", ")
				}
				from, to := pair(m)
				t.Prefix(from).Str(" : ").Prefix(to)
			}
			t.Line(" }")
		}
		f := family.word
		t.Str("\tchain mapin_").Str(f).Line(" {").Line("\t\ttype nat hook prerouting priority dstnat; policy accept;")
		t.Str("\t\tiifname @tunnels dnat ").Str(f).Str(" prefix to ").Str(f).Str(" daddr map { ")
		pairs(func(m gateway.Map) (from, to netip.Prefix) { return m.Outside, m.Inside })
		t.Line("\t}")
		t.Str("\tchain mapout_").Str(f).Line(" {").Line("\t\ttype nat hook postrouting priority srcnat; policy accept;")
		t.Str("\t\toifname @tunnels snat ").Str(f).Str(" prefix to ").Str(f).Str(" saddr map { ")
		pairs(func(m gateway.Map) (from, to netip.Prefix) { return m.Inside, m.Outside })
		t.Line("\t}")
	}
}

// breakoutPass lets internet traffic of other sites through this hub, and the
// answers to it back.
func (b *bundle) breakoutPass(t *render.Text, overlay, set string) {
	for _, o := range b.c.Breakouts {
		if o.Overlay != overlay {
			continue
		}
		words(t.Str("\t\tiifname @").Str(set).Str(" oifname { "), o.Devices, `"`)
		list(t.Str(" } ").Str(wordOf(o.Family)).Str(" saddr "), o.From).Line(" accept")
		words(t.Str("\t\tiifname { "), o.Devices, `"`)
		list(t.Str(" } oifname @").Str(set).Str(" ct state established,related ").Str(wordOf(o.Family)).Str(" daddr "), o.From).Line(" accept")
	}
}

// breakouts translates the source of what leaves for the internet here. Traffic
// between shared prefixes is exempt, and the exemption comes first.
func (b *bundle) breakouts(t *render.Text) {
	for _, o := range b.c.Breakouts {
		f := wordOf(o.Family)
		t.Str("\tchain breakout_").Str(setOf(o.Overlay)).Str("_").Str(f).Line(" {").
			Line("\t\ttype nat hook postrouting priority srcnat; policy accept;")
		list(t.Str("\t\t").Str(f).Str(" daddr "), o.Except).Line(" accept")
		words(t.Str("\t\toifname { "), o.Devices, `"`)
		list(t.Str(" } ").Str(f).Str(" saddr "), o.From).Line(" masquerade")
		t.Line("\t}")
	}
}
