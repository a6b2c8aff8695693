// Package fleet plays the outside world of an estate: a stand-in for each gateway, which is
// the real agent on a network in memory, and between them an emulated WAN that is made from
// what the survey says of links.
package fleet

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"wideknot/core/estate"
	"wideknot/internal/gateway/agent"
	"wideknot/internal/gateway/join"
	"wideknot/internal/gateway/memory"
)

// A World is the stand-ins of an estate and what is between them.
type World struct {
	// Crowd says that agents begin together with tunnels to be made, see agent.Settings.
	Crowd bool

	log  *slog.Logger
	wire *wire

	mu       sync.Mutex
	random   *rand.Rand
	sites    map[string]*Site
	order    []string
	outside  map[place]*Link // by the address that the link has itself
	nats     map[place]*nat
	names    map[string]*Link        // by host name
	stale    map[string][]netip.Addr // what the name service tells of names that it does not keep up with
	dynamic  uint32                  // addresses given so far
	asked    map[question]chan answer
	tap      func(site string, p memory.Packet) // takes what reaches LANs; nil where hosts do
	abroad   func(by *Link, p memory.Packet)    // and hosts of the internet
	serial   uint16
	starting bool // not all stand-ins have begun: what they send waits
	early    []early
}

// early is a packet that waits until all stand-ins have begun.
type early struct {
	at   time.Time
	send func()
}

// mostEarly is how many packets wait until all stand-ins have begun.
const mostEarly = 10000

// place is an address in an underlay.
type place struct {
	underlay string
	at       netip.Addr
}

// A Site is one stand-in.
type Site struct {
	Key      string
	Machine  *memory.Machine
	Agent    *agent.Agent
	Links    []*Link
	subnets  []netip.Prefix
	lan      string
	router   *router      // of its LAN, where the gateway stands beside it
	beside   []netip.Addr // that the gateway was given there
	identity *join.Identity
	offset   time.Duration // of its clock
	conns    map[net.Conn]bool
	hosts    map[netip.Addr]hostState
	loaded   bool // one of its hosts sends all the time
}

// A hostState is of a host that is not as hosts are.
type hostState struct {
	off    bool
	astray bool // its own gateway is another one: it reaches its LAN alone
}

// A Link is a WAN circuit of a site, as it is at present.
type Link struct {
	Site, Key string
	spec      estate.Link
	nic       string
	inside    []netip.Addr // of the gateway's device
	behind    *nat         // nil for one with an address of its own
	before    *nat         // the site's own router, where that translates too; see Behaviour.Double
	nat       Behaviour
	unforward bool // the router before it forwards nothing, whatever was agreed
	shift     int  // or to a port so much higher

	// What it is like now; see Like.
	Like
	upFree, downFree time.Time // when the last packet that waits has left
}

// Like is what a circuit is like.
type Like struct {
	Cut       bool    `json:"cut" yaml:"cut"`
	LatencyMs float64 `json:"latency_ms" yaml:"latency_ms"` // one way, to its provider's network
	JitterMs  float64 `json:"jitter_ms" yaml:"jitter_ms"`
	LossPct   float64 `json:"loss_percent" yaml:"loss_percent"`       // each way
	LossUpPct float64 `json:"loss_up_percent" yaml:"loss_up_percent"` // besides, of what leaves
	MTU       int     `json:"mtu" yaml:"mtu"`
	UpMbps    float64 `json:"up_mbps" yaml:"up_mbps"` // 0 for no bound
	DownMbps  float64 `json:"down_mbps" yaml:"down_mbps"`
	NoUDP     bool    `json:"no_udp" yaml:"no_udp"` // the carrier lets no UDP through
}

// Addresses of the world itself: name service, STUN, and a host of the internet.
var (
	nameServer = netip.MustParseAddr("198.18.255.53")
	stunServer = netip.MustParseAddrPort("198.18.255.78:3478")
	// InternetHost answers on the internet.
	InternetHost = netip.MustParseAddr("198.18.255.80")
)

const queueFor = 200 * time.Millisecond // that a link's queue holds

