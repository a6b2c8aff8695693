package memory

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/agent"
	"wideknot/internal/gateway/stamp"
)

// probePort is that of STAMP (RFC 8762).
const probePort = 862

// socketKey is what a socket of probes listens on.
type socketKey struct {
	four bool
	port uint16
}

// A socket is one for probes; see stamp.Conn.
type socket struct {
	m      *Machine
	key    socketKey
	queue  chan heard
	ended  chan struct{}
	once   sync.Once
	mu     sync.Mutex
	waited *heard
}

type heard struct {
	text []byte
	meta stamp.Meta
}

// Listen opens a socket for probes.
func (m *Machine) Listen(_ context.Context, four bool, port, _ int) (stamp.Conn, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if port == 0 {
		for m.ports++; m.sockets[socketKey{four, m.ports}] != nil || m.ports < 1024; m.ports++ {
		}
		port = int(m.ports)
	}
	key := socketKey{four, uint16(port)}
	if m.sockets[key] != nil {
		return nil, errors.New("the port is taken")
	}
	s := &socket{m: m, key: key, queue: make(chan heard, queued), ended: make(chan struct{})}
	m.sockets[key] = s
	return s, nil
}

// Close ends the socket.
func (s *socket) Close() error {
	s.once.Do(func() {
		close(s.ended)
		s.m.mu.Lock()
		defer s.m.mu.Unlock()
		if s.m.sockets[s.key] == s {
			delete(s.m.sockets, s.key)
		}
	})
	return nil
}

// Wait returns when there is something to read.
func (s *socket) Wait() error {
	s.mu.Lock()
	have := s.waited != nil
	s.mu.Unlock()
	if have {
		return nil
	}
	select {
	case h := <-s.queue:
		s.mu.Lock()
		s.waited = &h
		s.mu.Unlock()
		return nil
	case <-s.ended:
		return net.ErrClosed
	}
}

// Read takes a packet that is there.
func (s *socket) Read(b []byte) (int, stamp.Meta, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if h := s.waited; h != nil {
		s.waited = nil
		return copy(b, h.text), h.meta, true
	}
	select {
	case h := <-s.queue:
		return copy(b, h.text), h.meta, true
	default:
		return 0, stamp.Meta{}, false
	}
}

// Write sends a packet by the tunnel that it is for.
func (s *socket) Write(b []byte, to stamp.Meta) error {
	s.m.mu.Lock()
	device := ""
	for name, t := range s.m.tunnels {
		if t.index == to.Interface {
			device = name
			break
		}
	}
	near := to.Near
	if !near.IsValid() {
		near = s.m.addressOn(device, to.Far.Addr())
	}
	p := UDP(netip.AddrPortFrom(near, s.key.port), to.Far, stamp.MaxTTL, b)
	var do action
	if device != "" && len(p) <= s.m.mtuOf(device) {
		do = s.m.out(device, p, probeClass)
	}
	s.m.mu.Unlock()
	do.run()
	if do == nil {
		return errors.New("it cannot be sent")
	}
	return nil
}

// toSocket gives a datagram to who listens. It reports whether somebody does.
func (m *Machine) toSocket(device string, p Packet, in *info) (action, bool) {
	s := m.sockets[socketKey{in.dst.Is4(), in.dport}]
	if s == nil {
		return nil, false
	}
	index := 0
	if t := m.tunnels[device]; t != nil {
		index = t.index
	}
	h := heard{append([]byte(nil), p.Payload()...), stamp.Meta{Far: netip.AddrPortFrom(in.src, in.sport), Near: in.dst, Interface: index, TTL: int(in.ttl), At: time.Now()}}
	select {
	case s.queue <- h:
	default:
	}
	return nil, true
}

// link finds by which device a WAN link of the configuration leaves, and whence.
func (m *Machine) link(key string, to netip.Addr) (nic string, from netip.Addr) {
	if m.config != nil {
		if l := m.config.Link(key); l != nil && l.Device != "" {
			return l.Device, m.addressOfNic(l.Device, to.Is4())
		}
	}
	if w := m.tables[gateway.DefaultTable].lookup(to, 0); w != nil && m.nics[w.device] != nil {
		return w.device, m.addressOfNic(w.device, to.Is4())
	}
	return "", netip.Addr{}
}

func (m *Machine) addressOfNic(nic string, four bool) netip.Addr {
	if n := m.nics[nic]; n != nil {
		for _, a := range n.Addresses {
			if a.Addr().Is4() == four {
				return a.Addr()
			}
		}
	}
	return netip.Addr{}
}

// outward sends a datagram by a WAN link, from a port of the machine.
func (m *Machine) outward(link string, from, to netip.AddrPort, text []byte) action {
	nic, own := m.link(link, to.Addr())
	if nic == "" || !own.IsValid() {
		return nil
	}
	p := UDP(netip.AddrPortFrom(own, from.Port()), to, 64, text)
	n := m.nics[nic]
	if n == nil || n.Down {
		return nil
	}
	return action{func() { m.Send(nic, p) }}
}

