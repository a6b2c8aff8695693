// Package memory is a plane that needs no kernel: one gateway's network in memory, with real
// WireGuard devices in user space, and a forwarder that obeys a gateway.Config. Stand-ins of
// gateways run the agent on it.
package memory

import (
	"cmp"
	"errors"
	"hash/fnv"
	"maps"
	"math/bits"
	"net/netip"
	"slices"
	"sync"
	"time"

	"wideknot/core/addr"
	"wideknot/core/gateway"
	"wideknot/internal/gateway/agent"
)

// A Nic is a device of a machine that is no tunnel.
type Nic struct {
	Name      string
	MTU       int
	Addresses []netip.Prefix
	NextHops  []netip.Addr     // of default routes: it leads to a network of others
	Metric    int              // of those: the least is used
	Behind    []gateway.Behind // routes by routers on it
	Down      bool
}

// A Machine is one gateway's network. Send is called with what leaves by its devices, one
// call at a time for each machine at most; it must not call back at once.
type Machine struct {
	Send func(nic string, p Packet)
	// Reach answers whether a neighbour on a device answers an echo: the next hop of a WAN
	// link.
	Reach func(nic string, at netip.Addr) bool

	mu      sync.Mutex
	nics    map[string]*Nic
	config  *gateway.Config
	uses    map[int][]gateway.Member
	steers  map[agent.Place]int
	tables  map[int]table
	tunnels map[string]*tunnel
	byPort  map[uint16]*tunnel
	flows   flowTable
	shapers map[string]*shaper // by link
	sockets map[socketKey]*socket
	conns   map[uint16]*dialled // by local port
	echoes  map[uint16]awaited
	ears    []*ear
	ports   uint16
	rules   map[ruleKey]*gateway.RuleState
	kept    map[string]uint64
	changed chan struct{}
	next    int // number of the next tunnel's interface
	local   map[netip.Addr]string
}

type ruleKey struct {
	overlay string
	rule    int
}

// New returns a machine with some devices.
func New(nics ...Nic) *Machine {
	m := &Machine{
		nics: map[string]*Nic{}, tunnels: map[string]*tunnel{}, byPort: map[uint16]*tunnel{}, uses: map[int][]gateway.Member{}, steers: map[agent.Place]int{},
		sockets: map[socketKey]*socket{}, conns: map[uint16]*dialled{}, echoes: map[uint16]awaited{}, ports: 30000,
		rules: map[ruleKey]*gateway.RuleState{}, kept: map[string]uint64{}, changed: make(chan struct{}, 1), next: 100,
		Send: func(string, Packet) {}, Reach: func(string, netip.Addr) bool { return true },
	}
	for _, n := range nics {
		m.nics[n.Name] = &n
	}
	m.arrange()
	return m
}

// SetNic changes a device, or adds one; the agent is told.
func (m *Machine) SetNic(n Nic) {
	m.mu.Lock()
	m.nics[n.Name] = &n
	m.arrange()
	m.mu.Unlock()
	m.tell()
}

// Nic returns a device.
func (m *Machine) Nic(name string) (Nic, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	n := m.nics[name]
	if n == nil {
		return Nic{}, false
	}
	return *n, true
}

func (m *Machine) tell() {
	select {
	case m.changed <- struct{}{}:
	default:
	}
}

// A table is routes by prefix.
type table map[netip.Prefix]*way

// A way is where packets of a route go: by a way of the configuration, or by a device, or
// nowhere.
type way struct {
	id      int
	place   agent.Place
	device  string
	via     netip.Addr
	discard bool
	mtu     int
}

