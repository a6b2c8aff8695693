package fleet

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"time"

	"github.com/pion/stun/v3"
	"golang.org/x/net/dns/dnsmessage"

	"wideknot/core/estate"
	"wideknot/internal/gateway/memory"
)

// onLANAfter is how long a packet takes on a LAN.
const onLANAfter = 200 * time.Microsecond

// A question is an echo, a datagram or a session that a host of ours waits for.
type question struct {
	host     netip.Addr
	protocol byte
	id       uint16
}

// An answer is what came of a question.
type answer struct {
	from     netip.Addr
	kind     string
	mtu, ttl int
}

// Outcomes of a question.
const (
	Answered    = "answered"
	TooBig      = "too-big"
	Exceeded    = "out-of-hops"
	Unreachable = "unreachable"
	Lost        = "lost"
)

// A Result is what a host saw.
type Result struct {
	Outcome string        `json:"outcome"`
	From    netip.Addr    `json:"from,omitzero"`
	MTU     int           `json:"mtu,omitempty"`
	Took    time.Duration `json:"took"`
	Hops    int           `json:"hops,omitempty"` // that its answer took, by its TTL
}

// Ask lets a host of a site ask another address: by ICMP, UDP or TCP (a port for those), with
// a packet of a size and some hops.
func (w *World) Ask(ctx context.Context, site string, from, to netip.Addr, protocol byte, port uint16, size, ttl int) (Result, error) {
	s := w.Site(site)
	if s == nil {
		return Result{}, errors.New("there is no site " + site)
	}
	if !s.has(from) {
		return Result{}, errors.New("no host of " + site + " has " + from.String())
	}
	if protocol == memory.ProtoICMP && from.Is6() {
		protocol = memory.ProtoICMPv6
	}
	w.mu.Lock()
	if w.serial++; w.serial < 1024 {
		w.serial = 1024
	}
	q := question{from, protocol, w.serial}
	came := make(chan answer, 4)
	w.asked[q] = came
	w.mu.Unlock()
	defer func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		delete(w.asked, q)
	}()
	if ttl <= 0 {
		ttl = 64
	}
	var p memory.Packet
	switch protocol {
	case memory.ProtoUDP:
		p = memory.UDP(netip.AddrPortFrom(from, q.id), netip.AddrPortFrom(to, port), byte(ttl), make([]byte, max(0, size-48)))
	case memory.ProtoTCP:
		p = memory.TCP(netip.AddrPortFrom(from, q.id), netip.AddrPortFrom(to, port), byte(ttl), memory.SYN)
	default:
		p = memory.EchoRequest(from, to, byte(ttl), q.id, 1, size)
	}
	began := time.Now()
	if s.has(to) {
		return Result{Outcome: Answered, From: to, Took: onLANAfter, Hops: 1}, nil // it never leaves the LAN
	}
	w.fromHost(s, p)
	select {
	case a := <-came:
		return Result{Outcome: a.kind, From: a.from, MTU: a.mtu, Took: time.Since(began), Hops: 64 - a.ttl + 1}, nil
	case <-ctx.Done():
		return Result{Outcome: Lost, Took: time.Since(began)}, nil
	}
}

// has reports whether an address is of one of the site's subnets.
func (s *Site) has(a netip.Addr) bool {
	return slices.ContainsFunc(s.subnets, func(n netip.Prefix) bool { return n.Contains(a) })
}

// fromHost sends a host's packet to its gateway, or to the router that the gateway stands beside.
func (w *World) fromHost(s *Site, p memory.Packet) {
	src, dst, _, ok := p.Parse()
	if !ok {
		return
	}
	w.mu.Lock()
	here := s.has(dst.Addr())
	is := s.hosts[src.Addr()]
	w.mu.Unlock()
	switch {
	case is.off || is.astray && !here:
		return
	case s.router != nil && !slices.Contains(s.beside, dst.Addr()):
		w.fromRouter(s, p)
		return
	}
	w.wire.carry(time.Now().Add(onLANAfter), len(p), func() { s.Machine.Inject(s.lan, p) })
}

// Tap lets somebody take what reaches the LANs of sites, in the place of their hosts.
func (w *World) Tap(take func(site string, p memory.Packet)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.tap = take
}

// FromHost sends a packet as a host of a site does, whatever it is.
func (w *World) FromHost(site string, p memory.Packet) {
	if s := w.Site(site); s != nil {
		w.fromHost(s, p)
	}
}

// discardPort is that of a service that answers nothing (RFC 863).
const discardPort = 9

// onLAN takes what a gateway sends to its LAN: for a host there, or one behind the LAN's router.
func (w *World) onLAN(s *Site, p memory.Packet) {
	if _, dst, _, _ := p.Parse(); s.behindRouter(dst.Addr()) {
		w.toRouter(s, p)
		return
	}
	w.onHosts(s, p)
}

