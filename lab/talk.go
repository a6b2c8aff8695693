package main

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
	"wideknot/internal/gateway/memory"
)

// A talk is what hosts of two sites say to each other, and what of it arrives anywhere.
type talk struct {
	number    uint16 // its port or identifier, by which whatever belongs to it is known
	from, to  int    // sites
	near, far netip.Addr
	port      uint16 // that is asked for
	lines     []line
	heard     map[int]memory.Packet // by site: the last that arrived
	arrived   []string              // by what is said at present, in words
}

// A line is a packet that one of the two says. What answers is made from what arrived before.
type line struct {
	what string // see speak
	back bool   // it is the far host that speaks
	size int    // of the whole packet, 0 for small
	ttl  byte   // 0 for 64
}

// unknown is a protocol of which gateways know nothing: one for experiments (RFC 3692).
const unknown = 253

// firstTalk is the number of the first one. No gateway uses ports so high by itself.
const firstTalk = 61000

// openings is what a host may begin with, and answers is what may follow it.
var (
	openings = []string{"udp", "syn", "syn-ack", "ack", "rst", "echo", "echo-reply", "protocol"}
	answers  = []string{"reply", "reply", "reply", "unreachable", "exceeded", "too-big", "other", "again"}
)

// script makes a talk of random lines.
func script(random *rand.Rand, most int) (out []line) {
	one := line{what: openings[random.IntN(len(openings))]}
	if random.IntN(4) == 0 {
		one.ttl = byte(1 + random.IntN(4))
	}
	if one.what != "syn" && random.IntN(3) == 0 {
		one.size = most + random.IntN(3) - 1
	}
	out = append(out, one)
	for n := random.IntN(3); n > 0; n-- {
		next := line{what: answers[random.IntN(len(answers))], back: !out[len(out)-1].back}
		if next.what == "again" {
			next.back = !next.back
		}
		out = append(out, next)
	}
	return out
}

// speak makes the packet of the nth line; nil where it answers what did not arrive.
func (t *talk) speak(n int) memory.Packet {
	l := t.lines[n]
	site, from, to := t.from, netip.AddrPortFrom(t.near, t.number), netip.AddrPortFrom(t.far, t.port)
	if l.back {
		site, from, to = t.to, to, from
	}
	heard := t.heard[site]
	what := l.what
	if n > 0 {
		if heard == nil {
			return nil
		}
		src, dst, protocol, ok := heard.Parse()
		if !ok {
			return nil
		}
		from, to = dst, src
		switch {
		case what == "again": // what it said last went to whom it hears now
			what = "udp"
		case what == "other": // of another flow
			what, from = "udp", netip.AddrPortFrom(dst.Addr(), t.port+1)
		case what == "reply" && protocol == memory.ProtoUDP:
			what = "udp"
		case what == "reply" && protocol == memory.ProtoTCP:
			return answerTCP(from, to, heard)
		case what == "reply" && (protocol == memory.ProtoICMP || protocol == memory.ProtoICMPv6):
			what = "echo-reply"
		case what == "reply":
			what = "protocol"
		default:
			return about(what, dst.Addr(), heard)
		}
	}
	return say(what, from, to, l, t.number)
}

// answerTCP goes on with a session: it confirms all that was heard.
func answerTCP(from, to netip.AddrPort, heard memory.Packet) memory.Packet {
	head := 20
	if from.Addr().Is6() {
		head = 40
	}
	said := heard[head:]
	flags, next := byte(16), binary.BigEndian.Uint32(said[4:])+uint32(len(said)-int(said[12]>>4)*4)
	if said[13]&2 != 0 {
		next++
		if said[13]&16 == 0 {
			flags = 18
		}
	}
	p := memory.TCP(from, to, 64, flags)
	copy(p[head+4:head+8], said[8:12])
	binary.BigEndian.PutUint32(p[head+8:], next)
	binary.BigEndian.PutUint16(p[head+14:], 60000)
	p.Sums()
	return p
}