// New makes the world of an estate. The same seed gives the same figures to what the survey
// says nothing of.
func New(e *estate.Estate, seed uint64, log *slog.Logger) *World {
	w := &World{
		log: log, wire: newWire(), random: rand.New(rand.NewPCG(seed, 1)), sites: map[string]*Site{}, outside: map[place]*Link{}, nats: map[place]*nat{},
		names: map[string]*Link{}, stale: map[string][]netip.Addr{}, asked: map[question]chan answer{},
	}
	carriers := map[string]*nat{}
	for i := range e.Sites {
		w.add(&e.Sites[i], carriers)
	}
	return w
}

// add makes a site's machine and circuits.
func (w *World) add(spec *estate.Site, carriers map[string]*nat) {
	lan := lanOf(spec)
	s := &Site{Key: spec.Key, lan: lan.Name, beside: spec.Gateway.LANAddresses(), conns: map[net.Conn]bool{}, hosts: map[netip.Addr]hostState{}, router: routerOf(spec)}
	for i := range spec.Subnets {
		s.subnets = append(s.subnets, spec.Subnets[i].Prefix)
	}
	nics := []memory.Nic{lan}
	for i := range spec.Links {
		l, nic := w.link(spec, i, carriers)
		s.Links = append(s.Links, l)
		if at := slices.IndexFunc(nics, func(n memory.Nic) bool { return n.Name == nic.Name }); at >= 0 { // one device leads to both
			nics[at].Addresses, nics[at].NextHops = append(nics[at].Addresses, nic.Addresses...), append(nics[at].NextHops, nic.NextHops...)
			continue
		}
		nics = append(nics, nic)
	}
	s.Machine = memory.New(nics...)
	s.Machine.Send = func(nic string, p memory.Packet) { w.leaves(s, nic, p) }
	s.Machine.Reach = func(nic string, _ netip.Addr) bool {
		w.mu.Lock()
		defer w.mu.Unlock()
		for _, l := range s.Links {
			if l.nic == nic {
				return !l.Cut
			}
		}
		return true
	}
	w.sites[s.Key] = s
	w.order = append(w.order, s.Key)
}

// link makes one circuit and the device that leads to it.
func (w *World) link(spec *estate.Site, i int, carriers map[string]*nat) (*Link, memory.Nic) {
	is := spec.Links[i]
	l := &Link{Site: spec.Key, Key: is.Key, spec: is, nic: is.Device}
	if l.nic == "" {
		l.nic = "wan" + fmt.Sprint(i)
	}
	l.Like = Like{LatencyMs: is.LatencyMs / 2, JitterMs: is.JitterMs / 2, LossPct: is.LossPercent, MTU: is.MTUOf(), UpMbps: is.UpMbps, DownMbps: is.DownMbps}
	if is.LatencyMs == 0 {
		l.LatencyMs = 1 + 4*w.random.Float64()
	}
	underlay := is.UnderlayOf()
	nic := memory.Nic{Name: l.nic, MTU: is.MTUOf(), NextHops: is.NextHop, Metric: is.RankOf()}
	if underlay != estate.Internet {
		nic.Metric += 1000 // only where nothing leads to the internet
	}
	switch is.Reach {
	case estate.Static:
		l.inside = is.Addresses
	case estate.Dynamic:
		l.inside = []netip.Addr{w.give()}
		if is.Hostname != "" {
			w.names[strings.ToLower(is.Hostname)] = l
		}
	default:
		l.inside = is.Addresses
		if l.nic == spec.Gateway.LANDevice { // by the LAN's router, from the address there
			l.inside = []netip.Addr{spec.Gateway.LANAddress}
		} else if len(l.inside) == 0 {
			l.inside = []netip.Addr{insideOf(is.NextHop, i)}
		}
		l.nat = Behaviour{Dependent: is.Reach == estate.NAT, Expires: 60}
		l.behind = w.router(&is, carriers)
	}
	for _, a := range l.inside {
		bits := 24
		if a.Is6() {
			bits = 64
		}
		if l.nic != spec.Gateway.LANDevice {
			nic.Addresses = append(nic.Addresses, netip.PrefixFrom(a, bits))
		}
		if l.behind == nil {
			w.outside[place{underlay, a}] = l
		}
	}
	if len(nic.NextHops) == 0 {
		for _, a := range nic.Addresses {
			if hop := a.Masked().Addr().Next(); hop != a.Addr() {
				nic.NextHops = append(nic.NextHops, hop)
			}
		}
	}
	return l, nic
}