// onHosts gives a packet to the host that has its address: one that waits, or one that answers.
func (w *World) onHosts(s *Site, p memory.Packet) {
	w.mu.Lock()
	tap := w.tap
	w.mu.Unlock()
	if tap != nil {
		tap(s.Key, p)
		return
	}
	src, dst, protocol, ok := p.Parse()
	if !ok || !s.has(dst.Addr()) {
		return
	}
	if w.hear(dst, src, protocol, p) || protocol == memory.ProtoUDP && dst.Port() == discardPort {
		return
	}
	if out, ok := p.Answer(); ok {
		w.wire.carry(time.Now().Add(onLANAfter), len(p), func() { w.fromHost(s, out) })
	}
}

// hear tells who waits for an answer.
func (w *World) hear(host, from netip.AddrPort, protocol byte, p memory.Packet) bool {
	a := answer{from: from.Addr(), kind: Answered, ttl: p.TTL()}
	id := host.Port()
	if about, of, ok := p.About(); ok {
		if a.kind = Unreachable; p.Exceeded() {
			a.kind = Exceeded
		} else if mtu, big := p.TooBig(); big {
			a.kind, a.mtu = TooBig, mtu
		}
		id, protocol = about, of
	} else if asks, _ := p.Echo(); asks {
		return false
	}
	w.mu.Lock()
	came := w.asked[question{host.Addr(), protocol, id}]
	w.mu.Unlock()
	if came == nil {
		return false
	}
	select {
	case came <- a:
	default:
	}
	return true
}

// service answers what is asked of the world's own addresses on the internet, or gives it to who
// takes what reaches its hosts; it is false for what goes elsewhere. Under the lock.
func (w *World) service(l *Link, p memory.Packet, at time.Time) bool {
	src, dst, protocol, _ := p.Parse()
	var reply memory.Packet
	switch place := (place{estate.Internet, dst.Addr()}); {
	case dst.Addr() == nameServer && dst.Port() == 53 && protocol == memory.ProtoUDP:
		if text, ok := w.lookUp(p.Payload()); ok {
			reply = memory.UDP(dst, src, 64, text)
		}
	case dst == stunServer && protocol == memory.ProtoUDP:
		question := &stun.Message{Raw: append([]byte(nil), p.Payload()...)}
		if question.Decode() != nil || question.Type != stun.BindingRequest {
			return true
		}
		answer, err := stun.Build(stun.NewTransactionIDSetter(question.TransactionID), stun.BindingSuccess, &stun.XORMappedAddress{IP: src.Addr().AsSlice(), Port: int(src.Port())})
		if err != nil {
			return true
		}
		reply = memory.UDP(dst, src, 64, answer.Raw)
	case dst.Addr() == InternetHost:
		reply, _ = p.Answer()
	case w.abroad != nil && w.outside[place] == nil && w.nats[place] == nil:
		take := w.abroad
		w.wire.carry(at, len(p), func() { take(l, p) })
	default:
		return false
	}
	if reply != nil {
		w.wire.carry(at, len(reply), func() { w.FromInternet(reply) })
	}
	return true
}

// TapInternet lets somebody take what leaves by links of the internet for hosts that are not of
// this world.
func (w *World) TapInternet(take func(by *Link, p memory.Packet)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.abroad = take
}

// FromInternet sends a packet as a host of the internet does, whatever it is.
func (w *World) FromInternet(p memory.Packet) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.inward(estate.Internet, p, time.Now())
}

// lookUp answers a question of names.
func (w *World) lookUp(text []byte) ([]byte, bool) {
	var parser dnsmessage.Parser
	head, err := parser.Start(text)
	if err != nil || head.Response {
		return nil, false
	}
	q, err := parser.Question()
	if err != nil {
		return nil, false
	}
	out := dnsmessage.Message{Header: dnsmessage.Header{ID: head.ID, Response: true, RecursionAvailable: true}, Questions: []dnsmessage.Question{q}}
	if q.Type == dnsmessage.TypeNS {
		out.Answers = append(out.Answers, dnsmessage.Resource{
			Header: dnsmessage.ResourceHeader{Name: q.Name, Class: dnsmessage.ClassINET, TTL: 60}, Body: &dnsmessage.NSResource{NS: dnsmessage.MustNewName("a.ns.example.")},
		})
	}
	packed, err := out.Pack()
	return packed, err == nil
}

// Resolve finds the present address of a host name, as a site's resolver does while the site
// reaches the internet.
func (w *World) Resolve(s *Site) func(ctx context.Context, name string) ([]netip.Addr, error) {
	return func(_ context.Context, name string) ([]netip.Addr, error) {
		w.mu.Lock()
		defer w.mu.Unlock()
		if !s.online() {
			return nil, errors.New("no name service answers")
		}
		l := w.names[name]
		if l == nil {
			return nil, errors.New("there is no such name: " + name)
		}
		if told, is := w.stale[name]; is {
			return slices.Clone(told), nil
		}
		return slices.Clone(l.inside), nil
	}
}
