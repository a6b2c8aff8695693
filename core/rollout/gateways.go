package rollout

import (
	"net/netip"
	"sync/atomic"

	"wideknot/core/addr"
	"wideknot/core/gateway"
)

// A Gateway is one that takes part: what it keeps at present and what it is to be; nil for
// nothing. Fixed is of one that nobody can bring anywhere: it stays as it is.
type Gateway struct {
	Key, Region string
	Old, New    *gateway.Config
	Fixed       bool

	compared, differs bool // see changes
}

// A node is one gateway at one stage, made for following packets.
type node struct {
	config  *gateway.Config
	tables  map[int]table
	ways    map[int]*way
	leading map[farEnd]int // tunnels by where they lead
	toward  map[int][]int  // by far gateway, where hubs tell
	ends    []*end         // by tunnel
	passing [][]int        // overlays of the filter, by tunnel
	kept    [][]int        // entries of what is kept off, by tunnel
	marks   []int          // of the place by which a flow came, by tunnel
}

// lan is what a packet comes from or goes to where it is no tunnel.
const lan = -1

// name is the interface of a tunnel, empty for the LAN.
func (k *node) name(tunnel int) string {
	if tunnel == lan {
		return ""
	}
	return k.config.Tunnels[tunnel].Interface
}

// A way is one of a configuration, by the places of its tunnels there.
type way struct {
	groups [][]member
	mtu    int // the least of its tunnels, which is that of its routes
}

type member struct{ tunnel, weight int }

// An end is where a tunnel leads.
type end struct {
	far   int                   // index of the far gateway, -1 for one that is not there
	there [New + 1]atomic.Int32 // place of the far end's tunnel at each stage: 0 not looked for yet, 1 none, else the place from 2
	apart bool                  // what the ends must agree on differs between the old and the new
	both  bool                  // the tunnel is in both
	newer bool                  // this specification is the new one
	calls bool
	allow []netip.Prefix // what the far end may send from: its own
	list  space          // and what lies behind it
}

// A space is prefixes of which none lies in another, in their order.
type space []netip.Prefix

// newSpace takes a list as it is where it is one already.
func newSpace(list []netip.Prefix) space {
	for i := 1; i < len(list); i++ {
		if list[i-1].Compare(list[i]) >= 0 || list[i-1].Overlaps(list[i]) {
			return addr.Aggregate(list)
		}
	}
	return list
}

func (s space) holds(a netip.Addr) bool {
	i := behind(len(s), func(i int) netip.Addr { return s[i].Addr() }, a)
	return i > 0 && s[i-1].Contains(a)
}

// allows reports whether the far end may send from an address, and is sent what is for it.
func (e *end) allows(a netip.Addr) bool { return within(e.allow, a) || e.list.holds(a) }

// A net is all gateways of an estate at every stage.
type net struct {
	gateways []Gateway
	index    map[string]int
	nodes    [][New + 1]*node
	changing []bool // gateways that a release changes
	dead     map[deadEnd]bool
	numbers  map[string]map[int]int // of gateways, in what hubs tell, see numbered
}

// A deadEnd is a tunnel's end that carries nothing whatever its gateway is: it was so before.
type deadEnd struct {
	gateway int
	name    string // of the interface
}

func newNet(gateways []Gateway) *net {
	n := &net{gateways: gateways, index: make(map[string]int, len(gateways)), nodes: make([][New + 1]*node, len(gateways))}
	n.changing, n.numbers = make([]bool, len(gateways)), numbered(gateways)
	for i := range gateways {
		n.index[gateways[i].Key] = i
	}
	spread(len(gateways), func(i int) { n.changing[i] = gateways[i].changes() })
	return n
}

// at returns a gateway at a stage; nil where it has nothing.
func (n *net) at(i int, s Stage) *node {
	g := &n.gateways[i]
	if !n.changing[i] {
		s = Old
	}
	if n.nodes[i][s] != nil {
		return n.nodes[i][s]
	}
	c := At(g.Old, g.New, s)
	if c == nil {
		c = &gateway.Config{Site: g.Key}
	}
	n.nodes[i][s] = n.make(i, c, s)
	return n.nodes[i][s]
}

func (n *net) make(i int, c *gateway.Config, s Stage) *node {
	g := &n.gateways[i]
	out := &node{config: c, ways: make(map[int]*way, len(c.Ways)), leading: make(map[farEnd]int, len(c.Tunnels))}
	for _, other := range n.nodes[i] { // often it is only the ways that differ
		if other != nil && sameTables(other.config, c) {
			out.tables = other.tables
			break
		}
	}
	if out.tables == nil {
		out.tables = tablesOf(c)
	}
	out.byTunnel()
	lists := make([]space, len(c.Lists)+1)
	for i := range c.Lists {
		lists[i+1] = newSpace(c.Lists[i].Prefixes)
	}
	for i := range c.Tunnels {
		t := &c.Tunnels[i]
		out.leading[far(t)] = i
	}
	old, new := leading(g.Old), leading(g.New)
	for i := range c.Tunnels {
		t := &c.Tunnels[i]
		out.ends = append(out.ends, n.end(t, old[far(t)], new[far(t)], s, lists))
	}
	if len(c.Tellings) > 0 {
		out.toward = map[int][]int{}
		for i, e := range out.ends {
			out.toward[e.far] = append(out.toward[e.far], i)
		}
	}
	return out
}

