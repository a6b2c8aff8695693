package rollout

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"wideknot/core/addr"
	"wideknot/core/gateway"
)

// mostHops bounds a way: what goes round ends there.
const mostHops = 8

// A kind is what a packet is, as policies tell packets apart.
type kind struct {
	protocol string // icmp, tcp, udp
	port     int
}

// A lane is what one host sends to another one: addresses as hosts have them.
type lane struct {
	a, b     int
	from, to netip.Addr
	kind     kind
}

// A flight is a packet on its way by the tables that gateways have.
type flight struct {
	n        *net
	kind     kind
	state    []Stage
	src, dst netip.Addr
	reply    bool
	marks    map[int]int // by gateway: place by which the flow came
	path     []int       // gateways that it passed
	asked    []int       // gateways whose tunnels it would have taken
	before   []Stage     // state before the last change, where that is not noticed yet; else nil
	unseen   int         // ms until the tunnel in which it was lost is found dead; 0 for never
	skips    bool        // it would have taken tunnels that are dead
	own      bool        // it is of gateways themselves: their filters judge what passes only
	mtu      int         // the least of the ways that it took, in bytes; 0 where it took none
}

// A passage is what became of a packet and its answer. It is the same in every state in which
// the gateways that it passed, and those by which it would have gone, are as they were.
type passage struct {
	arrives bool
	path    []int // gateways, there and back
	asked   []int
	unseen  int // ms until gateways notice why it does not arrive; 0 where they never do
	// skips is whether it avoids tunnels that are dead; if not, it is the same before that is
	// noticed.
	skips bool
}

// on reports whether a passage may change with some gateways.
func (p *passage) on(some []bool) bool {
	in := func(i int) bool { return some[i] }
	return slices.ContainsFunc(p.path, in) || slices.ContainsFunc(p.asked, in)
}

// reach follows what is sent in a lane, and its answer, once gateways noticed which tunnels
// are dead.
func (n *net) reach(state []Stage, l *lane) passage { return n.reachAfter(nil, state, l) }

// reachAfter follows it before they notice what changed since another state; nil for none.
func (n *net) reachAfter(before, state []Stage, l *lane) passage {
	f := flight{n: n, kind: l.kind, state: state, before: before, src: l.from, dst: n.seen(state, l.b, l.to), marks: make(map[int]int, 4), path: make([]int, 0, 8)}
	if !f.run(l.a, l.b) {
		return passage{false, f.path, append(f.asked, l.b), f.unseen, f.skips}
	}
	back := flight{n: n, kind: l.kind, state: state, before: before, src: l.to, dst: f.src, reply: true, marks: f.marks, path: f.path, asked: f.asked, skips: f.skips}
	arrives := back.run(l.b, l.a) && back.dst == l.from
	return passage{arrives, back.path, back.asked, back.unseen, back.skips}
}

// seen is the address by which others know a host of a site.
func (n *net) seen(state []Stage, i int, a netip.Addr) netip.Addr {
	maps := n.at(i, state[i]).config.Maps
	for k := range maps {
		if maps[k].Inside.Contains(a) {
			return addr.Moved(a, maps[k].Inside, maps[k].Outside)
		}
	}
	return a
}

// run follows the packet from one gateway's LAN to another's.
func (f *flight) run(at, to int) bool {
	arriving := lan
	for range mostHops {
		f.path = append(f.path, at)
		here := f.n.at(at, f.state[at])
		if arriving == lan && !f.own && here.unreached(f.src) {
			return false
		}
		if arriving != lan {
			for i := range here.config.Maps {
				if m := &here.config.Maps[i]; m.Outside.Contains(f.dst) {
					f.dst = addr.Moved(f.dst, m.Outside, m.Inside)
					break
				}
			}
		}
		mark := 0
		if f.reply {
			mark = f.marks[at]
		} else {
			f.marks[at] = 0
			if arriving != lan {
				f.marks[at] = here.marks[arriving]
			}
		}
		value := here.route(f.src, f.dst, arriving, mark)
		if value == connected {
			return at == to && arriving != lan && here.passes(f, arriving, lan) && (f.own || !here.unreached(f.dst))
		}
		if value < 0 || here.config.Routes[value].Way == 0 {
			return false
		}
		r := &here.config.Routes[value]
		next, by, ok := f.send(at, here, f.steer(at, here, r, here.ways[r.Way]), arriving)
		if !ok {
			return false
		}
		at, arriving = next, by
	}
	return false
}

// unreached reports whether the gateway, beside the way, and the router of its LAN have no
// addresses to hand each other a host's packets by.
func (k *node) unreached(a netip.Addr) bool {
	return slices.ContainsFunc(k.config.Neighbours.Without, func(u gateway.Unreached) bool { return u.Family == gateway.FamilyOf(a) })
}

// send lets the packet leave by the first group of a way with a tunnel that the gateway does
// not know to be dead, and returns where and by which tunnel it comes in. What goes into a
// tunnel whose death is not known yet is lost, and with it some of what shares the load.
func (f *flight) send(at int, here *node, w *way, arriving int) (next, by int, ok bool) {
	if w == nil {
		return 0, 0, false
	}
	for _, members := range w.groups {
		total := 0
		for _, m := range members {
			switch f.fate(at, here, m.tunnel) {
			case lost:
				return 0, 0, false
			case carried:
				total += m.weight
			}
		}
		if total == 0 {
			continue
		}
		tunnel, there := -1, -1
		left := int(f.hash() % uint32(total))
		for _, m := range members {
			j, o, ok := f.n.works(f.state, at, m.tunnel)
			if !ok {
				continue
			}
			if left -= m.weight; left < 0 {
				tunnel, next, there = m.tunnel, j, o
				break
			}
		}
		if !here.passes(f, arriving, tunnel) {
			return 0, 0, false
		}
		if arriving == lan {
			f.src = f.n.seen(f.state, at, f.src)
		}
		beyond := f.n.at(next, f.state[next])
		if !here.ends[tunnel].allows(f.dst) || !beyond.ends[there].allows(f.src) {
			return 0, 0, false
		}
		if f.mtu == 0 || w.mtu < f.mtu {
			f.mtu = w.mtu
		}
		return next, there, true
	}
	return 0, 0, false
}

