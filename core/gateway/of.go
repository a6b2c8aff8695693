package gateway

import (
	"cmp"
	"math"
	"net/netip"
	"slices"
	"sync"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// A making holds what the parts of one configuration are made from.
type making struct {
	plan   *tunnel.Plan
	routes *route.Map
	index  int
	site   *estate.Site
	peers  []tunnel.Peer
	out    *Config
	ways   ways
	// By overlay, where its hubs tell: the telling's place from 1, and sites' numbers.
	told    []int
	numbers []map[int]int
}

// Of makes the configuration of a site's gateway. It has no tunnels where the site
// is in no overlay.
func Of(m *route.Map, site int) *Config {
	p := m.Plan
	k := &making{plan: p, routes: m, index: site, site: p.Site(site), peers: p.Peers(site), out: &Config{Site: p.Site(site).Key, PublicKey: p.Site(site).Gateway.PublicKey}}
	k.links()
	k.tunnels()
	k.numbers = make([]map[int]int, len(p.Overlays))
	k.tellings()
	room := rooms.Get().(*route.Room)
	defer rooms.Put(room)
	table, extras := m.TablesIn(room, site)
	k.farEnds()
	k.table(DefaultTable, table, true)
	for i := range extras {
		k.table(FirstTable+i, extras[i].Routes, !extras[i].Straight)
	}
	k.out.Routes = filled(k.out.Routes)
	k.out.Ways = k.ways.number(k.out.Routes)
	k.rules(extras)
	k.filter()
	k.maps()
	k.shaping()
	k.held()
	k.neighbours(table, extras)
	return k.out
}

// rooms are for routes, which take more than what is made of them.
var rooms = sync.Pool{New: func() any { return new(route.Room) }}

// links numbers the links when the site has several and says how each is left: a
// tunnel's own packets must leave by the link it was made for.
func (k *making) links() {
	for i := range k.site.Links {
		l := &k.site.Links[i]
		one := Link{Key: l.Key, Device: l.Device, NextHops: filled(l.NextHop), Up: kilobits(l.UpMbps), Down: kilobits(l.DownMbps)}
		if len(k.site.Links) > 1 && l.Device != "" && len(l.NextHop) > 0 {
			one.Mark = FirstMark + i
		}
		k.out.Links = append(k.out.Links, one)
	}
}

// kilobits turns Mbit/s into kbit/s.
func kilobits(mbps float64) int { return int(math.Round(mbps * 1000)) }

func (k *making) tunnels() {
	ends := k.plan.Ends(k.index)
	if len(k.peers) > 0 {
		k.out.Tunnels = make([]Tunnel, 0, len(k.peers))
	}
	wires := make([]WireGuard, 0, len(k.peers)) // at one go, as all that follows: a hub has thousands
	addresses := make([]netip.Prefix, 0, 2*len(k.peers))
	for i := range k.peers {
		peer := &k.peers[i]
		near, far := k.plan.Link(peer.Local), k.plan.Link(peer.Remote)
		mark := k.out.Links[peer.Local.Link].Mark
		t := Tunnel{
			Interface: peer.Interface, Overlay: peer.Overlay.Spec.Key, Rank: peer.Rank, Link: near.Key,
			Peer: k.plan.Site(peer.Remote.Site).Key, PeerLink: far.Key,
			NextHop: Blackhole + peer.Local.Slot, MTU: peer.Tunnel.MTU,
		}
		first := len(addresses)
		for _, a := range [...]netip.Prefix{peer.Local.Address4, peer.Local.Address6} {
			if a.IsValid() {
				addresses = append(addresses, a)
			}
		}
		t.Addresses = filled(addresses[first:len(addresses):len(addresses)])
		if len(near.Zones)+len(far.Zones) > 0 {
			t.Limited, t.Zones = true, filled(slices.DeleteFunc(k.plan.Estate.Zones(), func(z string) bool { return !near.Carries(z) || !far.Carries(z) }))
		}
		if peer.Overlay.Spec.Probe != nil {
			t.Probe = k.probe(peer)
		}
		k.out.Forward6 = k.out.Forward6 || peer.Overlay.Needs6
		if peer.Overlay.Spec.Transport == estate.IPsec {
			t.IPsec = ipsecOf(k.plan.SecurityAssociation(ends[i]), mark)
		} else {
			wires = append(wires, WireGuard{
				Port: peer.Local.UDP, Mark: mark, PublicKey: peer.PublicKey, Preshared: peer.Overlay.Spec.PresharedKeys,
				Allowed: peer.FarEnd, Endpoint: peer.Endpoint, Keepalive: peer.Keepalive,
			})
			t.WireGuard = &wires[len(wires)-1]
			if len(peer.Behind) > fewPrefixes {
				t.WireGuard.List = k.list(peer.Behind)
			} else {
				t.WireGuard.Allowed = filled(peer.Allowed())
			}
		}
		k.out.Tunnels = append(k.out.Tunnels, t)
	}
}

// fewPrefixes are written with their tunnel; more make a list.
const fewPrefixes = 16

// list returns the number of the list of some prefixes. Peers share what lies behind
// them.
func (k *making) list(prefixes []netip.Prefix) int {
	for i := range k.out.Lists {
		if have := k.out.Lists[i].Prefixes; &have[0] == &prefixes[0] && len(have) == len(prefixes) || slices.Equal(have, prefixes) {
			return i + 1
		}
	}
	k.out.Lists = append(k.out.Lists, List{ID: len(k.out.Lists) + 1, Prefixes: prefixes})
	return len(k.out.Lists)
}

func (k *making) probe(peer *tunnel.Peer) *Probe {
	probe := peer.Overlay.Spec.Probe.Full()
	address := k.plan.Site(peer.Remote.Site).Gateway.LANAddress
	if probe.Target == estate.FarEnd {
		address = cmp.Or(peer.Remote.Address4, peer.Remote.Address6).Addr()
	}
	out := &Probe{
		Target: string(probe.Target), Address: address, Interval: probe.IntervalMs, Timeout: probe.TimeoutMs,
		Misses: probe.Misses, Successes: probe.Successes,
	}
	if spec := peer.Overlay.Spec; k.site.Gateway.KeepsLimits(spec) && k.plan.Site(peer.Remote.Site).Gateway.KeepsLimits(spec) {
		out.Limits = limitsOf(probe.Limits) // both ends order their tunnels alike, or neither does
	}
	return out
}

func ipsecOf(sa tunnel.SA, mark int) *IPsec {
	return &IPsec{
		LocalID: sa.LocalID, RemoteID: sa.RemoteID, Local: sa.Local, Remote: sa.Remote, RemoteName: sa.RemoteName,
		Initiates: sa.Initiates, Encapsulate: sa.UDPEncapsulation, IKE: sa.IKE, ESP: sa.ESP,
		IKELifetime: sa.IKELifetime, ChildLifetime: sa.ChildLifetime, LocalTS: sa.LocalTS, RemoteTS: sa.RemoteTS,
		InterfaceID: sa.InterfaceIdentifier, Mark: mark,
	}
}

// filled is nil in place of an empty list, which is not written.
func filled[T any](list []T) []T {
	if len(list) == 0 {
		return nil
	}
	return list
}

// maps lists the subnets that have another prefix in the overlays.
func (k *making) maps() {
	for i := range k.site.Subnets {
		if n := &k.site.Subnets[i]; n.Map.IsValid() && len(n.Share) > 0 {
			k.out.Maps = append(k.out.Maps, Map{Inside: n.Prefix, Outside: n.Map})
		}
	}
}

// shaping lists the zones that give way, where a link has a figure to keep to.
func (k *making) shaping() {
	if !slices.ContainsFunc(k.out.Links, func(l Link) bool { return l.Up > 0 }) || len(k.peers) == 0 {
		return
	}
	for _, zone := range k.plan.Estate.About.Shed {
		class := Class{Zone: zone}
		for i := range k.plan.Estate.Sites {
			subnets := k.plan.Site(i).Subnets
			for j := range subnets {
				switch n := &subnets[j]; {
				case n.Zone != zone || len(n.Share) == 0:
				case i == k.index:
					class.Here = append(class.Here, n.Prefix)
				default:
					class.Beyond = append(class.Beyond, n.Taking())
				}
			}
		}
		class.Here, class.Beyond = filled(addr.Aggregate(class.Here)), filled(addr.Aggregate(class.Beyond))
		if len(class.Here)+len(class.Beyond) > 0 {
			k.out.Shaping = append(k.out.Shaping, class)
		}
	}
}
