package agent

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"maps"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/stamp"
)

// A tray is a plane that keeps in mind what it was told.
type tray struct {
	mu       sync.Mutex
	net      *testNet
	applied  *gateway.Config
	uses     map[int][]gateway.Member
	steers   map[Place]int
	called   map[string]netip.AddrPort
	fails    func(c *gateway.Config) error
	refuses  error
	down     map[string]bool
	gone     map[string]bool
	changes  chan struct{}
	removed  bool
	carrying map[netip.Addr]bool
	applying int
	number   byte         // in its net
	takes    int          // bytes of a packet that a WAN link lets through
	names    bool         // a name service answers
	asked    atomic.Int64 // echoes
	knocked  []string     // by which tunnels far ends were called
	came     time.Time    // when far ends shook hands
}

func newTray(n *testNet) *tray {
	n.trays++
	return &tray{net: n, number: n.trays, takes: 1500, names: true, uses: map[int][]gateway.Member{}, steers: map[Place]int{}, called: map[string]netip.AddrPort{}, down: map[string]bool{}, gone: map[string]bool{}, changes: make(chan struct{}, 1)}
}

func (p *tray) Check(*gateway.Config) error { return p.refuses }

func (p *tray) Apply(_, is *gateway.Config, _ Secrets, choice *Choice) ([]string, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.applying++
	if p.fails != nil {
		if err := p.fails(is); err != nil {
			return nil, err
		}
	}
	p.applied, p.removed, p.gone = is, false, map[string]bool{}
	p.use(choice.Uses)
	p.steers = maps.Clone(choice.Steers)
	return nil, nil
}

func (p *tray) use(uses []Use) {
	for _, u := range uses {
		p.uses[u.Way] = u.Members
	}
}

func (p *tray) Use(_ *gateway.Config, uses []Use, steers map[Place]int) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.use(uses)
	maps.Copy(p.steers, steers)
	return nil
}

func (p *tray) Mend(_ *gateway.Config, choice *Choice) ([]string, error) {
	return nil, p.Use(nil, choice.Uses, choice.Steers)
}

func (p *tray) Guard(*gateway.Config) error { return nil }

func (p *tray) Remove() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.applied, p.removed = nil, true
	return nil
}

func (p *tray) Read(c *gateway.Config) (Reading, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := Reading{Tunnels: map[string]Device{}}
	for i := range c.Tunnels {
		name := c.Tunnels[i].Interface
		out.Tunnels[name] = Device{Present: !p.gone[name], Up: !p.down[name], In: 7, Handshake: p.came, Endpoint: netip.MustParseAddrPort("192.0.2.7:51820")}
	}
	return out, nil
}

func (p *tray) Knock(t *gateway.Tunnel) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.knocked = append(p.knocked, t.Interface)
	return nil
}

func (p *tray) Flows() ([]Flow, error)      { return nil, nil }
func (p *tray) Forget([]Flow) (int, error)  { return 0, nil }
func (p *tray) Rekey(*gateway.Tunnel) error { return nil }

// Inspect tells of a device whose peer may not send from its first prefix.
func (p *tray) Inspect(t *gateway.Tunnel) (Inside, error) {
	w := t.WireGuard
	out := Inside{Present: true, Port: w.Port, Private: [32]byte{1}, Peers: []Peer{{Key: w.PublicKey, Shared: [32]byte{9}, Endpoint: netip.MustParseAddrPort("203.0.113.9:51820"), In: 10}}}
	if len(w.Allowed) > 0 {
		out.Peers[0].Allowed = w.Allowed[1:]
	}
	return out, nil
}

func (p *tray) Overhear(ctx context.Context, _ []gateway.Link) ([]gateway.Arrived, error) {
	<-ctx.Done()
	return []gateway.Arrived{{Port: 51820, From: netip.MustParseAddrPort("203.0.113.9:51820"), Message: gateway.Initiation, Count: 2}}, nil
}

func (p *tray) Lead(*gateway.Config, *gateway.Tunnel) (bool, error) { return false, nil }

func (p *tray) Call(t *gateway.Tunnel, to netip.AddrPort) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.called[t.Interface] = to
	return nil
}

func (p *tray) Changes(context.Context) (<-chan struct{}, error) { return p.changes, nil }

func (p *tray) Interfaces() (map[string]int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := map[string]int{}
	if p.applied != nil {
		for i := range p.applied.Tunnels {
			if name := p.applied.Tunnels[i].Interface; !p.down[name] {
				out[name] = i + 1
			}
		}
	}
	return out, nil
}