// arrange works out the routes and local addresses, under the lock.
func (m *Machine) arrange() {
	m.tables, m.local = map[int]table{}, map[netip.Addr]string{}
	into := func(number int) table {
		if m.tables[number] == nil {
			m.tables[number] = table{}
		}
		return m.tables[number]
	}
	main := into(gateway.DefaultTable)
	for _, name := range slices.Sorted(maps.Keys(m.nics)) {
		n := m.nics[name]
		for _, a := range n.Addresses {
			m.local[a.Addr()] = name
			if !n.Down {
				main[a.Masked()] = &way{device: name}
			}
		}
		if n.Down {
			continue
		}
		for _, b := range n.Behind {
			main[b.Prefix] = &way{device: name, via: b.Via}
		}
	}
	m.defaults(main)
	if m.config == nil {
		return
	}
	for i := range m.config.Tunnels {
		t := &m.config.Tunnels[i]
		for _, a := range t.Addresses {
			m.local[a.Addr()] = t.Interface
			if !a.IsSingleIP() {
				main[a.Masked()] = &way{device: t.Interface}
			}
		}
	}
	for i := range m.config.Discards {
		d := &m.config.Discards[i]
		if into(d.Table)[d.Prefix] == nil {
			into(d.Table)[d.Prefix] = &way{discard: true}
		}
	}
	for i := range m.config.Routes {
		r := &m.config.Routes[i]
		w := &way{id: r.Way, place: agent.Place{Table: r.Table, Prefix: r.Prefix}}
		if r.Way == 0 {
			if n := m.nics[r.Device]; n == nil || n.Down {
				continue
			}
			w = &way{device: r.Device, via: r.Via}
		}
		into(r.Table)[r.Prefix] = w
	}
}

// defaults gives a table the default routes of devices.
func (m *Machine) defaults(main table) {
	by := slices.Sorted(maps.Keys(m.nics))
	slices.SortStableFunc(by, func(a, b string) int { return cmp.Compare(m.nics[a].Metric, m.nics[b].Metric) })
	for _, name := range by {
		for _, hop := range m.nics[name].NextHops {
			if all := netip.PrefixFrom(hop, 0).Masked(); main[all] == nil && !m.nics[name].Down {
				main[all] = &way{device: name, via: hop}
			}
		}
	}
}

// lookup finds the route of an address in a table: of the longest prefix that is whole.
func (t table) lookup(a netip.Addr, least int) *way {
	for n := a.BitLen(); n >= least; n-- {
		if w := t[netip.PrefixFrom(a, n).Masked()]; w != nil {
			return w
		}
	}
	return nil
}

// errNoTunnel is of a tunnel that is not there.
var errNoTunnel = errors.New("there is no such tunnel")

// errNoRoute is of packets that no table has a route for.
var errNoRoute = errors.New("no route")

// route finds by which device, and to which neighbour, a packet goes on; by rules, in the
// order of their priorities. A discard, and a way of which nothing lives, end the search.
func (m *Machine) route(in *info, arriving string, mark int) (device string, via netip.Addr, err error) {
	main := m.tables[gateway.DefaultTable]
	if m.config != nil {
		for i := range m.config.Rules {
			r := &m.config.Rules[i]
			if r.Family != gateway.FamilyOf(in.dst) || r.Mask != 0 && mark&r.Mask != r.Mark ||
				len(r.Arriving) > 0 && !slices.Contains(r.Arriving, arriving) || len(r.From) > 0 && !within(r.From, in.src) {
				continue
			}
			t, least := m.tables[r.Table], 0
			if r.NoLonger {
				t, least = main, 1
			}
			if w := t.lookup(in.dst, least); w != nil {
				return m.by(w, in)
			}
		}
	}
	if w := main.lookup(in.dst, 0); w != nil {
		return m.by(w, in)
	}
	return "", netip.Addr{}, errNoRoute
}