// byTunnel makes what a node has for each of its tunnels.
func (k *node) byTunnel() {
	c := k.config
	at := make(map[string]int, len(c.Tunnels))
	for i := range c.Tunnels {
		at[c.Tunnels[i].Interface] = i
	}
	k.passing, k.kept, k.marks = make([][]int, len(c.Tunnels)), make([][]int, len(c.Tunnels)), make([]int, len(c.Tunnels))
	note := func(list [][]int, name string, i int) {
		if t, there := at[name]; there {
			list[t] = append(list[t], i)
		}
	}
	for i := range c.Filter.Overlays {
		for _, name := range c.Filter.Overlays[i].Interfaces {
			note(k.passing, name, i)
		}
	}
	for i := range c.Filter.Kept {
		note(k.kept, c.Filter.Kept[i].Interface, i)
	}
	for _, p := range c.Places {
		for _, name := range p.Interfaces {
			if t, there := at[name]; there {
				k.marks[t] = p.Mark
			}
		}
	}
	for i := range c.Ways {
		w := &way{}
		for _, g := range c.Ways[i].Groups {
			members := make([]member, len(g.Members))
			for j, m := range g.Members {
				members[j] = member{at[m.Interface], m.Weight}
				if mtu := c.Tunnels[members[j].tunnel].MTU; w.mtu == 0 || mtu < w.mtu {
					w.mtu = mtu
				}
			}
			w.groups = append(w.groups, members)
		}
		k.ways[c.Ways[i].ID] = w
	}
}

// leading lists the tunnels of a configuration by where they lead.
func leading(c *gateway.Config) map[farEnd]*gateway.Tunnel {
	if c == nil {
		return nil
	}
	out := make(map[farEnd]*gateway.Tunnel, len(c.Tunnels))
	for i := range c.Tunnels {
		out[far(&c.Tunnels[i])] = &c.Tunnels[i]
	}
	return out
}

// end says where a tunnel leads, and how its specification stands to the other one.
func (n *net) end(t, old, new *gateway.Tunnel, s Stage, lists []space) *end {
	out := &end{far: -1, both: old != nil && new != nil}
	if i, there := n.index[t.Peer]; there {
		out.far = i
	}
	out.apart = out.both && (apart(old, new) || !n.saysKey(out.far) && t.WireGuard != nil && old.WireGuard.PublicKey != new.WireGuard.PublicKey)
	out.newer = old == nil || out.both && s.sends()
	if w := t.WireGuard; w != nil {
		out.calls, out.allow, out.list = w.Endpoint != "", w.Allowed, lists[w.List]
	} else {
		out.calls, out.allow = t.IPsec.Initiates, t.IPsec.RemoteTS
	}
	return out
}

// works reports whether a tunnel of a gateway can carry, in a state of all, and which one it
// is at the far end.
func (n *net) works(state []Stage, i, tunnel int) (j, there int, ok bool) {
	here := n.at(i, state[i])
	e := here.ends[tunnel]
	if e.far < 0 {
		return -1, -1, false
	}
	beyond := n.at(e.far, state[e.far])
	t := &here.config.Tunnels[tunnel]
	if there = n.beyond(here, tunnel, state[e.far]); there < 0 {
		return e.far, -1, false
	}
	if len(n.dead) > 0 && (n.dead[deadEnd{i, t.Interface}] || n.dead[deadEnd{e.far, beyond.config.Tunnels[there].Interface}]) {
		return e.far, there, false
	}
	o := beyond.ends[there]
	if !knows(t, beyond.config) || !knows(&beyond.config.Tunnels[there], here.config) {
		return e.far, there, false
	}
	agree := e.newer == o.newer || !(e.both && o.both) || !e.apart && !o.apart
	if e.both != o.both { // one end only is new: it fits the newer of the other's
		agree = e.newer == o.newer || !e.apart && !o.apart
	}
	return e.far, there, agree && (e.calls || o.calls)
}

// beyond finds a tunnel at its far end, with the far gateway at a stage; -1 where it is not.
func (n *net) beyond(here *node, tunnel int, s Stage) int {
	e := here.ends[tunnel]
	if known := e.there[s].Load(); known > 0 {
		return int(known) - 2
	}
	t := &here.config.Tunnels[tunnel]
	at, there := n.at(e.far, s).leading[farEnd{t.Overlay, t.PeerLink, here.config.Site, t.Link}]
	if !there {
		at = -1
	}
	e.there[s].Store(int32(at) + 2)
	return at
}

// saysKey reports whether a gateway says by which key it is known, before and after.
func (n *net) saysKey(i int) bool {
	if i < 0 {
		return false
	}
	g := &n.gateways[i]
	return g.Old != nil && g.Old.PublicKey != "" && (g.Fixed || g.New != nil && g.New.PublicKey != "")
}

// knows reports whether an end of a tunnel takes the key that the far gateway uses; one that
// does not say which is taken to use the right one.
func knows(t *gateway.Tunnel, far *gateway.Config) bool {
	w := t.WireGuard
	return w == nil || far.PublicKey == "" || w.PublicKey == far.PublicKey || w.Also == far.PublicKey
}

// called reports whether either end of a tunnel calls the other; one that is not there does
// not say, and is taken to.
func (n *net) called(state []Stage, i, tunnel int) bool {
	here := n.at(i, state[i])
	e := here.ends[tunnel]
	if e.calls || e.far < 0 {
		return true
	}
	there := n.beyond(here, tunnel, state[e.far])
	return there < 0 || n.at(e.far, state[e.far]).ends[there].calls
}
