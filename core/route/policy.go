package route

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"wideknot/core/addr"
	"wideknot/core/estate"
)

// A Policy is an overlay's zone policy with its parties resolved. Its rules are
// asked in order and the first that matches decides. A permit also lets the
// replies pass, at its place: what an earlier rule denies in the other
// direction keeps the replies out. It is asked at both ends of the way, never
// between, so a flow survives its move to another tunnel or hub.
type Policy struct {
	Default estate.Action
	Rules   []Clause
}

// Clause is one rule of a policy.
type Clause struct {
	Spec     estate.Rule
	From, To Party
}

// A Party is a set of subnets of the overlay, or of prefixes as written where
// a rule names a prefix alone; Any is everything.
type Party struct {
	Any     bool
	Members []Member
	Literal netip.Prefix
}

// A Member is a subnet of a party.
type Member struct{ Site, Subnet int }

// Empty reports whether nothing belongs to the party.
func (p *Party) Empty() bool { return !p.Any && len(p.Members) == 0 && !p.Literal.IsValid() }

// Policy resolves the policy of an overlay; nil when it has none.
func (m *Map) Policy(overlay int) *Policy {
	spec := m.graphs[overlay].overlay.Spec
	if spec.Policy == nil {
		return nil
	}
	p := &Policy{Default: spec.Policy.Default}
	for _, r := range spec.Policy.Rules {
		p.Rules = append(p.Rules, Clause{Spec: r, From: m.party(overlay, r.From), To: m.party(overlay, r.To)})
	}
	return p
}

func (m *Map) party(overlay int, spec estate.Party) Party {
	switch {
	case spec == (estate.Party{}):
		return Party{Any: true}
	case spec.Zone == "" && spec.Site == "":
		return Party{Literal: spec.Prefix}
	}
	var out Party
	for _, h := range m.shared[overlay].list {
		n := m.subnet(h)
		if (spec.Zone == "" || n.Zone == spec.Zone) && (spec.Site == "" || m.Plan.Site(h.site).Key == spec.Site) &&
			(!spec.Prefix.IsValid() || addr.Covers(spec.Prefix, h.prefix)) {
			out.Members = append(out.Members, Member{h.site, h.subnet})
		}
	}
	return out
}

// holds reports whether a host belongs to the party.
func (p *Party) holds(h place) bool {
	return p.Any || p.Literal.IsValid() && p.Literal.Contains(h.seen) || slices.Contains(p.Members, Member{h.site, h.subnet})
}

// matches reports whether the rule speaks of packets from a to b. A port of 0
// stands for one nobody names, such as the port to which a reply goes.
func (r *Clause) matches(a, b place, protocol string, port int) bool {
	return r.From.holds(a) && r.To.holds(b) && r.speaks(protocol, port)
}

// speaks reports whether the rule is about a protocol and a destination port.
func (r *Clause) speaks(protocol string, port int) bool {
	if r.Spec.Protocol != "" && r.Spec.Protocol != "any" && r.Spec.Protocol != protocol {
		return false
	}
	return len(r.Spec.Ports) == 0 || slices.ContainsFunc(r.Spec.Ports, func(text string) bool {
		low, high := PortRange(text)
		return port >= low && port <= high && port > 0
	})
}

// PortRange reads a port or a range such as 8000-8080.
func PortRange(text string) (low, high int) {
	first, last, isRange := strings.Cut(text, "-")
	low, _ = strconv.Atoi(first) // validation has seen to the form
	if high = low; isRange {
		high, _ = strconv.Atoi(last)
	}
	return low, high
}

// verdict says what becomes of a packet from a to b, and which rule decided,
// from 1; 0 is the default. For a reply, protocol and port are those of the
// flow it answers.
func (p *Policy) verdict(a, b place, protocol string, port int, reply bool) (estate.Action, int) {
	for i := range p.Rules {
		r := &p.Rules[i]
		switch {
		case reply && r.Spec.Action == estate.Permit && r.matches(b, a, protocol, port):
			return estate.Permit, i + 1
		case reply && r.matches(a, b, protocol, 0), !reply && r.matches(a, b, protocol, port):
			return r.Spec.Action, i + 1
		}
	}
	return p.Default, 0
}

// Within reports whether everything of the party belongs to the other too.
func (m *Map) Within(inner, outer *Party) bool {
	switch {
	case outer.Any || inner.Empty():
		return true
	case inner.Any:
		return false
	case inner.Literal.IsValid():
		return outer.Literal.IsValid() && addr.Covers(outer.Literal, inner.Literal)
	}
	for _, member := range inner.Members {
		prefix := m.Plan.Site(member.Site).Subnets[member.Subnet].Taking()
		if !slices.Contains(outer.Members, member) && !(outer.Literal.IsValid() && addr.Covers(outer.Literal, prefix)) {
			return false
		}
	}
	return true
}

