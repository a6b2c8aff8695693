package rollout

import (
	"net/netip"
	"slices"
	"strings"

	"wideknot/core/gateway"
)

// A Network is gateways between two configurations each, for asking who reaches whom while
// some of them have the new one.
type Network struct{ net *net }

// NewNetwork returns the network of some gateways.
func NewNetwork(gateways []Gateway) *Network { return &Network{newNet(gateways)} }

// Reaches reports whether a host of one gateway's site gets an echo from one of another's, in
// a state of all gateways. Addresses are as the hosts have them.
func (n *Network) Reaches(state []Stage, from, to int, source, target netip.Addr) bool {
	return n.net.reach(state, &lane{a: from, b: to, from: source, to: target, kind: kind{protocol: "icmp"}}).arrives
}

// An Expected is one end of a tunnel that is to carry in a state, or a way that is to go by
// one of its groups.
type Expected struct {
	Site      string
	Interface string // of a tunnel; empty for a way
	Peer      string // site at the far end
	Detect    int    // ms until its probes find it dead; 0 for a tunnel without any
	Way       int
	Group     int // place of the group, 0 where none of it carries
}

// Expect lists what is to be seen in a state of all: tunnels at both their ends, and the group
// that each way goes by.
func (n *Network) Expect(state []Stage) (out []Expected) {
	for i := range n.net.gateways {
		here := n.net.at(i, state[i])
		works := make([]bool, len(here.config.Tunnels))
		for k := range here.config.Tunnels {
			t := &here.config.Tunnels[k]
			if _, _, ok := n.net.works(state, i, k); ok {
				works[k] = true
				one := Expected{Site: n.net.gateways[i].Key, Interface: t.Interface, Peer: t.Peer}
				if p := t.Probe; p != nil {
					one.Detect = p.Interval*p.Misses + p.Timeout
				}
				out = append(out, one)
			}
		}
		for k := range here.config.Ways {
			w := &here.config.Ways[k]
			one := Expected{Site: n.net.gateways[i].Key, Way: w.ID}
			if at := slices.IndexFunc(here.ways[w.ID].groups, func(g []member) bool {
				return slices.ContainsFunc(g, func(m member) bool { return works[m.tunnel] })
			}); at >= 0 {
				one.Group = w.Groups[at].Place
			}
			out = append(out, one)
		}
	}
	return out
}

// Before is the state of all gateways before a round of a plan; that after the last one for
// the number of its rounds.
func (n *Network) Before(p *Plan, round int) []Stage {
	out := make([]Stage, len(n.net.gateways))
	for _, r := range p.Rounds[:round] {
		for _, site := range r.Sites {
			out[n.net.index[site]] = r.Stage
		}
	}
	return out
}

// Of returns the stage of a site in a state.
func (n *Network) Of(state []Stage, site string) Stage { return state[n.net.index[site]] }

// Without takes ends of tunnels, SITE/INTERFACE, to carry nothing: they were dead before.
func (n *Network) Without(ends []string) {
	n.net.dead = make(map[deadEnd]bool, len(ends))
	for _, name := range ends {
		site, iface, _ := strings.Cut(name, "/")
		if i, there := n.net.index[site]; there {
			n.net.dead[deadEnd{i, iface}] = true
		}
	}
}

// An Echo is what is to be seen when a gateway asks another one for an echo, from an address of
// its LAN to one of the other's.
type Echo struct {
	Arrives bool
	// MTU is the largest packet, in bytes, that the routes there and back let through.
	MTU int
	// Hubs pass it on, on its way there, in order.
	Hubs []string
	// Passed are all gateways that it and its answer pass, or would have passed.
	Passed []string
}

// Echo follows it in a state of all gateways. What policies deny to hosts is not denied to the
// gateways themselves.
func (n *Network) Echo(state []Stage, from, to string, source, target netip.Addr) (out Echo) {
	a, hasA := n.net.index[from]
	b, hasB := n.net.index[to]
	if !hasA || !hasB {
		return out
	}
	there := flight{n: n.net, kind: kind{protocol: "icmp"}, state: state, src: source, dst: n.net.seen(state, b, target), marks: make(map[int]int, 4), own: true}
	arrives := there.run(a, b)
	back := flight{n: n.net, kind: there.kind, state: state, src: target, dst: there.src, reply: true, marks: there.marks, own: true, mtu: there.mtu}
	arrives = arrives && back.run(b, a) && back.dst == source
	if out.Arrives = arrives; arrives {
		out.MTU = back.mtu
		for _, i := range there.path[1 : len(there.path)-1] {
			out.Hubs = append(out.Hubs, n.net.gateways[i].Key)
		}
	}
	for _, i := range slices.Concat(there.path, there.asked, back.path, back.asked) {
		if key := n.net.gateways[i].Key; !slices.Contains(out.Passed, key) {
			out.Passed = append(out.Passed, key)
		}
	}
	return out
}

// Target is the address by which the others know one of a site's own, in a state.
func (n *Network) Target(state []Stage, site string, own netip.Addr) netip.Addr {
	i, there := n.net.index[site]
	if !there {
		return own
	}
	return n.net.seen(state, i, own)
}

// Steered reports whether a gateway sends some by other tunnels than the rest for what
// tunnels are like, so that how its packets go is not told from the tables.
func (n *Network) Steered(state []Stage, site string) bool {
	i, there := n.net.index[site]
	return there && slices.ContainsFunc(n.net.at(i, state[i]).config.Rules, func(r gateway.Rule) bool { return r.Mask&gateway.LimitMask != 0 })
}

// Shares lists what a site shares as its hosts have it, in a state.
func (n *Network) Shares(state []Stage, site string) []netip.Prefix {
	i, there := n.net.index[site]
	if !there {
		return nil
	}
	return n.net.at(i, state[i]).config.Filter.Own
}

// Addresses tells whose the addresses inside the tunnels are, in a state.
func (n *Network) Addresses(state []Stage) map[netip.Addr]string {
	out := map[netip.Addr]string{}
	for i := range n.net.gateways {
		c := n.net.at(i, state[i]).config
		for k := range c.Tunnels {
			for _, a := range c.Tunnels[k].Addresses {
				out[a.Addr()] = n.net.gateways[i].Key
			}
		}
	}
	return out
}

// Lines lists sites whose gateways change, and once they have would send what is for one of the
// servers by a tunnel or into a discard: their line hangs on what the release changes.
func Lines(gateways []Gateway, servers []netip.Addr) []string {
	out := []string{}
	for i := range gateways {
		g := &gateways[i]
		if g.Fixed || !g.changes() || g.New == nil {
			continue
		}
		here := &node{config: g.New, tables: tablesOf(g.New)}
		if slices.ContainsFunc(servers, func(a netip.Addr) bool {
			// It is sent from an address outside the tunnels, which no rule is about.
			v := here.route(netip.Addr{}, a, lan, 0)
			return v == discarded || v >= 0 && g.New.Routes[v].Way != 0
		}) {
			out = append(out, g.Key)
		}
	}
	return out
}