// outer takes what comes from outside for the machine itself: datagrams of tunnels, from
// whom they are open to, answers to its own questions, and questions for echoes.
func (m *Machine) outer(p Packet, in *info) (action, bool) {
	if in.protocol == ProtoUDP {
		if t := m.byPort[in.dport]; t != nil {
			if m.config != nil && slices.ContainsFunc(m.config.Filter.Arrivals, func(a gateway.Arrival) bool { return a.Port == int(in.dport) && a.From != in.src }) {
				return nil, true
			}
			d := datagram{netip.AddrPortFrom(in.src, in.sport), append([]byte(nil), p.Payload()...)}
			select {
			case t.in <- d:
			default:
			}
			return nil, true
		}
		if c := m.conns[in.dport]; c != nil {
			c.hear(p.Payload(), netip.AddrPortFrom(in.src, in.sport))
			return nil, true
		}
		return nil, false
	}
	if _, answers := p.Echo(); answers {
		if e := m.echoes[in.dport]; e != nil {
			e.tell(agent.Heard{By: in.src, Reply: true})
			return nil, true
		}
	}
	return nil, false
}

// A dialled is UDP to one far end beyond a WAN link.
type dialled struct {
	m     *Machine
	link  gateway.Link
	port  uint16
	to    netip.AddrPort
	queue chan []byte
	ended chan struct{}
	once  sync.Once
	mu    sync.Mutex
	until time.Time
}

// Dial sends UDP to an address beyond a WAN link.
func (m *Machine) Dial(_ context.Context, l *gateway.Link, to netip.AddrPort) (net.Conn, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if n := m.nics[l.Device]; n == nil || n.Down {
		return nil, errors.New("the link's device is missing or down")
	}
	for m.ports++; m.conns[m.ports] != nil || m.ports < 20000; m.ports++ {
	}
	c := &dialled{m: m, link: *l, port: m.ports, to: to, queue: make(chan []byte, 8), ended: make(chan struct{})}
	m.conns[c.port] = c
	return c, nil
}

func (c *dialled) hear(text []byte, from netip.AddrPort) {
	if from != c.to {
		return
	}
	select {
	case c.queue <- append([]byte(nil), text...):
	default:
	}
}

// Read waits for an answer.
func (c *dialled) Read(b []byte) (int, error) {
	c.mu.Lock()
	until := c.until
	c.mu.Unlock()
	var late <-chan time.Time
	if !until.IsZero() {
		timer := time.NewTimer(time.Until(until))
		defer timer.Stop()
		late = timer.C
	}
	select {
	case text := <-c.queue:
		return copy(b, text), nil
	case <-c.ended:
		return 0, net.ErrClosed
	case <-late:
		return 0, errLate
	}
}

var errLate = errors.New("no answer in time")

// Write sends.
func (c *dialled) Write(b []byte) (int, error) {
	c.m.mu.Lock()
	own := c.m.addressOfNic(c.link.Device, c.to.Addr().Is4())
	var do action
	if n := c.m.nics[c.link.Device]; own.IsValid() && n != nil && !n.Down {
		p := UDP(netip.AddrPortFrom(own, c.port), c.to, 64, b)
		do = action{func() { c.m.Send(c.link.Device, p) }}
	}
	c.m.mu.Unlock()
	do.run()
	return len(b), nil
}

// Close ends the connection.
func (c *dialled) Close() error {
	c.once.Do(func() {
		close(c.ended)
		c.m.mu.Lock()
		defer c.m.mu.Unlock()
		delete(c.m.conns, c.port)
	})
	return nil
}

// LocalAddr, RemoteAddr and the deadlines are those of net.Conn.
func (c *dialled) LocalAddr() net.Addr                { return &net.UDPAddr{Port: int(c.port)} }
func (c *dialled) RemoteAddr() net.Addr               { return net.UDPAddrFromAddrPort(c.to) }
func (c *dialled) SetReadDeadline(at time.Time) error { return c.SetDeadline(at) }
func (c *dialled) SetWriteDeadline(time.Time) error   { return nil }

// SetDeadline says until when answers are waited for.
func (c *dialled) SetDeadline(at time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.until = at
	return nil
}

// Ping asks an address beyond a WAN link for an echo.
func (m *Machine) Ping(ctx context.Context, l *gateway.Link, to netip.Addr, size int) error {
	m.mu.Lock()
	n := m.nics[l.Device]
	own := m.addressOfNic(l.Device, to.Is4())
	if n == nil || n.Down || !own.IsValid() {
		m.mu.Unlock()
		return errors.New("the link's device is missing or down")
	}
	if slices.Contains(n.NextHops, to) || slices.Contains(l.NextHops, to) {
		m.mu.Unlock()
		if m.Reach(l.Device, to) {
			return nil
		}
		return errLate
	}
	if size > n.MTU && n.MTU > 0 {
		m.mu.Unlock()
		return errors.New("it does not fit the device")
	}
	id, came := m.awaits()
	m.mu.Unlock()
	defer m.forget(id)
	m.Send(l.Device, EchoRequest(own, to, 64, id, 1, size))
	select {
	case <-came:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(time.Second):
		return errLate
	}
}