func (p *tray) Carrying() (map[netip.Addr]bool, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return maps.Clone(p.carrying), nil
}

func (p *tray) Listen(_ context.Context, four bool, port, _ int) (stamp.Conn, error) {
	if !four {
		return nil, errors.New("no IPv6 here")
	}
	return p.net.listen(p, port), nil
}

// Echo goes by two gateways, 10.0.0.1 and one that says nothing, to addresses that end in .9;
// others end at the first of the two. What is larger than takes is lost.
func (p *tray) Echo(ctx context.Context, _, to netip.Addr, size, hops int) (Heard, error) {
	p.asked.Add(1)
	first := netip.MustParseAddr("10.0.0.1")
	switch four := to.As4(); {
	case hops == 1:
		return Heard{By: first, Spent: true}, nil
	case four[3] != 9:
		return Heard{By: first, Words: "unreachable"}, nil
	case hops == 2 || size > p.takes:
		<-ctx.Done()
		return Heard{}, ctx.Err()
	}
	return Heard{By: to, Reply: true}, nil
}

func (p *tray) Ping(_ context.Context, _ *gateway.Link, _ netip.Addr, size int) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if size > p.takes {
		return errors.New("too large")
	}
	return nil
}

// Dial returns a connection to a name server that answers what is asked, or nothing.
func (p *tray) Surroundings() ([]gateway.Device, []gateway.Behind, error) {
	return []gateway.Device{
		{Name: "wan0", MTU: 1500, Addresses: []netip.Prefix{netip.MustParsePrefix("192.0.2.7/24")}, NextHops: []netip.Addr{netip.MustParseAddr("192.0.2.1")}},
		{Name: "lan0", MTU: 1500, Addresses: []netip.Prefix{netip.MustParsePrefix("10.1.0.1/24")}},
	}, []gateway.Behind{{Prefix: netip.MustParsePrefix("10.1.8.0/24"), Via: netip.MustParseAddr("10.1.0.9"), Device: "lan0"}}, nil
}

func (p *tray) Dial(context.Context, *gateway.Link, netip.AddrPort) (net.Conn, error) {
	here, there := net.Pipe()
	go func() {
		room := make([]byte, 512)
		n, err := there.Read(room)
		p.mu.Lock()
		answers := p.names
		p.mu.Unlock()
		if err == nil && answers && n > 3 {
			_, _ = there.Write([]byte("what nobody asked for"))
			room[2] |= 0x80 // a response
			_, _ = there.Write(room[:n])
		}
	}()
	return here, nil
}

// by says which members a way goes by.
func (p *tray) by(way int) (out string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, m := range p.uses[way] {
		out += m.Interface
	}
	return out
}

// A testNet carries probes between trays: each tunnel has one address at either end.
type testNet struct {
	mu    sync.Mutex
	socks map[netip.AddrPort]*testSock // by where it listens
	owner map[netip.Addr]end           // of an address
	loses func(from, to netip.Addr) bool
	slow  func(from netip.Addr) time.Duration // by which what it sends is late; nil for none
	trays byte
	ttl   int // of what is sent from now on; 0 for what gateways send
	most  int // bytes of a packet that gets through; 0 for any
}

type end struct {
	at    *tray
	index int
}

type testSock struct {
	net    *testNet
	at     *tray
	port   uint16
	packet chan testPacket
	closed chan struct{}
	once   sync.Once
	kept   *testPacket
	mu     sync.Mutex
}

type testPacket struct {
	text []byte
	meta stamp.Meta
}

func newTestNet() *testNet {
	return &testNet{socks: map[netip.AddrPort]*testSock{}, owner: map[netip.Addr]end{}}
}

func (n *testNet) listen(at *tray, port int) *testSock {
	n.mu.Lock()
	defer n.mu.Unlock()
	if port == 0 {
		port = 40000
	}
	s := &testSock{net: n, at: at, port: uint16(port), packet: make(chan testPacket, 1000), closed: make(chan struct{})}
	n.socks[netip.AddrPortFrom(at.address(), s.port)] = s
	return s
}

// address names a tray; its sockets are found by it.
func (p *tray) address() netip.Addr { return netip.AddrFrom4([4]byte{127, 0, 0, p.number}) }

func (s *testSock) Close() error {
	s.once.Do(func() { close(s.closed) })
	return nil
}

func (s *testSock) Wait() error {
	s.mu.Lock()
	have := s.kept != nil
	s.mu.Unlock()
	if have {
		return nil
	}
	select {
	case p := <-s.packet:
		s.mu.Lock()
		s.kept = &p
		s.mu.Unlock()
		return nil
	case <-s.closed:
		return errors.New("closed")
	}
}