// by follows a route: of the members of a way's group, one by the flow and the weights.
func (m *Machine) by(w *way, in *info) (string, netip.Addr, error) {
	if w.discard {
		return "", netip.Addr{}, errDiscard
	}
	if w.id == 0 {
		return w.device, w.via, nil
	}
	id := w.id
	if other, ok := m.steers[w.place]; ok {
		id = other
	}
	members := m.uses[id]
	total := 0
	for _, one := range members {
		total += one.Weight
	}
	if total == 0 {
		return "", netip.Addr{}, errDiscard
	}
	hash := fnv.New32a()
	hash.Write(in.src.AsSlice()) // never fails
	hash.Write(in.dst.AsSlice())
	at, _ := bits.Mul32(hash.Sum32(), uint32(total))
	for _, one := range members {
		if at < uint32(one.Weight) {
			return one.Interface, netip.Addr{}, nil
		}
		at -= uint32(one.Weight)
	}
	return "", netip.Addr{}, errDiscard
}

var errDiscard = errors.New("discarded")

func within(prefixes []netip.Prefix, a netip.Addr) bool {
	return slices.ContainsFunc(prefixes, func(p netip.Prefix) bool { return p.Contains(a) })
}

// mtuOf is that of a device, of a tunnel or not.
func (m *Machine) mtuOf(device string) int {
	if t := m.tunnels[device]; t != nil {
		return t.is.MTU
	}
	if n := m.nics[device]; n != nil && n.MTU > 0 {
		return n.MTU
	}
	return 1500
}

// addressOn is the address of the machine from which it speaks to another one by a device, as
// Linux chooses: of IPv4 one of the same network on the device, else the first there is; of IPv6
// that which begins most like the other one (RFC 6724, 5), the newest of several. Where the device
// has none it is one of the others'.
func (m *Machine) addressOn(device string, to netip.Addr) netip.Addr {
	own := m.addressesOf(device, to)
	if len(own) == 0 {
		for _, name := range slices.Sorted(maps.Keys(m.nics)) {
			own = append(own, m.addressesOf(name, to)...)
		}
		for i := 0; m.config != nil && i < len(m.config.Tunnels); i++ {
			own = append(own, m.addressesOf(m.config.Tunnels[i].Interface, to)...)
		}
	}
	best, alike := netip.Addr{}, -1
	for _, a := range own {
		bits := 0 // one is as good as another
		if to.Is6() {
			bits = min(a.Bits(), addr.Alike(a.Addr(), to))
		} else if a.Contains(to) {
			bits = 1
		}
		if bits > alike {
			best, alike = a.Addr(), bits
		}
	}
	return best
}

// addressesOf lists those of a device, of the family of another one: of IPv6 the newest first.
func (m *Machine) addressesOf(device string, of netip.Addr) (out []netip.Prefix) {
	if t := m.tunnels[device]; t != nil {
		out = slices.Clone(t.is.Addresses)
	} else if n := m.nics[device]; n != nil {
		out = slices.Clone(n.Addresses)
	}
	if of.Is6() {
		slices.Reverse(out)
	}
	return slices.DeleteFunc(out, func(a netip.Prefix) bool { return a.Addr().Is4() != of.Is4() })
}

// Inject takes a packet that comes by a device of the machine.
func (m *Machine) Inject(nic string, p Packet) {
	m.mu.Lock()
	n := m.nics[nic]
	if n == nil || n.Down {
		m.mu.Unlock()
		return
	}
	if len(m.ears) > 0 {
		m.overhear(nic, p)
	}
	do := m.arrive(nic, p, time.Now())
	m.mu.Unlock()
	do.run()
}

// An action is what is to be done once the lock is let go.
type action []func()

func (a action) run() {
	for _, f := range a {
		f()
	}
}

// out sends a packet by a device; what the device does is done later.
func (m *Machine) out(device string, p Packet, class int) action {
	if t := m.tunnels[device]; t != nil {
		if s := m.shapers[t.is.Link]; s != nil {
			return action{func() { s.push(class, len(p), func() { t.send(p) }) }}
		}
		return action{func() { t.send(p) }}
	}
	if n := m.nics[device]; n != nil && !n.Down {
		return action{func() { m.Send(device, p) }}
	}
	return nil
}