// fate is what becomes of a packet that is to leave by a tunnel.
type fate int

const (
	skipped fate = iota // the gateway knows that it is dead, and takes another one
	carried
	lost
)

// fate tells it. A gateway learns that a tunnel is dead from its probes, and not at once: what
// was carried before the last change, and what is new, is taken to be alive at first.
func (f *flight) fate(at int, here *node, tunnel int) fate {
	j, _, works := f.n.works(f.state, at, tunnel)
	if j >= 0 && !slices.Contains(f.asked, j) {
		f.asked = append(f.asked, j)
	}
	t := &here.config.Tunnels[tunnel]
	switch {
	case works:
		return carried
	case !f.n.called(f.state, at, tunnel): // it never was alive
		return skipped
	case t.Probe == nil:
		return lost
	case f.before == nil:
		f.skips = true
		return skipped
	}
	was := f.n.at(at, f.before[at])
	k, there := was.leading[far(t)]
	if there {
		_, _, works = f.n.works(f.before, at, k)
	}
	if there && !works {
		return skipped
	}
	f.unseen = max(f.unseen, t.Probe.Interval*t.Probe.Misses+t.Probe.Timeout)
	return lost
}

// hash is FNV-1a over both addresses.
func (f *flight) hash() uint32 {
	const start, prime = 2166136261, 16777619
	h := uint32(start)
	for _, a := range [...]netip.Addr{f.src, f.dst} {
		bytes := a.As16()
		for _, b := range bytes[16-a.BitLen()/8:] {
			h = (h ^ uint32(b)) * prime
		}
	}
	return h
}

// route finds the route of a packet by the rules in their order.
func (k *node) route(src, dst netip.Addr, arriving, mark int) int {
	family := gateway.FamilyOf(dst)
	for i := range k.config.Rules {
		r := &k.config.Rules[i]
		if r.Family != family || r.Mask != 0 && mark&r.Mask != r.Mark || len(r.Arriving) > 0 && !slices.Contains(r.Arriving, k.name(arriving)) || len(r.From) > 0 && !within(r.From, src) {
			continue
		}
		t, least := k.tables[r.Table], 0
		if r.NoLonger {
			t, least = k.tables[gateway.DefaultTable], 1
		}
		if v := t.find(dst, least); v != nothing {
			return v
		}
	}
	return k.tables[gateway.DefaultTable].find(dst, 0)
}

func within(prefixes []netip.Prefix, a netip.Addr) bool {
	return slices.ContainsFunc(prefixes, func(p netip.Prefix) bool { return p.Contains(a) })
}

// passes asks the filter whether a packet may go through from a tunnel or the LAN to another.
func (k *node) passes(f *flight, from, to int) bool {
	filter := &k.config.Filter
	if f.own && (from == lan || to == lan) {
		return true
	}
	if from != lan && slices.ContainsFunc(k.kept[from], func(i int) bool { return within(filter.Kept[i].Prefixes, f.dst) }) ||
		to != lan && slices.ContainsFunc(k.kept[to], func(i int) bool { return within(filter.Kept[i].Prefixes, f.src) }) {
		return false
	}
	if from != lan && to != lan {
		return slices.ContainsFunc(k.passing[from], func(o int) bool { return filter.Overlays[o].Relays && slices.Contains(k.passing[to], o) })
	}
	tunnel := max(from, to) // the other one is the LAN
	if tunnel != lan {
		for _, o := range k.passing[tunnel] {
			if p := &filter.Overlays[o]; p.Policed && !f.permitted(p, to != lan) {
				return false
			}
		}
	}
	return from != lan && within(filter.Own, f.dst) || to != lan && within(filter.Own, f.src)
}

// permitted asks the policy of an overlay: the first entry that fits decides.
func (f *flight) permitted(p *gateway.Passing, leaving bool) bool {
	for i := range p.Policy {
		e := &p.Policy[i]
		if e.Leaving == leaving && e.Family == gateway.FamilyOf(f.src) && (e.From == nil || within(e.From, f.src)) && (e.To == nil || within(e.To, f.dst)) &&
			(!e.Reply || f.reply) && f.fits(e) {
			return e.Permit
		}
	}
	return !p.Deny
}

// fits compares protocol and port: those of an answer come from the port.
func (f *flight) fits(e *gateway.Entry) bool {
	if e.Protocol == "" {
		return true
	}
	if e.Protocol != f.kind.protocol || f.reply != e.Reply && len(e.Ports) > 0 {
		return false
	}
	return len(e.Ports) == 0 || slices.ContainsFunc(e.Ports, func(text string) bool {
		low, high := portsOf(text)
		return low <= f.kind.port && f.kind.port <= high
	})
}

// portsOf reads N or N-M.
func portsOf(text string) (low, high int) {
	first, last, ranged := strings.Cut(text, "-")
	low, _ = strconv.Atoi(first) // it was checked with the configuration
	if !ranged {
		return low, low
	}
	high, _ = strconv.Atoi(last)
	return low, high
}