func say(what string, from, to netip.AddrPort, l line, number uint16) memory.Packet {
	ttl, head := l.ttl, 20
	if ttl == 0 {
		ttl = 64
	}
	if from.Addr().Is6() {
		head = 40
	}
	load := binary.BigEndian.AppendUint16(nil, number) // translation changes ports
	load = append(load, make([]byte, max(0, l.size-head-10))...)
	switch what {
	case "udp":
		return memory.UDP(from, to, ttl, load)
	case "protocol": // one that gateways know nothing of
		p := memory.UDP(from, to, ttl, load)
		p[map[bool]int{true: 9, false: 6}[head == 20]] = unknown
		p.Sums()
		return p
	case "echo", "echo-reply":
		p := memory.EchoRequest(from.Addr(), to.Addr(), ttl, number, 1, head+8+len(load))
		copy(p[head+8:], load)
		p.Sums()
		if what == "echo-reply" {
			p[head] = map[bool]byte{true: 0, false: 129}[head == 20]
			p.Sums()
		}
		return p
	}
	p := memory.TCP(from, to, ttl, map[string]byte{"syn": 2, "syn-ack": 18, "ack": 16, "rst": 4}[what])
	binary.BigEndian.PutUint16(p[head+4:], number) // of the first byte
	if l.size > 0 {
		p = append(p, make([]byte, l.size-len(p))...)
	} else if what != "ack" && what != "rst" { // with the size of segments that hosts on Ethernet announce
		p = append(p, 2, 4, 1460>>8, 1460&255)
		p[head+12] = 6 << 4
	}
	return whole(p, head)
}

// whole sets how long a packet is after its header, and its checksums.
func whole(p memory.Packet, head int) memory.Packet {
	if head == 20 {
		binary.BigEndian.PutUint16(p[2:], uint16(len(p)))
	} else {
		binary.BigEndian.PutUint16(p[4:], uint16(len(p)-head))
	}
	p.Sums()
	return p
}

// about makes an ICMP error about a packet.
func about(what string, from netip.Addr, p memory.Packet) memory.Packet {
	src, _, _, _ := p.Parse()
	quoted := p[:min(len(p), 500)]
	kinds := map[string][2]byte{"unreachable": {3, 3}, "exceeded": {11, 0}, "too-big": {3, 4}}
	if from.Is6() {
		kinds = map[string][2]byte{"unreachable": {1, 4}, "exceeded": {3, 0}, "too-big": {2, 0}}
	}
	out := memory.EchoRequest(from, src.Addr(), 64, 0, 0, 0)
	head := len(out) - 8
	out[head], out[head+1] = kinds[what][0], kinds[what][1]
	if what == "too-big" {
		binary.BigEndian.PutUint16(out[head+6:], 1280)
	}
	out = append(out, quoted...)
	return whole(out, head)
}

// A comparison lets hosts of an estate say the same on both planes.
type comparison struct {
	e       *estate.Estate
	m       *route.Map
	configs []*gateway.Config
	random  *rand.Rand
	number  uint16 // of the last talk
	stages  [2]*stage
	settle  func() error // waits until all tunnels of both planes live, and no flapping is remembered

	arrived int      // packets
	differ  []string // where the planes do, in words
}

// Planes lets hosts of the estate of a seed talk on both planes, and returns how many packets
// arrived and where the planes differ. Stand-ins have no IPsec: nothing is said where it is used.
func Planes(seed uint64, rounds int) (arrived int, differ []string, err error) {
	e := sample.Mixed(seed)
	if slices.ContainsFunc(e.Overlays, func(o estate.Overlay) bool { return o.Transport == estate.IPsec }) {
		return 0, nil, nil
	}
	probed(e, seed%2 == 0)
	kernel, err := newKernels(e)
	defer kernel.close()
	if err != nil {
		return 0, nil, err
	}
	memory, err := newStandIns(e)
	defer memory.close()
	if err != nil {
		return 0, nil, err
	}
	r := &comparison{e: e, m: route.Build(tunnel.Derive(e)), random: rand.New(rand.NewPCG(seed, 83)), number: firstTalk}
	r.settle = func() error {
		_, err := kernel.world.settle(route.Failing{})
		return errors.Join(err, memory.settle(), kernel.forgive(), memory.forgive())
	}
	for i := range e.Sites {
		r.configs = append(r.configs, gateway.Of(r.m, i))
	}
	if err := r.set(kernel, memory); err != nil {
		return 0, nil, err
	}
	for range rounds {
		var talks []talk
		for n := 0; n < 2000 && len(talks) < 60; n++ { // some estates have few
			if t, ok := r.cast(); ok {
				talks = append(talks, t)
			}
		}
		if err := r.round(talks); err != nil {
			return 0, nil, err
		}
	}
	return r.arrived, r.differ, nil
}

