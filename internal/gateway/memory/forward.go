package memory

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"wideknot/core/addr"
	"wideknot/core/gateway"
)

// arrive is what a gateway does with a packet that came by a device, in the order in which
// Linux does it: flows, marks, translation, routing, and then either the machine's own
// sockets, or hops, the filter, the size and translation again. Under the lock.
// Long because that order is the thing.
func (m *Machine) arrive(device string, p Packet, now time.Time) action {
	in, ok := p.read()
	if !ok {
		return nil
	}
	if in.martian() {
		return nil
	}
	if t := m.tunnels[device]; t == nil && m.local[in.dst] == device { // outside packets of ours
		if act, taken := m.outer(p, &in); taken {
			return act
		}
	}
	c := m.config
	if c == nil {
		return m.deliverOr(device, p, &in)
	}
	fromTunnel := m.tunnels[device] != nil
	var s standing
	tracked := !m.comesBack(device, &in)
	if tracked {
		s = m.flows.of(p, &in, now)
	}
	mark := m.placed(&s, device, &in)
	if s.fresh && fromTunnel {
		for i := range c.Maps {
			if mp := &c.Maps[i]; mp.Outside.Contains(in.dst) {
				s.flow.answers.src = addr.Moved(in.dst, mp.Outside, mp.Inside)
				break
			}
		}
	}
	s.translate(p, &in, destination)
	mark |= m.heldMark(device, &in, false)
	if _, own := m.local[in.dst]; own {
		if s.fresh {
			m.flows.keep(s.flow, now)
		}
		return m.deliverOr(device, p, &in)
	}
	if in.staysOnLink() {
		return nil
	}
	to, _, err := m.route(&in, device, mark)
	if err != nil {
		if err == errNoRoute {
			return m.complain(device, p, &s, unreachable(&in, codeNet), 0)
		}
		return nil
	}
	if !p.Hop() {
		return m.complain(device, p, &s, exceeded(&in), 0)
	}
	if mtu := m.mtuOf(to); len(p) > mtu { // kernels look at that before they ask the filter
		return m.complain(device, p, &s, tooBig(&in), mtu)
	}
	if !m.passes(device, to, &in, &s) {
		return nil
	}
	if s.fresh {
		m.leaves(to, s.flow)
		m.flows.keep(s.flow, now)
	}
	class := m.classOf(&in)
	s.translate(p, &in, source)
	m.clamp(to, p, &in)
	return m.out(to, p, class)
}

// martian reports whether a packet is from or to where none on a network is, so that kernels take
// it for none.
func (in *info) martian() bool {
	return in.src.IsLoopback() || in.src.IsUnspecified() || in.src.IsMulticast() || in.dst.IsLoopback() || in.dst.IsUnspecified()
}

// staysOnLink reports whether a packet is for a link that no router carries it from.
func (in *info) staysOnLink() bool { return in.dst.IsMulticast() || in.dst.IsLinkLocalUnicast() }

// Routed reports whether a packet is one that routers carry at all.
func (p Packet) Routed() bool {
	in, ok := p.read()
	return ok && !in.martian() && !in.staysOnLink()
}

// deliverOr gives a packet to the machine's own sockets; what none has is answered as a host
// does.
func (m *Machine) deliverOr(device string, p Packet, in *info) action {
	if m.local[in.dst] == "" {
		return nil
	}
	if in.protocol == ProtoUDP {
		if act, taken := m.toSocket(device, p, in); taken {
			return act
		}
		return m.own(closed(in.dst, p))
	}
	if asks, _ := p.Echo(); asks {
		answer, ok := p.Answer()
		if !ok {
			return nil
		}
		return m.own(answer)
	}
	switch in.protocol {
	case ProtoICMP, ProtoICMPv6:
		m.hears(p, in)
		return nil
	case ProtoTCP:
		return m.own(p.reset(in))
	}
	return m.own(unknown(in.dst, p))
}

// unknown says that nobody speaks a protocol.
func unknown(from netip.Addr, p Packet) Packet {
	kind, code, about := byte(unreachable4), byte(codeProtocol), 0
	if from.Is6() {
		kind, code, about = problem6, codeHeader, offsetNext
	}
	out, _ := report(from, p, kind, code, about)
	return out
}

// closed says that nobody listens on a port.
func closed(from netip.Addr, p Packet) Packet {
	kind, code := byte(unreachable4), byte(codePort)
	if from.Is6() {
		kind, code = unreachable6, 4
	}
	out, _ := report(from, p, kind, code, 0)
	return out
}

// own sends a packet that the machine itself makes.
func (m *Machine) own(p Packet) action {
	if p == nil {
		return nil
	}
	in, ok := p.read()
	if !ok {
		return nil
	}
	s := m.flows.of(p, &in, time.Now())
	return m.sends(p, &s, "")
}

