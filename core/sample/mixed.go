package sample

import (
	"fmt"
	"math/rand/v2"
	"net/netip"

	"wideknot/core/estate"
)

// Mixed makes a small estate in which any feature of the document may turn up
// beside any other, the same for the same seed: for comparing what is predicted
// and rendered with what other programs make of it. It is valid, but a good
// design only by chance.
func Mixed(seed uint64) *estate.Estate {
	m := mixer{random: rand.New(rand.NewPCG(seed, 2))}
	return m.estate(seed)
}

type mixer struct {
	random *rand.Rand
	e      *estate.Estate
}

func (m *mixer) one(in int) bool { return m.random.IntN(in) == 0 }

func pick[T any](m *mixer, from ...T) T { return from[m.random.IntN(len(from))] }

// some returns each item with a chance of one in two, but at least one.
func some[T any](m *mixer, from []T) []T {
	var out []T
	for _, item := range from {
		if m.one(2) {
			out = append(out, item)
		}
	}
	if out == nil {
		out = []T{pick(m, from...)}
	}
	return out
}

var mixedZones = []string{"control", "office", "camera", "guest"}

func (m *mixer) estate(seed uint64) *estate.Estate {
	m.e = &estate.Estate{Format: estate.Format, About: estate.About{
		Name: fmt.Sprintf("Mixed %d", seed), Regions: []estate.Region{
			{Key: "north", Blocks: []netip.Prefix{netip.MustParsePrefix("10.16.0.0/12"), netip.MustParsePrefix("fd3a:91c2:7::/48")}}, {Key: "fen"},
		},
	}}
	if m.one(3) {
		m.e.About.Shed = some(m, mixedZones)
	}
	if m.one(4) {
		m.e.About.Reserved = []estate.Reservation{{Prefix: netip.MustParsePrefix("10.31.0.0/16"), For: "the new works"}}
	}
	hubs := 1 + m.random.IntN(3)
	keys := []string{"harrow", "quill", "ossel", "tarn", "osier", "eel", "mill", "withy"}[:hubs+2+m.random.IntN(3)]
	for i := range keys {
		m.e.Sites = append(m.e.Sites, m.site(i, keys[i], i < hubs))
	}
	m.e.Overlays = append(m.e.Overlays, m.overlay("ops", keys[:hubs], keys[hubs:], "100.96.0.0/16", "fd96::/48"))
	if m.one(3) {
		m.e.Overlays = append(m.e.Overlays, m.overlay("works", keys[:1], keys[1:], "100.97.0.0/16", "fd97::/48"))
	}
	for i := range m.e.Sites {
		m.share(&m.e.Sites[i])
	}
	return m.e
}

func (m *mixer) site(i int, key string, hub bool) estate.Site {
	s := estate.Site{Key: key, Name: pick(m, "Works of "+key, key+" & Sons", "O'"+key, "Pümpwerk “"+key+"”"), Region: pick(m, "north", "fen", ""), DemandMbps: float64(m.random.IntN(30))}
	links := 1 + m.random.IntN(3)
	for j := range links {
		s.Links = append(s.Links, m.link(i, j, hub && j == 0))
	}
	if links > 1 && m.one(3) { // two share the load
		s.Links[1].Rank, s.Links[0].Weight, s.Links[1].Weight = s.Links[0].Rank, 1+m.random.IntN(3), 1+m.random.IntN(3)
	}
	for j := range 1 + m.random.IntN(3) {
		n := estate.Subnet{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 16, byte(i), byte(j * 64)}), 26), Zone: pick(m, append(mixedZones, "")...), Name: pick(m, "", "plant", "O'plant")}
		if m.one(3) {
			n.Prefix = netip.PrefixFrom(netip.AddrFrom16([16]byte{0xfd, 0x3a, 0x91, 0xc2, 0, 7, byte(i), byte(j)}), 64)
		} else if m.one(4) {
			n.Map = netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 17, byte(i), byte(j * 64)}), 26)
			n.Prefix = netip.PrefixFrom(netip.AddrFrom4([4]byte{192, 168, 40, byte(j * 64)}), 26)
		}
		s.Subnets = append(s.Subnets, n)
	}
	g := &s.Gateway
	g.LANDevice, g.Switches = "lan0", !m.one(5)
	if first := s.Subnets[0].Prefix; m.one(4) && !hub && first.Addr().Is4() {
		m.besideRouter(&s)
	}
	if m.one(4) {
		g.ListenPort = 40000 + m.random.IntN(1000)
	}
	if m.one(4) {
		g.UsedPorts = []int{51820, 51822}
	}
	return s
}

