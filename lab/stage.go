package main

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"wideknot/internal/gateway/memory"
)

// tagOf finds of which talk a packet is that a host sent, whatever became of its ports.
func tagOf(p memory.Packet) uint16 {
	if inner, is := p.Quoted(); is {
		return tagOf(inner)
	}
	_, dst, protocol, ok := p.Parse()
	at := 28
	if dst.Addr().Is6() {
		at = 48
	}
	switch {
	case protocol == memory.ProtoTCP:
		at -= 4
	case protocol == unknown:
		return numberOf(p)
	}
	if !ok || len(p) < at+2 {
		return 0
	}
	return binary.BigEndian.Uint16(p[at:])
}

// numberOf finds of which talk a packet is, by its ports or those that it quotes.
func numberOf(p memory.Packet) uint16 {
	src, dst, protocol, ok := p.Parse()
	if !ok {
		return 0
	}
	if protocol == unknown {
		at := 20
		if src.Addr().Is6() {
			at = 40
		}
		return max(binary.BigEndian.Uint16(p[at:]), binary.BigEndian.Uint16(p[at+2:]))
	}
	if inner, is := p.Quoted(); is {
		return numberOf(inner)
	}
	return max(src.Port(), dst.Port())
}

// abroad tells what a host of the internet sees of a packet: whose it is where translation leaves
// that, but not by which port, which is the translator's to choose.
func (s *stage) abroad(a arrival) string {
	src, dst, protocol, _ := a.Parse()
	from := "its address"
	if s.within(src.Addr()) {
		from = src.Addr().String()
	}
	text := fmt.Sprintf("internet by %s: protocol %d, %s to %v, ttl %d", a.by, protocol, from, dst.Addr(), a.TTL())
	if inner, is := a.Quoted(); is {
		_, to, of, _ := inner.Parse()
		return fmt.Sprintf("%s, about protocol %d to %s", text, of, map[bool]string{true: to.String(), false: "its address"}[s.within(to.Addr())])
	}
	if protocol == memory.ProtoTCP || protocol == memory.ProtoUDP {
		text += fmt.Sprintf(" port %d", dst.Port())
	}
	return fmt.Sprintf("%s, %d bytes", text, len(a.Packet))
}

// words tell what of a packet is a gateway's to decide. Which of its addresses it makes an error
// from is not: where tunnels share a load it depends on the flow.
func (s *stage) words(site string, p memory.Packet) string {
	src, dst, protocol, ok := p.Parse()
	if !ok {
		return fmt.Sprintf("%s: %x", site, []byte(p))
	}
	body := p[20:]
	if src.Addr().Is6() {
		body = p[40:]
	}
	text := fmt.Sprintf("%s: protocol %d, %v to %v", site, protocol, src, dst)
	if inner, is := p.Quoted(); is {
		from, to, of, _ := inner.Parse()
		owner := s.owners[src.Addr()]
		if at := slices.Index(s.keys, site); s.own[at][src.Addr()] {
			owner = site // it has the same as others
		}
		if owner != "" {
			text = fmt.Sprintf("%s: protocol %d, the gateway of %s to %v", site, protocol, owner, dst)
		}
		return fmt.Sprintf("%s, type %d, code %d, %x, about protocol %d, %v to %v", text, body[0], body[1], body[4:8], of, from, to)
	}
	text += fmt.Sprintf(", ttl %d, %d bytes", p.TTL(), len(p))
	switch protocol {
	case memory.ProtoTCP:
		text += fmt.Sprintf(", flags %x, options %x", body[13], body[20:max(20, min(len(body), int(body[12]>>4)*4))])
	case memory.ProtoICMP, memory.ProtoICMPv6:
		text += fmt.Sprintf(", type %d", body[0])
	}
	return text
}

// A stage is a plane on which talks go on.
type stage struct {
	plane
	keys   []string
	owners map[netip.Addr]string // of gateways' own addresses, and of routers beside them
	own    []map[netip.Addr]bool // those, by site
	lans   []netip.Prefix        // of all sites, as they are and as others know them
	beside map[string]bool       // links by a LAN's router
	mu     sync.Mutex
	talks  map[uint16]*talk
}

func (s *stage) arrives(a arrival) {
	s.mu.Lock()
	defer s.mu.Unlock()
	site, p := a.site, a.Packet
	inner, is := p.Quoted()
	if _, _, protocol, _ := p.Parse(); is && protocol == memory.ProtoICMP && p[20] == redirect {
		return // a router tells its host of a shorter way
	}
	if site == len(s.keys) {
		s.arrivesAbroad(a, is)
		return
	}
	if src, _, _, ok := p.Parse(); is && ok && s.owners[src.Addr()] == "" && s.talks[numberOf(inner)] != nil && !s.within(src.Addr()) {
		return // of a router of the internet
	}
	if t := s.talks[numberOf(p)]; t != nil {
		t.arrived = append(t.arrived, s.words(s.keys[site], p))
		if !is {
			t.heard[site] = p
		}
	}
}

// redirect is the type of such messages (RFC 792).
const redirect = 5

// arrivesAbroad notes what hosts of the internet hear, but not what gateways have nothing to do with.
func (s *stage) arrivesAbroad(a arrival, quotes bool) {
	src, dst, _, ok := a.Parse()
	if !ok || !slices.Contains(internet, dst.Addr()) || a.by == "" || s.beside[a.by] && s.within(src.Addr()) {
		return // a LAN's router sends what it has no route for its own way
	}
	t := s.talks[tagOf(a.Packet)]
	if t == nil && !quotes {
		t = s.talks[dst.Port()] // its answer to who began
	}
	if t == nil {
		return
	}
	t.arrived = append(t.arrived, s.abroad(a))
	if !quotes {
		t.heard[a.site] = a.Packet
	}
}

// within reports whether an address is of a site's host.
func (s *stage) within(a netip.Addr) bool {
	return slices.ContainsFunc(s.lans, func(p netip.Prefix) bool { return p.Contains(a) })
}

// aloud waits until what was said is where it goes.
const aloud = 300 * time.Millisecond

// play lets some talks go on, a line of each at a time, and returns what arrived of each line.
func (s *stage) play(talks []talk) ([][][]string, error) {
	out := make([][][]string, len(talks))
	s.mu.Lock()
	s.talks = map[uint16]*talk{}
	for i := range talks {
		talks[i].heard, talks[i].arrived = map[int]memory.Packet{}, nil
		s.talks[talks[i].number] = &talks[i]
	}
	s.mu.Unlock()
	for n := 0; ; n++ {
		said := 0
		for i := range talks {
			t := &talks[i]
			if n >= len(t.lines) {
				continue
			}
			s.mu.Lock()
			p := t.speak(n)
			s.mu.Unlock()
			site := t.from
			if t.lines[n].back {
				site = t.to
			}
			if p != nil {
				if err := s.say(site, p); err != nil {
					return nil, err
				}
			}
			said++
		}
		if said == 0 {
			return out, nil
		}
		time.Sleep(aloud)
		s.mu.Lock()
		for i := range talks {
			if n < len(talks[i].lines) {
				slices.Sort(talks[i].arrived)
				out[i] = append(out[i], talks[i].arrived)
				talks[i].arrived = nil
			}
		}
		s.mu.Unlock()
	}
}
