package estate

import (
	"fmt"
	"regexp"
	"strconv"
)

// overlay lists what is wrong with an overlay of an estate with these sites.
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
	v.between(path+".keepalive_s", "keepalive in seconds", float64(o.KeepaliveS), 1, 3600)
	if o.PresharedKeys && o.Transport == IPsec {
		v.fail(path+".preshared_keys", "preshared_keys is for WireGuard; tunnels of IPsec always have one each")
	}
	v.crypto(path+".crypto", o.Crypto)
	if c := o.Costs; c != nil {
		v.between(path+".costs.hub_step", "cost", float64(c.HubStep), 1, 100000)
		v.between(path+".costs.hub_hub", "cost", float64(c.HubHub), 1, 100000)
		v.between(path+".costs.direct", "cost", float64(c.Direct), 1, 100000)
	}
	if p := o.Probe; p != nil {
		choice(v, path+".probe.target", p.Target, true, FarEnd, FarLAN)
		v.between(path+".probe.interval_ms", "interval in ms", float64(p.IntervalMs), 100, 60000)
		v.between(path+".probe.timeout_ms", "timeout in ms", float64(p.TimeoutMs), 50, 60000)
		v.between(path+".probe.misses", "misses", float64(p.Misses), 1, 20)
		v.between(path+".probe.successes", "successes", float64(p.Successes), 1, 100)
		v.limited(path+".probe.limits", p)
	}
	m := membership{v, path, o, sites, make(map[string]bool, len(o.Hubs))}
	for _, key := range o.Hubs {
		m.hubs[key] = true
	}
	m.roles()
	m.direct()
	m.order()
	m.pins()
	m.breakout()
	v.candidates(path, o, e)
	if o.Policy != nil {
		choice(v, path+".policy.default", o.Policy.Default, false, Permit, Deny)
		for i, r := range o.Policy.Rules {
			v.rule(fmt.Sprintf("%s.policy.rules[%d]", path, i), r, m.known)
		}
	}
}

// candidates refuses an overlay of more pairs of links than are derived.
func (v *validator) candidates(path string, o *Overlay, e *Estate) {
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
}

// A membership checks what an overlay says of sites by their keys.
type membership struct {
	v           *validator
	path        string
	o           *Overlay
	sites, hubs map[string]bool
}

// known reports whether there is such a site.
func (m *membership) known(at, key string) bool {
	if !m.sites[key] {
		m.v.dangles(at, "there is no site %q", brief(key))
	}
	return m.sites[key]
}

// hub refuses what is no hub of the overlay.
func (m *membership) hub(at, key string) {
	if !m.hubs[key] {
		m.v.dangles(at, "site %q is not a hub of this overlay", brief(key))
	}
}

// once refuses a list that names a site twice.
func (m *membership) once(at string, list []string) {
	seen := make(map[string]bool, len(list))
	for i, key := range list {
		if seen[key] {
			m.v.fail(fmt.Sprintf("%s[%d]", at, i), "site %q is listed twice", brief(key))
		}
		seen[key] = true
	}
}

func (m *membership) roles() {
	for i, key := range m.o.Hubs {
		m.known(fmt.Sprintf("%s.hubs[%d]", m.path, i), key)
	}
	m.once(m.path+".hubs", m.o.Hubs)
	if m.o.Shape != FullMesh && len(m.o.Hubs) == 0 && len(m.o.Spokes) > 0 {
		m.v.fail(m.path+".hubs", "overlay %q has spokes but no hub; give it at least one", m.o.Key)
	}
	spokes := map[string]bool{}
	for i, s := range m.o.Spokes {
		at := fmt.Sprintf("%s.spokes[%d]", m.path, i)
		if m.known(at+".site", s.Site) {
			if m.hubs[s.Site] {
				m.v.fail(at+".site", "site %q is a hub of this overlay and cannot be its spoke too", s.Site)
			}
			if spokes[s.Site] {
				m.v.fail(at+".site", "site %q is listed twice among the spokes", s.Site)
			}
			spokes[s.Site] = true
		}
		for j, hub := range s.Hubs {
			m.hub(fmt.Sprintf("%s.hubs[%d]", at, j), hub)
		}
		m.once(at+".hubs", s.Hubs)
	}
}

func (m *membership) direct() {
	for i, pair := range m.o.Direct {
		at := fmt.Sprintf("%s.direct[%d]", m.path, i)
		if len(pair) != 2 || pair[0] == pair[1] {
			m.v.fail(at, "a direct pair names two different sites")
			continue
		}
		m.known(at+"[0]", pair[0])
		m.known(at+"[1]", pair[1])
	}
}

func (m *membership) order() {
	for i, t := range m.o.TunnelOrder {
		at := fmt.Sprintf("%s.tunnel_order[%d]", m.path, i)
		if len(t.Between) != 2 || t.Between[0] == t.Between[1] {
			m.v.fail(at+".between", "an order of tunnels is between two sites")
			continue
		}
		m.known(at+".between[0]", t.Between[0])
		m.known(at+".between[1]", t.Between[1])
		for j, tunnel := range t.First {
			if !isIdent(tunnel) {
				m.v.fail(fmt.Sprintf("%s.first[%d]", at, j), "%q is not a tunnel, written as SITE/LINK SITE/LINK", brief(tunnel))
			}
		}
	}
}

func (m *membership) pins() {
	for i, pin := range m.o.Pins {
		at := fmt.Sprintf("%s.pins[%d]", m.path, i)
		if m.known(at+".site", pin.Site) && m.known(at+".via", pin.Via) && pin.Site == pin.Via {
			m.v.fail(at+".via", "a site cannot be its own neighbour")
		}
	}
}

func (m *membership) breakout() {
	if m.o.Breakout == nil {
		return
	}
	for i, key := range m.o.Breakout.Hubs {
		m.hub(fmt.Sprintf("%s.breakout.hubs[%d]", m.path, i), key)
	}
	for i, key := range m.o.Breakout.Sites {
		m.known(fmt.Sprintf("%s.breakout.sites[%d]", m.path, i), key)
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