// besideRouter puts the gateway of a site beside its LAN's router, by which its
// first link may leave.
func (m *mixer) besideRouter(s *estate.Site) {
	g := &s.Gateway
	first := s.Subnets[0].Prefix.Addr()
	g.Placement, g.LANAddress, g.Upstream = estate.OneArmed, first.Next().Next(), first.Next()
	for _, n := range s.Subnets {
		if a := n.Prefix.Addr(); a.Is6() && !g.LANAddress6.IsValid() && !m.one(3) {
			g.LANAddress6, g.Upstream6 = a.Next().Next(), a.Next()
		}
	}
	if l := &s.Links[0]; m.one(2) && (l.Reach == estate.NAT || l.Reach == estate.Forwarded) {
		l.Device, l.NextHop = g.LANDevice, []netip.Addr{g.Upstream}
		if l.Reach == estate.Forwarded {
			l.Addresses = []netip.Addr{g.LANAddress}
		}
	}
}

func (m *mixer) link(site, place int, fixed bool) estate.Link {
	four := netip.AddrFrom4([4]byte{203, 0, 113, byte(16*site + 4*place + 2)})
	six := netip.AddrFrom16([16]byte{0x20, 0x01, 0x0d, 0xb8, 0, 0, byte(site), byte(place), 15: 2})
	l := estate.Link{
		Key: pick(m, "fibre", "copper", "cell") + []string{"", "-b", "-c"}[place], Provider: pick(m, "Lumenway", "Skylark Mobile", ""),
		Rank: place + 1, DownMbps: pick(m, 0.0, 10, 200), MTU: pick(m, 0, 1500, 1492, 1428), Availability: pick(m, 0, 99.5, 99.9), Device: fmt.Sprint("wan", place),
	}
	l.UpMbps = l.DownMbps
	reach := pick(m, estate.Static, estate.Static, estate.Dynamic, estate.Forwarded, estate.NAT)
	if fixed {
		reach = estate.Static
	}
	l.Reach = reach
	private := netip.AddrFrom4([4]byte{192, 168, byte(100 + place), 2})
	switch reach {
	case estate.Static:
		l.Addresses = []netip.Addr{four}
		if m.one(3) {
			l.Addresses = append(l.Addresses, six)
		} else if m.one(6) && !fixed {
			l.Addresses = []netip.Addr{six}
		}
	case estate.Dynamic:
		l.Hostname = fmt.Sprintf("site%d-%d.example.net", site, place)
	case estate.Forwarded:
		l.Outside, l.Addresses = four, []netip.Addr{private}
		if m.one(4) {
			l.Forwards = []string{"51820-51825"}
		}
	}
	for _, a := range append(l.Addresses, l.Outside) {
		if a.Is6() {
			l.NextHop = append(l.NextHop, six.Prev())
		} else if a.IsValid() && len(l.NextHop) == 0 {
			l.NextHop = append(l.NextHop, a.Prev())
		}
	}
	switch {
	case reach == estate.Forwarded:
		l.NextHop = []netip.Addr{private.Prev()}
	case reach == estate.Dynamic:
		l.NextHop = []netip.Addr{four.Prev()}
	case len(l.NextHop) == 0:
		l.NextHop = []netip.Addr{private.Prev()}
	}
	if m.one(5) && !fixed {
		l.Zones = some(m, mixedZones)
	}
	if m.one(4) {
		l.SharedFate = []string{pick(m, "duct-1", "mast-2")}
	}
	l.NoTunnels = m.one(12) && !fixed
	if m.one(6) && !fixed && reach == estate.Static {
		l.Underlay = "ring"
	}
	return l
}