// sends sends one that is of a flow: by the device from whose address it is, where there is such
// and nothing leads it elsewhere.
func (m *Machine) sends(p Packet, s *standing, by string) action {
	in, _ := p.read()
	dst := in.dst
	mark := m.heldMark("", &in, true)
	if s.flow != nil && s.reply && !s.fresh {
		mark |= s.flow.place
	}
	s.translate(p, &in, destination)
	to, err := by, error(nil)
	if by == "" || mark != 0 || in.dst != dst {
		to, _, err = m.route(&in, "", mark)
	}
	if err != nil || len(p) > m.mtuOf(to) {
		return nil
	}
	if s.fresh {
		if m.tunnels[to] != nil {
			m.leaves(to, s.flow)
		}
		m.flows.keep(s.flow, time.Now())
	}
	class := m.classOf(&in)
	s.translate(p, &in, source)
	return m.out(to, p, class)
}

// A complaint is which ICMP error is sent.
type complaint struct{ kind, code byte }

func unreachable(in *info, code byte) complaint {
	if in.src.Is4() {
		return complaint{unreachable4, code}
	}
	return complaint{unreachable6, 0}
}

func exceeded(in *info) complaint {
	if in.src.Is4() {
		return complaint{exceeded4, 0}
	}
	return complaint{exceeded6, 0}
}

func tooBig(in *info) complaint {
	if in.src.Is4() {
		return complaint{unreachable4, codeFragment}
	}
	return complaint{tooBig6, 0}
}

// complain tells who sent a packet what became of it, as Linux does: of IPv6 from an address of the
// device by which the packet came, of IPv4 from one of that by which it says so.
func (m *Machine) complain(device string, p Packet, s *standing, c complaint, mtu int) action {
	in, ok := p.read()
	if !ok {
		return nil
	}
	by := ""
	if back, _, err := m.route(&info{dst: in.src}, "", 0); in.src.Is4() && err == nil {
		device, by = back, back
	}
	from := m.addressOn(device, in.src)
	if !from.IsValid() {
		return nil
	}
	out, ok := report(from, p, c.kind, c.code, mtu)
	if !ok {
		return nil
	}
	return m.sends(out, &standing{flow: s.flow, related: s.flow != nil, reply: !s.reply}, by)
}

// comesBack reports whether a packet is what the site itself sent, which comes back from
// another hub: its flow is known where it first set out.
func (m *Machine) comesBack(device string, in *info) bool {
	for i := range m.config.Filter.Overlays {
		o := &m.config.Filter.Overlays[i]
		if slices.Contains(o.Back, device) && within(o.BackFrom, in.src) {
			return true
		}
	}
	return false
}

// placed marks a flow with the place of the tunnel by which it came, and answers with it.
func (m *Machine) placed(s *standing, device string, in *info) int {
	if s.flow == nil || in.protocol == ProtoUDP && in.dport == probePort && m.local[in.dst] != "" {
		return 0
	}
	if s.reply {
		return s.flow.place
	}
	if !s.related {
		s.flow.place = 0
		for _, p := range m.config.Places {
			if slices.Contains(p.Interfaces, device) {
				s.flow.place = p.Mark
			}
		}
	}
	return 0
}

// heldMark marks what is held to limits. Own is of what the machine itself sends.
func (m *Machine) heldMark(device string, in *info, own bool) (mark int) {
	if m.config == nil || !slices.ContainsFunc(m.config.Rules, func(r gateway.Rule) bool { return r.Mask&gateway.LimitMask != 0 }) {
		return 0
	}
	h := &m.config.Held
	if within(h.Here, in.dst) {
		return 0
	}
	for i := range h.Overlays {
		o := &h.Overlays[i]
		fromHere := within(o.Own, in.src) && (own || m.tunnels[device] == nil)
		if fromHere || within(o.Prefixes, in.src) || within(o.Prefixes, in.dst) {
			mark |= o.Mark
		}
	}
	return mark
}

// leaves notes how a new flow is translated as it leaves by a device.
func (m *Machine) leaves(to string, f *flow) {
	src := f.answers.dst
	if m.tunnels[to] != nil {
		for i := range m.config.Maps {
			if mp := &m.config.Maps[i]; mp.Inside.Contains(src) {
				f.answers.dst = addr.Moved(src, mp.Inside, mp.Outside)
				return
			}
		}
		return
	}
	for i := range m.config.Breakouts {
		b := &m.config.Breakouts[i]
		if gateway.FamilyOf(src) != b.Family || !slices.Contains(b.Devices, to) || !within(b.From, src) || within(b.Except, f.answers.src) {
			continue
		}
		own := m.addressOn(to, f.answers.src)
		if !own.IsValid() {
			return
		}
		f.answers.dst = own
		if f.answers.protocol == ProtoICMP || f.answers.protocol == ProtoICMPv6 || f.answers.protocol == ProtoUDP || f.answers.protocol == ProtoTCP {
			m.freePort(f)
		}
		return
	}
}

