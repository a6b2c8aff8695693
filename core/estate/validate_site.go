package estate

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

func (v *validator) site(path string, s *Site, regions, overlays map[string]bool) {
	v.name(path+".name", s.Name)
	if s.Region != "" && !regions[s.Region] {
		v.dangles(path+".region", "there is no region %q", brief(s.Region))
	}
	v.between(path+".demand_mbps", "demand", s.DemandMbps, 0, 1e6)
	v.gateway(path+".gateway", &s.Gateway)
	links := map[string]bool{}
	for i := range s.Links {
		at := fmt.Sprintf("%s.links[%d]", path, i)
		v.key(at+".key", s.Links[i].Key, "link", links)
		v.link(at, &s.Links[i])
	}
	prefixes := map[netip.Prefix]bool{}
	for i := range s.Subnets {
		n := &s.Subnets[i]
		at := fmt.Sprintf("%s.subnets[%d]", path, i)
		v.prefix(at+".prefix", n.Prefix)
		if prefixes[n.Prefix] && n.Prefix.IsValid() {
			v.fail(at+".prefix", "%s is given twice at this site", n.Prefix)
		}
		prefixes[n.Prefix] = true
		if n.Zone != "" && !isKey(n.Zone) {
			v.fail(at+".zone", "%q cannot be a zone: 1 to 40 of a-z, 0-9 and -, not beginning with -", n.Zone)
		}
		v.name(at+".name", n.Name)
		for j, o := range n.Share {
			if !overlays[o] {
				v.dangles(fmt.Sprintf("%s.share[%d]", at, j), "there is no overlay %q", brief(o))
			}
			if slices.Index(n.Share, o) < j {
				v.fail(fmt.Sprintf("%s.share[%d]", at, j), "overlay %q is listed twice", o)
			}
		}
		if n.Map.IsValid() && (n.Map.Bits() != n.Prefix.Bits() || n.Map.Addr().Is4() != n.Prefix.Addr().Is4()) {
			v.fail(at+".map", "%s cannot stand for %s: a 1:1 map needs the same family and length", n.Map, n.Prefix)
		}
	}
}

func (v *validator) gateway(path string, g *Gateway) {
	choice(v, path+".placement", g.Placement, true, Inline, OneArmed)
	choice(v, path+".target", g.Target, true, TargetLinux, TargetRestconf)
	v.between(path+".max_tunnels", "tunnel limit", float64(g.MaxTunnels), 1, 65536)
	v.between(path+".throughput_mbps", "throughput", g.ThroughputMbps, 0, 1e6)
	v.between(path+".listen_port", "port", float64(g.ListenPort), 1, 65535)
	for i, t := range g.Transports {
		choice(v, fmt.Sprintf("%s.transports[%d]", path, i), t, false, WireGuard, IPsec)
	}
	for i, p := range g.UsedPorts {
		if p < 1 || p > 65535 {
			v.fail(fmt.Sprintf("%s.used_ports[%d]", path, i), "port %d is outside 1 to 65535", p)
		}
	}
	if g.LANDevice != "" && !deviceForm.MatchString(g.LANDevice) {
		v.fail(path+".lan_device", "%q is not an interface name of up to 15 characters", g.LANDevice)
	}
	v.address(path+".lan_address", g.LANAddress)
	v.address(path+".upstream", g.Upstream)
	v.address(path+".lan_address6", g.LANAddress6)
	v.address(path+".upstream6", g.Upstream6)
	for name, a := range map[string]netip.Addr{"lan_address6": g.LANAddress6, "upstream6": g.Upstream6} {
		if a.IsValid() && !a.Is6() {
			v.fail(path+"."+name, "%s is no IPv6 address", a)
		}
	}
	if g.Placement == OneArmed && !g.LANAddress.IsValid() {
		v.fail(path+".lan_address", "a one-armed gateway needs its address on the LAN, for its neighbour's routes")
	}
	for i, p := range g.Proposals {
		for _, name := range strings.Split(p, "/") {
			if TransformKind(name) == "" {
				v.fail(fmt.Sprintf("%s.proposals[%d]", path, i), "%q is not an IKEv2 transform name known here, such as ENCR_AES_GCM_16-256", name)
			}
		}
	}
	if g.PublicKey != "" {
		v.publicKey(path+".public_key", g.PublicKey)
	}
}

func (v *validator) publicKey(path, key string) {
	if _, err := ParseKey(key); err != nil {
		v.fail(path, "%v", err)
	} else if key != strings.TrimSpace(key) {
		v.fail(path, "there is space around the key; remove it")
	}
}

func (v *validator) link(path string, l *Link) {
	v.name(path+".provider", l.Provider)
	choice(v, path+".reach", l.Reach, false, Static, Dynamic, Forwarded, NAT)
	if l.Underlay != "" && !isKey(l.Underlay) {
		v.fail(path+".underlay", "%q cannot be an underlay: internet, or a name of a-z, 0-9 and -", l.Underlay)
	}
	for i, f := range l.Families {
		choice(v, fmt.Sprintf("%s.families[%d]", path, i), f, false, V4, V6)
	}
	if l.Hostname != "" && (!hostForm.MatchString(l.Hostname) || len(l.Hostname) > 253) {
		v.fail(path+".hostname", "%q is not a full host name such as gw.example.net", brief(l.Hostname))
	}
	switch {
	case l.Reach == Static && len(l.Addresses) == 0:
		v.fail(path+".addresses", "a static link needs its fixed address")
	case l.Reach == Dynamic && l.Hostname == "":
		v.fail(path+".hostname", "a dynamic link needs the host name under which it is found")
	case l.Reach == Forwarded && !l.Outside.IsValid():
		v.fail(path+".outside", "a forwarded link needs the outside address whose UDP ports are forwarded to it")
	}
	for i, p := range l.Forwards {
		if low, _, ok := parsePorts(p); !ok || low == 0 {
			v.fail(fmt.Sprintf("%s.forwards[%d]", path, i), "%q is not a port of 1 to 65535, or a range such as 51820-51839", brief(p))
		}
	}
	v.addresses(path+".addresses", l.Addresses)
	v.addresses(path+".next_hop", l.NextHop)
	v.address(path+".outside", l.Outside)
	for i, a := range l.Addresses {
		if a.IsUnspecified() || a.IsMulticast() {
			v.fail(fmt.Sprintf("%s.addresses[%d]", path, i), "%s cannot be a link's address", a)
		}
	}
	v.between(path+".rank", "rank", float64(l.Rank), 1, 99)
	v.between(path+".weight", "weight", float64(l.Weight), 1, MaxWeight)
	v.between(path+".down_mbps", "bandwidth", l.DownMbps, 0, 1e6)
	v.between(path+".up_mbps", "bandwidth", l.UpMbps, 0, 1e6)
	v.between(path+".mtu", "MTU", float64(l.MTU), 576, 9216)
	v.between(path+".availability", "availability in %", l.Availability, 0, 100)
	for i, group := range l.SharedFate {
		if !isKey(group) {
			v.fail(fmt.Sprintf("%s.shared_fate[%d]", path, i), "%q cannot name a shared fate: 1 to 40 of a-z, 0-9 and -, not beginning with -", group)
		}
	}
	for i, zone := range l.Zones {
		if !isKey(zone) {
			v.fail(fmt.Sprintf("%s.zones[%d]", path, i), "%q cannot be a zone: 1 to 40 of a-z, 0-9 and -, not beginning with -", zone)
		}
	}
	if l.Device != "" && !deviceForm.MatchString(l.Device) {
		v.fail(path+".device", "%q is not an interface name of up to 15 characters", l.Device)
	}
}