func (m *mixer) overlay(key string, hubs, spokes []string, pool4, pool6 string) estate.Overlay {
	o := estate.Overlay{
		Key: key, Shape: pick(m, estate.HubAndSpoke, estate.HubAndSpoke, estate.Custom, estate.FullMesh), Transit: []netip.Prefix{netip.MustParsePrefix(pool4), netip.MustParsePrefix(pool6)},
		Family: pick(m, "", "", estate.V4, estate.V6), Numbering: pick(m, estate.PerTunnel, estate.PerTunnel, estate.PerSite), Pairing: pick(m, estate.Every, estate.Every, estate.Matched, estate.TopN), Hubs: hubs,
	}
	if o.Pairing == estate.TopN {
		o.PairingLimit = 1 + m.random.IntN(2)
	}
	for _, site := range spokes {
		s := estate.Spoke{Site: site}
		if m.one(3) {
			for _, i := range m.random.Perm(len(hubs)) {
				s.Hubs = append(s.Hubs, hubs[i])
			}
			s.Hubs = s.Hubs[:1+m.random.IntN(len(s.Hubs))]
		}
		o.Spokes = append(o.Spokes, s)
	}
	if o.Shape == estate.Custom && len(spokes) > 1 {
		o.Direct = [][]string{{spokes[0], spokes[1]}}
	}
	if m.one(5) {
		off := false
		o.HubLinks = &off
	}
	if m.one(4) {
		o.Costs = &estate.Costs{HubStep: pick(m, 0, 50, 200), HubHub: pick(m, 0, 5, 300), Direct: pick(m, 0, 10, 400)}
	}
	if m.one(5) {
		o.KeepaliveS = 15
	}
	o.PresharedKeys = m.one(5)
	if m.one(6) {
		o.Pins = []estate.Pin{{Site: pick(m, spokes...), Via: pick(m, hubs...)}}
	}
	if m.one(3) {
		o.Breakout = &estate.Breakout{Hubs: some(m, hubs), Sites: some(m, spokes)}
		if m.one(2) {
			o.Breakout.Except = []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24")}
		}
	}
	if m.one(3) {
		o.Probe = &estate.Probe{IntervalMs: 500, Misses: 2, Successes: 3, TimeoutMs: 400, Target: pick(m, "", estate.FarEnd, estate.FarLAN)}
	}
	if m.one(2) {
		o.Policy = m.policy(append(append([]string{}, hubs...), spokes...))
	}
	return o
}

func (m *mixer) policy(sites []string) *estate.Policy {
	p := &estate.Policy{Default: pick(m, estate.Permit, estate.Permit, estate.Deny)}
	side := func() estate.Party {
		switch m.random.IntN(4) {
		case 0:
			return estate.Party{Zone: pick(m, mixedZones...)}
		case 1:
			return estate.Party{Site: pick(m, sites...)}
		case 2:
			return estate.Party{Prefix: pick(m, netip.MustParsePrefix("10.16.0.0/14"), netip.MustParsePrefix("10.16.3.0/24"), netip.MustParsePrefix("fd3a:91c2:7::/48"))}
		}
		return estate.Party{}
	}
	for range 1 + m.random.IntN(4) {
		r := estate.Rule{Action: pick(m, estate.Permit, estate.Deny), From: side(), To: side(), Protocol: pick(m, "", "any", "tcp", "udp", "icmp")}
		if r.Protocol == "tcp" || r.Protocol == "udp" {
			r.Ports = pick(m, nil, []string{"443"}, []string{"0-1023", "8000-8080"})
		}
		p.Rules = append(p.Rules, r)
	}
	return p
}

// share lets a site's subnets take part in the overlays it is a member of.
func (m *mixer) share(s *estate.Site) {
	for i := range s.Subnets {
		for j := range m.e.Overlays {
			if o := &m.e.Overlays[j]; !m.one(5) {
				s.Subnets[i].Share = append(s.Subnets[i].Share, o.Key)
			}
		}
	}
}
