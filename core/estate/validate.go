package estate

import (
	"fmt"
	"net/netip"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"wideknot/core/addr"
)

var (
	deviceForm = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.@-]{0,14}$`)
	hostForm   = regexp.MustCompile(`^([A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?\.)+[A-Za-z0-9-]{2,63}\.?$`)
)

// Validate lists what makes an estate unusable: keys of the wrong form or
// given twice, names that point nowhere, values outside their range. Risks and
// design errors in a usable estate are findings, not problems.
func Validate(e *Estate) []Problem {
	v := validator{}
	v.limits("", reflect.ValueOf(e), nil)
	if len(v.problems.list) > 0 {
		return v.problems.all() // nothing below is asked to go through such lists
	}
	if e.Format != Format {
		v.fail("wideknot", "this is format %d; this version reads format %d (\"wideknot: %d\")", e.Format, Format, Format)
	}
	v.name("estate.name", e.About.Name)
	regions := map[string]bool{}
	for i, r := range e.About.Regions {
		path := fmt.Sprintf("estate.regions[%d]", i)
		v.key(path+".key", r.Key, "region", regions)
		for j, b := range r.Blocks {
			v.prefix(fmt.Sprintf("%s.blocks[%d]", path, j), b)
		}
	}
	underlays := map[string]bool{}
	for i, u := range e.About.Underlays {
		path := fmt.Sprintf("estate.underlays[%d]", i)
		v.key(path+".key", u.Key, "underlay", underlays)
		for j, b := range u.Blocks {
			v.prefix(fmt.Sprintf("%s.blocks[%d]", path, j), b)
		}
	}
	for i, r := range e.About.Reserved {
		path := fmt.Sprintf("estate.reserved[%d]", i)
		v.prefix(path+".prefix", r.Prefix)
		if strings.TrimSpace(r.For) == "" {
			v.fail(path+".for", "say what %s is kept for", r.Prefix)
		}
		v.name(path+".for", r.For)
	}
	shed := map[string]bool{}
	for i, zone := range e.About.Shed {
		if !isKey(zone) || shed[zone] {
			v.fail(fmt.Sprintf("estate.shed[%d]", i), "%q must be a zone, each once", zone)
		}
		shed[zone] = true
	}
	overlays := map[string]bool{}
	for i := range e.Overlays {
		v.key(fmt.Sprintf("overlays[%d].key", i), e.Overlays[i].Key, "overlay", overlays)
	}
	sites := map[string]bool{}
	for i := range e.Sites {
		s := &e.Sites[i]
		path := fmt.Sprintf("sites[%d]", i)
		v.key(path+".key", s.Key, "site", sites)
		v.site(path, s, regions, overlays)
	}
	for i := range e.Overlays {
		v.overlay(fmt.Sprintf("overlays[%d]", i), &e.Overlays[i], sites, e)
	}
	v.allocations("allocations", &e.Allocations)
	return v.problems.all()
}

// ValidateSites lists what Validate would of an estate that was valid before the
// sites of these keys were replaced by others of the same keys, and nothing else.
func ValidateSites(e *Estate, replaced map[string]bool) []Problem {
	v := validator{}
	each := func(visit func(path string, s *Site)) {
		for i := range e.Sites {
			if replaced[e.Sites[i].Key] {
				visit(fmt.Sprintf("sites[%d]", i), &e.Sites[i])
			}
		}
	}
	each(func(path string, s *Site) { v.limits(path, reflect.ValueOf(s), nil) })
	if len(v.problems.list) > 0 {
		return v.problems.all()
	}
	regions, overlays := e.names()
	each(func(path string, s *Site) { v.site(path, s, regions, overlays) })
	return v.problems.all()
}

// ValidateSite lists what is wrong with one site of the estate; paths are
// relative to the site.
func ValidateSite(e *Estate, s *Site) []Problem {
	v := validator{}
	if v.limits("", reflect.ValueOf(s), nil); len(v.problems.list) > 0 {
		return v.problems.all()
	}
	v.key("key", s.Key, "site", map[string]bool{})
	regions, overlays := e.names()
	v.site("", s, regions, overlays)
	return v.problems.all()
}

// names returns the keys that sites may point to.
func (e *Estate) names() (regions, overlays map[string]bool) {
	regions, overlays = map[string]bool{}, map[string]bool{}
	for _, r := range e.About.Regions {
		regions[r.Key] = true
	}
	for i := range e.Overlays {
		overlays[e.Overlays[i].Key] = true
	}
	return regions, overlays
}

// ValidateOverlay lists what is wrong with one overlay of the estate; paths
// are relative to the overlay.
func ValidateOverlay(e *Estate, o *Overlay) []Problem {
	v := validator{}
	if v.limits("", reflect.ValueOf(o), nil); len(v.problems.list) > 0 {
		return v.problems.all()
	}
	v.key("key", o.Key, "overlay", map[string]bool{})
	sites := map[string]bool{}
	for i := range e.Sites {
		sites[e.Sites[i].Key] = true
	}
	v.overlay("", o, sites, e)
	return v.problems.all()
}

type validator struct{ problems problemList }

func (v *validator) fail(path, format string, args ...any) {
	if v.problems.takes() {
		v.problems.add(Problem{Path: strings.TrimPrefix(path, "."), Message: fmt.Sprintf(format, args...)})
	}
}

// dangles says that a name points nowhere.
func (v *validator) dangles(path, format string, args ...any) {
	if v.problems.takes() {
		v.problems.add(Problem{Path: strings.TrimPrefix(path, "."), Message: fmt.Sprintf(format, args...), dangling: true})
	}
}

// address refuses what addr.ParseAddr would.
func (v *validator) address(path string, a netip.Addr) {
	if err := addr.CheckAddr(a); err != nil {
		v.fail(path, "%v", err)
	}
}

func (v *validator) addresses(path string, list []netip.Addr) {
	for i, a := range list {
		v.address(fmt.Sprintf("%s[%d]", path, i), a)
	}
}

func (v *validator) prefix(path string, p netip.Prefix) {
	if !p.IsValid() {
		v.fail(path, "a prefix is missing; write it as ADDRESS/LENGTH, such as 10.16.4.0/24")
	}
}

func (v *validator) between(path, what string, n, low, high float64) {
	if n != 0 && (n < low || n > high) {
		v.fail(path, "%s %v is outside %v to %v", what, n, low, high)
	}
}

func choice[T ~string](v *validator, path string, value T, optional bool, known ...T) {
	if value == "" && optional || slices.Contains(known, value) {
		return
	}
	words := make([]string, len(known))
	for i, k := range known {
		words[i] = string(k)
	}
	v.fail(path, "%q is not one of %s", brief(string(value)), strings.Join(words, ", "))
}

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
				v.fail(fmt.Sprintf("%s.share[%d]", at, j), "overlay %q stands twice", o)
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

func (v *validator) overlay(path string, o *Overlay, sites map[string]bool, e *Estate) {
	choice(v, path+".shape", o.Shape, false, HubAndSpoke, FullMesh, Custom)
	choice(v, path+".transport", o.Transport, true, WireGuard, IPsec)
	choice(v, path+".numbering", o.Numbering, true, PerTunnel, PerSite)
	choice(v, path+".pairing", o.Pairing, true, Every, Matched, TopN)
	choice(v, path+".family", o.Family, true, V4, V6)
	if o.Pairing == TopN && o.PairingLimit < 1 {
		v.fail(path+".pairing_limit", "pairing top-n needs how many tunnels to keep, at least 1")
	}
	for i, p := range o.Transit {
		v.prefix(fmt.Sprintf("%s.transit[%d]", path, i), p)
	}
	known := func(at, key string) bool {
		if !sites[key] {
			v.dangles(at, "there is no site %q", brief(key))
		}
		return sites[key]
	}
	once := func(at string, list []string) {
		seen := make(map[string]bool, len(list))
		for i, key := range list {
			if seen[key] {
				v.fail(fmt.Sprintf("%s[%d]", at, i), "site %q stands twice", brief(key))
			}
			seen[key] = true
		}
	}
	hubs := make(map[string]bool, len(o.Hubs))
	for _, key := range o.Hubs {
		hubs[key] = true
	}
	for i, key := range o.Hubs {
		known(fmt.Sprintf("%s.hubs[%d]", path, i), key)
	}
	once(path+".hubs", o.Hubs)
	if o.Shape != FullMesh && len(o.Hubs) == 0 && len(o.Spokes) > 0 {
		v.fail(path+".hubs", "overlay %q has spokes but no hub; give it at least one", o.Key)
	}
	spokes := map[string]bool{}
	for i, s := range o.Spokes {
		at := fmt.Sprintf("%s.spokes[%d]", path, i)
		if known(at+".site", s.Site) {
			if hubs[s.Site] {
				v.fail(at+".site", "site %q is a hub of this overlay and cannot be its spoke too", s.Site)
			}
			if spokes[s.Site] {
				v.fail(at+".site", "site %q stands twice among the spokes", s.Site)
			}
			spokes[s.Site] = true
		}
		for j, hub := range s.Hubs {
			if !hubs[hub] {
				v.dangles(fmt.Sprintf("%s.hubs[%d]", at, j), "site %q is not a hub of this overlay", brief(hub))
			}
		}
		once(at+".hubs", s.Hubs)
	}
	for i, pair := range o.Direct {
		at := fmt.Sprintf("%s.direct[%d]", path, i)
		if len(pair) != 2 || pair[0] == pair[1] {
			v.fail(at, "a direct pair names two different sites")
			continue
		}
		known(at+"[0]", pair[0])
		known(at+"[1]", pair[1])
	}
	if c := o.Costs; c != nil {
		v.between(path+".costs.hub_step", "cost", float64(c.HubStep), 1, 100000)
		v.between(path+".costs.hub_hub", "cost", float64(c.HubHub), 1, 100000)
		v.between(path+".costs.direct", "cost", float64(c.Direct), 1, 100000)
	}
	v.between(path+".keepalive_s", "keepalive in seconds", float64(o.KeepaliveS), 1, 3600)
	for i, t := range o.TunnelOrder {
		at := fmt.Sprintf("%s.tunnel_order[%d]", path, i)
		if len(t.Between) != 2 || t.Between[0] == t.Between[1] {
			v.fail(at+".between", "an order of tunnels is between two sites")
			continue
		}
		known(at+".between[0]", t.Between[0])
		known(at+".between[1]", t.Between[1])
		for j, tunnel := range t.First {
			if !isIdent(tunnel) {
				v.fail(fmt.Sprintf("%s.first[%d]", at, j), "%q is not a tunnel, written as SITE/LINK SITE/LINK", brief(tunnel))
			}
		}
	}
	for i, pin := range o.Pins {
		at := fmt.Sprintf("%s.pins[%d]", path, i)
		if known(at+".site", pin.Site) && known(at+".via", pin.Via) && pin.Site == pin.Via {
			v.fail(at+".via", "a site cannot be its own neighbour")
		}
	}
	if o.PresharedKeys && o.Transport == IPsec {
		v.fail(path+".preshared_keys", "pre-shared keys per tunnel are for WireGuard; IPsec ends prove who they are with their own credentials")
	}
	v.crypto(path+".crypto", o.Crypto)
	if p := o.Probe; p != nil {
		choice(v, path+".probe.target", p.Target, true, FarEnd, FarLAN)
		v.between(path+".probe.interval_ms", "interval in ms", float64(p.IntervalMs), 100, 60000)
		v.between(path+".probe.timeout_ms", "timeout in ms", float64(p.TimeoutMs), 50, 60000)
		v.between(path+".probe.misses", "misses", float64(p.Misses), 1, 20)
		v.between(path+".probe.successes", "successes", float64(p.Successes), 1, 100)
	}
	if o.Breakout != nil {
		for i, key := range o.Breakout.Hubs {
			if !hubs[key] {
				v.dangles(fmt.Sprintf("%s.breakout.hubs[%d]", path, i), "site %q is not a hub of this overlay", brief(key))
			}
		}
		for i, key := range o.Breakout.Sites {
			known(fmt.Sprintf("%s.breakout.sites[%d]", path, i), key)
		}
	}
	links := make(map[string]int, len(e.Sites))
	for i := range e.Sites {
		for j := range e.Sites[i].Links {
			if !e.Sites[i].Links[j].NoTunnels {
				links[e.Sites[i].Key]++
			}
		}
	}
	if n := o.candidates(func(site string) int { return links[site] }); n > MaxTunnels {
		v.fail(path, "overlay %q joins %d pairs of links; the most is %d. Join fewer sites directly, or let fewer links carry tunnels", o.Key, n, MaxTunnels)
	}
	if o.Policy != nil {
		choice(v, path+".policy.default", o.Policy.Default, false, Permit, Deny)
		for i, r := range o.Policy.Rules {
			v.rule(fmt.Sprintf("%s.policy.rules[%d]", path, i), r, known)
		}
	}
}

var portForm = regexp.MustCompile(`^([0-9]{1,5})(?:-([0-9]{1,5}))?$`)

// parsePorts reads a port or a range of 0 to 65535.
func parsePorts(text string) (low, high int, ok bool) {
	m := portForm.FindStringSubmatch(text)
	if m == nil {
		return 0, 0, false
	}
	low, _ = strconv.Atoi(m[1]) // its form is a number's
	if high = low; m[2] != "" {
		high, _ = strconv.Atoi(m[2])
	}
	return low, high, low <= high && high <= 65535
}

func (v *validator) rule(path string, r Rule, known func(at, key string) bool) {
	choice(v, path+".action", r.Action, false, Permit, Deny)
	choice(v, path+".protocol", r.Protocol, true, "any", "tcp", "udp", "icmp")
	if r.From.Site != "" {
		known(path+".from.site", r.From.Site)
	}
	if r.To.Site != "" {
		known(path+".to.site", r.To.Site)
	}
	for _, side := range []struct{ name, zone string }{{"from", r.From.Zone}, {"to", r.To.Zone}} {
		if side.zone != "" && !isKey(side.zone) {
			v.fail(path+"."+side.name+".zone", "%q cannot be a zone: %s", brief(side.zone), keyTrouble(side.zone))
		}
	}
	for i, p := range r.Ports {
		if _, _, ok := parsePorts(p); !ok {
			v.fail(fmt.Sprintf("%s.ports[%d]", path, i), "%q is not a port of 0 to 65535, or a range of them in order, such as 8000-8080", brief(p))
		}
	}
	if len(r.Ports) > 0 && r.Protocol != "tcp" && r.Protocol != "udp" {
		v.fail(path+".protocol", "ports need the protocol tcp or udp")
	}
}