func (s *testSock) Read(b []byte) (int, stamp.Meta, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if p := s.kept; p != nil {
		s.kept = nil
		return copy(b, p.text), p.meta, true
	}
	select {
	case p := <-s.packet:
		return copy(b, p.text), p.meta, true
	default:
		return 0, stamp.Meta{}, false
	}
}

func (s *testSock) Write(b []byte, m stamp.Meta) error {
	s.net.mu.Lock()
	defer s.net.mu.Unlock()
	to, known := s.net.owner[m.Far.Addr()]
	if s.net.most > 0 && len(b)+28 > s.net.most {
		return nil
	}
	if !known || s.net.loses != nil && s.net.loses(m.Near, m.Far.Addr()) {
		return nil
	}
	sock := s.net.socks[netip.AddrPortFrom(to.at.address(), m.Far.Port())]
	if sock == nil {
		return nil
	}
	p := testPacket{bytes.Clone(b), stamp.Meta{Far: netip.AddrPortFrom(m.Near, s.port), Near: m.Far.Addr(), Interface: to.index, TTL: cmp.Or(s.net.ttl, stamp.MaxTTL)}}
	deliver := func() {
		p.meta.At = time.Now()
		select {
		case <-sock.closed:
		case sock.packet <- p:
		default:
		}
	}
	if s.net.slow != nil {
		time.AfterFunc(s.net.slow(m.Near), deliver)
	} else {
		deliver()
	}
	return nil
}

// two ends of two tunnels, probed quickly: a and b prefer x to y.
func twoEnds(interval int) (a, b *gateway.Config) {
	probe := func(far string) *gateway.Probe {
		return &gateway.Probe{Target: "far-end", Address: netip.MustParseAddr(far), Interval: interval, Timeout: interval, Misses: 3, Successes: 2}
	}
	const key = "UmuYayR/1bWbMQ8cEcNPGUxAsYou8qTPIOx9WTBAASo="
	tunnel := func(peer, name, near, far string, slot int) gateway.Tunnel {
		return gateway.Tunnel{
			Interface: name, Overlay: "ops", Rank: slot, Link: "w" + name, Peer: peer, PeerLink: "w", NextHop: gateway.Blackhole + slot, MTU: 1400,
			Addresses: []netip.Prefix{netip.MustParsePrefix(near + "/31")}, Probe: probe(far), WireGuard: &gateway.WireGuard{Port: 50000 + slot, PublicKey: key},
		}
	}
	way := []gateway.Way{{ID: gateway.FirstWay, Groups: []gateway.Group{
		{Place: 1, Members: []gateway.Member{{Interface: "x", Weight: 1}}}, {Place: 2, Members: []gateway.Member{{Interface: "y", Weight: 1}}},
	}}}
	a = &gateway.Config{Site: "a", Tunnels: []gateway.Tunnel{tunnel("b", "x", "10.0.0.0", "10.0.0.1", 1), tunnel("b", "y", "10.0.0.2", "10.0.0.3", 2)}, Ways: way}
	b = &gateway.Config{Site: "b", Tunnels: []gateway.Tunnel{tunnel("a", "x", "10.0.0.1", "10.0.0.0", 1), tunnel("a", "y", "10.0.0.3", "10.0.0.2", 2)}, Ways: way}
	a.Links = []gateway.Link{{Key: "wx"}, {Key: "wy"}}
	b.Links = a.Links
	a.Routes = []gateway.Route{{Prefix: netip.MustParsePrefix("10.9.0.0/24"), Way: gateway.FirstWay}}
	b.Routes = []gateway.Route{{Prefix: netip.MustParsePrefix("10.8.0.0/24"), Way: gateway.FirstWay}}
	return a, b
}

// own says whose the addresses of a configuration are.
func (n *testNet) own(p *tray, c *gateway.Config) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for i := range c.Tunnels {
		for _, a := range c.Tunnels[i].Addresses {
			n.owner[a.Addr()] = end{p, i + 1}
		}
	}
}

// lose decides which probes are lost from now on.
func (n *testNet) lose(f func(from, to netip.Addr) bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.loses = f
}

// eventually waits for something that is to happen soon.
func eventually(t *testing.T, what string, f func() bool) {
	t.Helper()
	for range 10_000 {
		if f() {
			return
		}
		time.Sleep(5 * time.Millisecond)
	}
	t.Fatalf("it does not happen: %s", what)
}