// clamp lowers the TCP segment size that a SYN announces through a tunnel to what it holds.
func (m *Machine) clamp(to string, p Packet, in *info) {
	t := m.tunnels[to]
	if t == nil || in.protocol != ProtoTCP {
		return
	}
	body := p[in.header:]
	end := int(body[12]>>4) * 4
	if body[13]&tcpSyn == 0 || end > len(body) {
		return
	}
	most := t.is.MTU - in.header - headerTCP
	for i := headerTCP; i+1 < end; {
		switch kind, size := body[i], int(body[i+1]); {
		case kind == 0:
			return
		case kind == 1:
			i++
		case size < 2 || i+size > end:
			return
		default:
			if kind == 2 && size == 4 && int(body[i+2])<<8+int(body[i+3]) > most {
				body[i+2], body[i+3] = byte(most>>8), byte(most)
				p.sums()
			}
			i += size
		}
	}
}

// freePort gives a flow a port of the machine that no other flow has.
func (m *Machine) freePort(f *flow) {
	for range 1000 {
		if m.flows.known[f.answers] == nil {
			return
		}
		m.ports++
		if m.ports < 20000 {
			m.ports = 20000
		}
		f.answers.dport = m.ports
		if f.answers.protocol == ProtoICMP || f.answers.protocol == ProtoICMPv6 {
			f.answers.sport = m.ports
		}
	}
}

// passes judges a packet that goes through, as the chain pass of the rendered filter does.
func (m *Machine) passes(from, to string, in *info, s *standing) bool {
	fromTunnel, toTunnel := m.tunnels[from] != nil, m.tunnels[to] != nil
	if !fromTunnel && !toTunnel {
		return true
	}
	if s.related {
		return true
	}
	f := &m.config.Filter
	for i := range f.Kept {
		k := &f.Kept[i]
		if k.Interface == to && within(k.Prefixes, in.src) || k.Interface == from && within(k.Prefixes, in.dst) {
			m.kept[k.Interface]++
			return false
		}
	}
	for i := range f.Overlays {
		o := &f.Overlays[i]
		if !o.Relays {
			continue
		}
		inside, outside := slices.Contains(o.Interfaces, from), slices.Contains(o.Interfaces, to)
		if inside && outside {
			return true
		}
		for j := range m.config.Breakouts {
			b := &m.config.Breakouts[j]
			if b.Overlay != o.Overlay || b.Family != gateway.FamilyOf(in.src) {
				continue
			}
			if inside && slices.Contains(b.Devices, to) && within(b.From, in.src) {
				return true
			}
			if outside && slices.Contains(b.Devices, from) && s.flow != nil && !s.fresh && within(b.From, in.dst) {
				return true
			}
		}
	}
	if fromTunnel && toTunnel {
		return false
	}
	for i := range f.Overlays {
		o := &f.Overlays[i]
		if !o.Policed {
			continue
		}
		if slices.Contains(o.Interfaces, from) && !m.permits(o, in, s, fromTunnel, toTunnel) || slices.Contains(o.Interfaces, to) && !m.permits(o, in, s, fromTunnel, toTunnel) {
			return false
		}
	}
	return fromTunnel && within(f.Own, in.dst) || toTunnel && within(f.Own, in.src)
}

// permits asks the policy of an overlay.
func (m *Machine) permits(o *gateway.Passing, in *info, s *standing, fromTunnel, toTunnel bool) bool {
	for i := range o.Policy {
		e := &o.Policy[i]
		if e.Leaving && !toTunnel || !e.Leaving && !fromTunnel || e.Family != gateway.FamilyOf(in.src) ||
			e.From != nil && !within(e.From, in.src) || e.To != nil && !within(e.To, in.dst) || e.Reply && !(s.flow != nil && s.reply) || !fits(e, in) {
			continue
		}
		m.count(o.Overlay, e.Rule)
		return e.Permit
	}
	if o.Deny {
		m.count(o.Overlay, 0)
	}
	return !o.Deny
}

func (m *Machine) count(overlay string, rule int) {
	k := ruleKey{overlay, rule}
	if m.rules[k] == nil {
		m.rules[k] = &gateway.RuleState{Overlay: overlay, Rule: rule}
	}
	m.rules[k].Packets++
}

// fits compares protocol and ports.
func fits(e *gateway.Entry, in *info) bool {
	switch e.Protocol {
	case "":
		return true
	case "icmp":
		return in.protocol == ProtoICMP && in.src.Is4() || in.protocol == ProtoICMPv6 && in.src.Is6()
	case "tcp":
		if in.protocol != ProtoTCP {
			return false
		}
	case "udp":
		if in.protocol != ProtoUDP {
			return false
		}
	default:
		return false
	}
	if len(e.Ports) == 0 {
		return true
	}
	port := int(in.dport)
	if e.Reply {
		port = int(in.sport)
	}
	return slices.ContainsFunc(e.Ports, func(text string) bool {
		low, high, ranged := strings.Cut(text, "-")
		if !ranged {
			high = low
		}
		a, errA := strconv.Atoi(low)
		b, errB := strconv.Atoi(high)
		return errA == nil && errB == nil && a <= port && port <= b
	})
}