// give hands out an address of the range for tests of networks (RFC 2544).
func (w *World) give() netip.Addr {
	w.dynamic++
	return netip.AddrFrom4([4]byte{198, 18, byte(w.dynamic >> 8), byte(w.dynamic)})
}

// insideOf is the address of a gateway behind a router.
func insideOf(hops []netip.Addr, i int) netip.Addr {
	for _, h := range hops {
		if h.Is4() {
			four := h.As4()
			four[3] = 20
			if h.As4()[3] == 20 {
				four[3] = 21
			}
			return netip.AddrFrom4(four)
		}
	}
	return netip.AddrFrom4([4]byte{192, 168, byte(100 + i), 20})
}

// leaves takes what a machine sends by one of its devices.
func (w *World) leaves(s *Site, nic string, p memory.Packet) {
	src, dst, _, ok := p.Parse()
	if !ok {
		return
	}
	if nic == s.lan && s.has(dst.Addr()) {
		w.onLAN(s, p)
		return
	}
	if nic == s.lan && s.router != nil && s.has(src.Addr()) && !slices.Contains(s.beside, src.Addr()) {
		w.fromRouter(s, p) // a host's, which may come back
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.starting {
		if len(w.early) < mostEarly {
			w.early = append(w.early, early{time.Now(), func() { w.leaves(s, nic, p) }})
		}
		return
	}
	var by *Link
	for _, l := range s.Links {
		if l.nic == nic && (by == nil || slices.Contains(l.inside, src.Addr())) {
			by = l
		}
	}
	if by != nil {
		w.outward(by, p)
	}
}

// outward carries a packet from a link into its underlay: through NAT, and by the far
// end's circuit. Under the lock.
func (w *World) outward(l *Link, p memory.Packet) {
	now := time.Now()
	at, ok := w.pass(l, len(p), true, now)
	src, _, protocol, whole := p.Parse()
	if !ok || !whole || protocol == memory.ProtoUDP && l.NoUDP || !l.hops(p) {
		return
	}
	if l.hides(src.Addr()) {
		near, far, of, ok := p.Flow()
		if near = l.hide(of, near, far, now); !ok || !near.IsValid() {
			return
		}
		p = p.From(near)
	}
	underlay := l.spec.UnderlayOf()
	if underlay != estate.Internet || !w.service(l, p, at) {
		w.inward(underlay, p, at)
	}
}

// inward carries a packet of an underlay to the link that has its address, or that is behind
// the NAT that has it. Under the lock.
func (w *World) inward(underlay string, p memory.Packet, at time.Time) {
	_, dst, protocol, _ := p.Parse()
	far := w.outside[place{underlay, dst.Addr()}]
	if n := w.nats[place{underlay, dst.Addr()}]; n != nil {
		from, to, of, ok := p.Flow()
		if !ok {
			return
		}
		if far, to = w.through(n, of, from, to.Port()); far == nil || !far.hops(p) {
			return
		}
		p = p.To(to)
	}
	if far == nil || protocol == memory.ProtoUDP && far.NoUDP {
		return
	}
	at, ok := w.pass(far, len(p), false, at)
	if !ok {
		return
	}
	site := w.sites[far.Site]
	w.wire.carry(at, len(p), func() { site.Machine.Inject(far.nic, p) })
}

// through finds where a NAT lets what comes to a port of its address; nil for nowhere.
func (w *World) through(n *nat, protocol byte, from netip.AddrPort, port uint16) (l *Link, to netip.AddrPort) {
	if l, to, ok := n.admit(protocol, from, port, time.Now()); ok {
		return l, to
	}
	if l = w.forwarded(n, protocol, port); l != nil {
		to = netip.AddrPortFrom(l.inside[0], port+uint16(l.shift))
		n.forward(l, protocol, port, to)
	}
	return l, to
}

// forwarded finds the link whose router forwards a port that was not used from inside yet.
func (w *World) forwarded(n *nat, protocol byte, port uint16) *Link {
	if protocol != memory.ProtoUDP {
		return nil
	}
	for _, key := range w.order {
		for _, l := range w.sites[key].Links {
			if l.behind == n && l.forwards(port) {
				return l
			}
		}
	}
	return nil
}

// pass lets a packet through a circuit in one direction, and tells when it is through.
func (w *World) pass(l *Link, size int, up bool, at time.Time) (time.Time, bool) {
	if l.Cut || size > l.MTU && l.MTU > 0 || l.LossPct > 0 && w.random.Float64()*100 < l.LossPct {
		return at, false
	}
	if up && l.LossUpPct > 0 && w.random.Float64()*100 < l.LossUpPct {
		return at, false
	}
	free, rate := &l.downFree, l.DownMbps
	if up {
		free, rate = &l.upFree, l.UpMbps
	}
	if rate > 0 {
		begins := at
		if free.After(begins) {
			begins = *free
		}
		takes := time.Duration(float64(size) * 8 / rate * float64(time.Microsecond))
		if begins.Sub(at)+takes > queueFor { // small packets still fit where large ones do not
			return at, false
		}
		*free = begins.Add(takes)
		at = *free
	}
	delay := l.LatencyMs
	if l.JitterMs > 0 {
		delay += l.JitterMs * (w.random.Float64() - 0.5)
	}
	return at.Add(time.Duration(max(delay, 0) * float64(time.Millisecond))), true
}

// start lets go what stand-ins sent before all of them had begun, as far apart as they sent it. A
// handshake that is begun while the far end is not there yet is begun again after 5 s only, and so
// are two that cross on their way.
func (w *World) start() {
	w.mu.Lock()
	waiting := w.early
	w.early, w.starting = nil, false
	w.mu.Unlock()
	began := time.Now()
	for i := range waiting {
		time.Sleep(waiting[i].at.Sub(waiting[0].at) - time.Since(began))
		waiting[i].send()
	}
}

// Run lets packets go until the context ends.
func (w *World) Run(ctx context.Context) { w.wire.run(ctx) }

// Sites lists the sites in the order of the document.
func (w *World) Sites() []*Site {
	w.mu.Lock()
	defer w.mu.Unlock()
	out := make([]*Site, 0, len(w.order))
	for _, key := range w.order {
		out = append(out, w.sites[key])
	}
	return out
}

// Site returns one, or nil.
func (w *World) Site(key string) *Site {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.sites[key]
}

// online reports whether a site reaches the internet, under the lock.
func (s *Site) online() bool {
	return slices.ContainsFunc(s.Links, func(l *Link) bool { return !l.Cut && l.spec.UnderlayOf() == estate.Internet })
}

// dial opens TCP to the real servers, for as long as the site reaches the internet.
func (w *World) dial(s *Site) func(ctx context.Context, network, address string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		w.mu.Lock()
		up := s.online()
		w.mu.Unlock()
		if !up {
			return nil, fmt.Errorf("%s has no way to the internet", s.Key)
		}
		c, err := (&net.Dialer{}).DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		w.mu.Lock()
		defer w.mu.Unlock()
		s.conns[c] = true
		return &siteConn{c, func() {
			w.mu.Lock()
			defer w.mu.Unlock()
			delete(s.conns, c)
		}}, nil
	}
}

type siteConn struct {
	net.Conn
	ended func()
}

// Close ends the connection.
func (c *siteConn) Close() error {
	c.ended()
	return c.Conn.Close()
}

// offlineCuts ends the connections of sites that reach nobody, under the lock.
func (w *World) offlineCuts() {
	for s := range maps.Values(w.sites) {
		if s.online() {
			continue
		}
		for c := range s.conns {
			_ = c.Close()
		}
		clear(s.conns)
	}
}