// set lets talks go on, on both planes.
func (r *comparison) set(planes ...plane) error {
	var keys []string
	owners, lans, beside := map[netip.Addr]string{}, []netip.Prefix{}, map[string]bool{}
	var own []map[netip.Addr]bool
	for i := range r.e.Sites {
		site := &r.e.Sites[i]
		keys = append(keys, site.Key)
		own = append(own, map[netip.Addr]bool{})
		for j := range site.Links {
			beside[site.Key+"/"+site.Links[j].Key] = site.Links[j].Device == site.Gateway.LANDevice
		}
		for _, a := range append(site.Gateway.LANAddresses(), site.Gateway.Upstream, site.Gateway.Upstream6) {
			owners[a], own[i][a] = site.Key, true
		}
		for _, t := range r.configs[i].Tunnels {
			for _, a := range t.Addresses {
				owners[a.Addr()] = site.Key
			}
		}
		for j := range site.Subnets {
			n := &site.Subnets[j]
			if at := gatewayOn(n.Prefix); owners[at] != site.Key {
				owners[at] += site.Key // there may be several
			}
			own[i][gatewayOn(n.Prefix)] = true
			lans = append(lans, n.Prefix, n.Taking())
		}
	}
	for n, p := range planes {
		r.stages[n] = &stage{plane: p, keys: keys, owners: owners, own: own, lans: lans, beside: beside}
		if err := p.take(r.stages[n].arrives); err != nil {
			return err
		}
	}
	return nil
}

// round plays some talks on both planes. Those that differ are played again: one may have been
// late.
func (r *comparison) round(talks []talk) error {
	for try := 0; len(talks) > 0; try++ {
		if try > 0 { // what a late handshake or a busy machine made come and go is over by then
			if err := r.settle(); err != nil {
				return err
			}
		}
		for i := range talks {
			if r.number++; r.number == 65500 {
				r.number = firstTalk
			}
			talks[i].number = r.number
		}
		var seen [2][][][]string
		for n, s := range r.stages {
			var err error
			if seen[n], err = s.play(talks); err != nil {
				return err
			}
		}
		var again []talk
		for i := range talks {
			t := &talks[i]
			for n := range t.lines {
				kernel, memory := seen[0][i][n], seen[1][i][n]
				r.arrived += len(kernel)
				if slices.Equal(kernel, memory) {
					continue
				}
				if try < 2 {
					again = append(again, *t)
				} else {
					r.differ = append(r.differ, fmt.Sprintf("%s %v to %s %v port %d, line %d of %+v:\n    kernel %q\n    memory %q", r.key(t.from), t.near, r.key(t.to), t.far, t.port, n+1, t.lines, kernel, memory))
				}
				break
			}
		}
		talks = again
	}
	return nil
}

// key names a site, or the internet.
func (r *comparison) key(site int) string {
	if site == len(r.e.Sites) {
		return estate.Internet
	}
	return r.e.Sites[site].Key
}

// nobody is addresses that no site has.
var nobody = []netip.Addr{netip.MustParseAddr("10.255.255.10"), netip.MustParseAddr("fd3a:91c2:7:fff0::a"), netip.MustParseAddr("224.0.0.9"), netip.MustParseAddr("240.0.0.1"), netip.MustParseAddr("127.0.0.1")}