// Meet reports whether something belongs to both parties.
func (m *Map) Meet(a, b *Party) bool {
	switch {
	case a.Empty() || b.Empty():
		return false
	case a.Any || b.Any:
		return true
	case a.Literal.IsValid() && b.Literal.IsValid():
		return a.Literal.Overlaps(b.Literal)
	case a.Literal.IsValid():
		a, b = b, a
	}
	return slices.ContainsFunc(a.Members, func(member Member) bool {
		return slices.Contains(b.Members, member) ||
			b.Literal.IsValid() && b.Literal.Overlaps(m.Plan.Site(member.Site).Subnets[member.Subnet].Taking())
	})
}

// Sides tells subnets of an overlay apart by the parties of its policy to which
// they belong: those of equal sides are judged alike. A prefix of a rule that
// holds a part of a subnet only counts as holding none of it. It is false where
// telling them apart would take too long (see mostJudged).
func (p *Policy) Sides(m *Map, overlay int) (map[Member]string, bool) {
	list := m.shared[overlay].list
	if len(list)*len(p.Rules) > mostJudged {
		return nil, false
	}
	all := make([]byte, len(list)*2*len(p.Rules)) // by subnet, two of each rule
	place := make(map[Member]int, len(list))
	for i, h := range list {
		place[Member{h.site, h.subnet}] = i
	}
	for k := range 2 * len(p.Rules) {
		party := &p.Rules[k/2].From
		if k%2 == 1 {
			party = &p.Rules[k/2].To
		}
		for i := range list {
			all[i*2*len(p.Rules)+k] = "01"[boolInt(party.Any || party.Literal.IsValid() && addr.Covers(party.Literal, list[i].prefix))]
		}
		for _, at := range party.Members {
			if i, ok := place[at]; ok {
				all[i*2*len(p.Rules)+k] = '1'
			}
		}
	}
	out, distinct := make(map[Member]string, len(list)), map[string]bool{}
	for at, i := range place {
		side := string(all[i*2*len(p.Rules) : (i+1)*2*len(p.Rules)])
		out[at], distinct[side] = side, true
	}
	ports := 0
	for _, protocol := range protocols {
		ports += len(p.ports(protocol))
	}
	return out, len(distinct)*len(distinct)*len(p.Rules)*ports*4 <= mostJudged
}

// mostJudged bounds the comparisons by which subnets are told apart, and those of
// all their sides: about half a second's.
const mostJudged = 100_000_000

var protocols = []string{"icmp", "udp", "tcp"}

// Opens reports whether anything passes between subnets of two sides, and its
// answers back, whichever asks.
func (p *Policy) Opens(a, b string) bool {
	return p == nil || p.opens(a, b) || p.opens(b, a)
}

func (p *Policy) opens(from, to string) bool {
	for _, protocol := range protocols {
		for _, port := range p.ports(protocol) {
			if p.judge(from, to, protocol, port, false) == estate.Permit && p.judge(to, from, protocol, port, true) == estate.Permit {
				return true
			}
		}
	}
	return false
}

// ports lists one port of each set that the rules tell apart: any that no rule
// names, and the first of each range and the first after it.
func (p *Policy) ports(protocol string) []int {
	out := []int{0}
	for i := range p.Rules {
		if p.Rules[i].Spec.Protocol != protocol {
			continue
		}
		for _, text := range p.Rules[i].Spec.Ports {
			low, high := PortRange(text)
			out = append(out, low, min(high+1, 65535))
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// judge is verdict by sides.
func (p *Policy) judge(from, to string, protocol string, port int, reply bool) estate.Action {
	for i := range p.Rules {
		spec := &p.Rules[i].Spec
		there := from[2*i] == '1' && to[2*i+1] == '1'
		back := to[2*i] == '1' && from[2*i+1] == '1'
		switch {
		case reply && spec.Action == estate.Permit && back && p.Rules[i].speaks(protocol, port):
			return estate.Permit
		case reply && there && p.Rules[i].speaks(protocol, 0), !reply && there && p.Rules[i].speaks(protocol, port):
			return spec.Action
		}
	}
	return p.Default
}

// OwnIn lists what of a site's shared subnets lies in a prefix, as its hosts have
// it. A rule that names a prefix means addresses as the overlay sees them; a
// filter at the site sees those of mapped subnets as they are inside.
func (m *Map) OwnIn(site int, seen netip.Prefix) (out []netip.Prefix) {
	for i := range m.Plan.Site(site).Subnets {
		n := &m.Plan.Site(site).Subnets[i]
		taking := n.Taking()
		switch {
		case len(n.Share) == 0 || !taking.Overlaps(seen):
		case seen.Bits() <= taking.Bits():
			out = append(out, n.Prefix)
		default:
			out = append(out, netip.PrefixFrom(addr.Moved(seen.Masked().Addr(), taking, n.Prefix), seen.Bits()))
		}
	}
	return out
}