// cast chooses hosts of two sites, and what they say.
func (r *comparison) cast() (talk, bool) {
	m, random, sites := r.m, r.random, r.e.Sites
	a, b := random.IntN(len(sites)), random.IntN(len(sites))
	if a == b || len(sites[a].Subnets) == 0 || len(sites[b].Subnets) == 0 {
		return talk{}, false
	}
	if random.IntN(8) == 0 {
		return r.caller(a)
	}
	from, to := &sites[a].Subnets[random.IntN(len(sites[a].Subnets))], &sites[b].Subnets[random.IntN(len(sites[b].Subnets))]
	t := talk{from: a, to: b, near: hostOn(from.Prefix), far: hostOn(to.Taking()), port: uint16(openPorts[random.IntN(len(openPorts))])}
	switch random.IntN(8) {
	case 0: // the far gateway itself
		if t.far = gatewayOn(to.Taking()); sites[b].Gateway.Placement == estate.OneArmed {
			t.far = netip.Addr{} // that one is the router's
			if own := sites[b].Gateway.LANAddressOf(to.Prefix.Addr().Is4()); to.Prefix.Contains(own) {
				t.far = addr.Moved(own, to.Prefix, to.Taking())
			}
		}
	case 1: // under the address of another site's host
		other := &sites[random.IntN(len(sites))]
		if len(other.Subnets) > 0 {
			t.near = hostOn(other.Subnets[0].Taking())
		}
	case 2: // for nobody
		t.far = nobody[random.IntN(len(nobody))]
	case 3, 4: // for a host of the internet
		t.to, t.far = len(sites), internet[random.IntN(len(internet))]
	}
	if !t.far.IsValid() || t.near.Is4() != t.far.Is4() {
		return talk{}, false
	}
	if c := r.configs[a]; len(c.Tunnels) == 0 || t.near.Is6() && !c.Forward6 {
		return talk{}, false // whether such a gateway forwards is not ours to say
	}
	shares := func(w *route.Walk) bool {
		return w.Partly || slices.ContainsFunc(w.Steps, func(s route.Step) bool { return len(s.Beside) > 0 })
	}
	trace := m.Follow(route.Packet{From: t.near, To: t.far, Protocol: "udp", Port: int(t.port)})
	own := m.Follow(route.Packet{From: hostOn(from.Prefix), To: t.far, Protocol: "udp", Port: int(t.port)}) // whose ever address it speaks under
	if shares(&trace.Forward) || trace.Return != nil && shares(trace.Return) || shares(&own.Forward) {
		return talk{}, false // it depends on the flow
	}
	t.lines = script(random, cmp.Or(trace.MTU, 1400))
	for i := range t.lines {
		if l := &t.lines[i]; t.to == len(sites) && l.what == "protocol" {
			l.what = "udp" // a translator tells hosts apart by ports
		}
	}
	if len(trace.Forward.Steps) == 0 { // it gets nowhere, and by what it would go may depend on the flow
		for i := range t.lines {
			t.lines[i].size = 0
		}
	}
	return t, true
}

// caller lets a host of the internet ask a gateway by one of its links.
func (r *comparison) caller(site int) (talk, bool) {
	links := r.e.Sites[site].Links
	if len(links) == 0 || len(r.configs[site].Tunnels) == 0 {
		return talk{}, false
	}
	l := &links[r.random.IntN(len(links))]
	near := internet[r.random.IntN(len(internet))]
	if l.Reach != estate.Static || l.UnderlayOf() != estate.Internet {
		return talk{}, false // it has no address that both planes know
	}
	for _, far := range l.Addresses {
		if far.Is4() == near.Is4() {
			t := talk{from: len(r.e.Sites), to: site, near: near, far: far, port: uint16(openPorts[r.random.IntN(len(openPorts))])}
			t.lines = script(r.random, 0)[:1]
			t.lines[0].size = 0
			return t, true
		}
	}
	return talk{}, false
}
