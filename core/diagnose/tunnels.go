package diagnose

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/core/words"
)

// A side is one end of a tunnel: what it is to be, and what is seen of it.
type side struct {
	site  int
	key   string
	g     *Gateway
	link  *estate.Link
	port  *tunnel.Port
	is    *gateway.Tunnel // in the configuration in force; nil where that is not known
	state *gateway.TunnelState
	look  *gateway.LookedTunnel
	wan   *gateway.LinkState
}

func (d *diagnoser) side(p *tunnel.Port) *side {
	key := d.key(p.Site)
	g := d.Of(key)
	out := &side{site: p.Site, key: key, g: g, link: d.plan.Link(p), port: p, state: d.tunnelState(key, p.Interface), look: g.Looked.Of(p.Interface)}
	if g.Wants != nil {
		out.is = g.Wants.Tunnel(p.Interface)
	}
	out.wan = d.linkState(key, out.link.Key)
	return out
}

// name is the side's link as people say it.
func (s *side) name() string { return s.key + " (" + s.link.Key + ")" }

// calls reports whether the end calls the other.
func (s *side) calls() bool { return s.port.Calls }

// outside are the addresses by which the end is called or heard.
func (s *side) outside() (out []netip.Addr) {
	if s.wan != nil {
		if s.wan.SeenOutside.IsValid() {
			out = append(out, s.wan.SeenOutside)
		}
		if s.link.Reach != estate.Forwarded && s.link.Reach != estate.NAT {
			out = append(out, s.wan.Addresses...)
		}
	}
	return out
}

// mostDead bounds how many dead tunnels are looked into at once.
const mostDead = 6

// lookFor is how long dead tunnels are looked at, in ms: each calls every 5 s.
const lookFor = 6000

// seeTunnels looks into the tunnels of the path: those of the design, and where none of them
// carries those beside them.
func (d *diagnoser) seeTunnels() {
	var dead []*tunnel.Tunnel
	seen := map[*tunnel.Tunnel]bool{}
	visit := func(t *tunnel.Tunnel) {
		if !seen[t] {
			seen[t] = true
			if d.dead(t) && len(dead) < mostDead {
				dead = append(dead, t)
			}
		}
	}
	for _, w := range []*route.Walk{&d.design.Forward, d.design.Return} {
		if w == nil {
			continue
		}
		for i := range w.Steps {
			visit(w.Steps[i].Tunnel)
		}
	}
	for i := range d.out.Steps {
		s := &d.out.Steps[i]
		if s.Kind != "tunnel" {
			continue
		}
		switch {
		case !s.Ends[0].Seen && !s.Ends[1].Seen:
			s.Verdict = Unseen
		case slices.ContainsFunc(s.Ends, func(e EndSeen) bool { return e.Seen && !e.Up }):
			s.Verdict, s.Said = Fails, "dead"
		default:
			s.Verdict = Arrives
		}
	}
	if !d.now.Arrives() { // what might carry instead does not either
		for i := range d.design.Forward.Steps {
			_, a, _ := d.plan.At(d.design.Forward.Steps[i].Hop.End)
			for j := range a.Tunnels {
				visit(&a.Tunnels[j])
			}
		}
	}
	for _, t := range dead {
		d.examine(t)
	}
}

// examine looks for why a tunnel is dead.
func (d *diagnoser) examine(t *tunnel.Tunnel) {
	a, b := d.side(&t.A), d.side(&t.B)
	for _, s := range []*side{a, b} {
		if s.state != nil && s.state.Held {
			d.cause(Cause{
				Code: Drilled, Sure: Sure, Site: s.key, Link: s.link.Key, Tunnel: s.port.Interface, Words: "a drill holds the tunnel from " + a.name() + " to " + b.name() + " down",
				Evidence: []string{"the gateway of " + s.key + " says so"},
				Repair:   Cure{Words: "It comes back by itself; the page of drills lets it go at once.", Where: "watch", Site: s.key},
			})
			return
		}
	}
	for _, s := range []*side{a, b} {
		if s.state != nil && s.state.SteadyIn > 0 {
			d.cause(Cause{
				Code: Flapping, Sure: Sure, Site: s.key, Link: s.link.Key, Tunnel: s.port.Interface, Words: "the tunnel from " + a.name() + " to " + b.name() + " came and went, and is kept out until it is steady",
				Evidence: []string{"its probes are answered again", fmt.Sprintf("the gateway of %s takes it back in %d s, unless it dies again", s.key, s.state.SteadyIn)},
				Repair:   Cure{Words: "It comes back by itself. Where it goes on, see why its circuits come and go: Over time shows when.", Where: "watch", Site: s.key},
			})
			return
		}
	}
	if !a.g.Up || !b.g.Up { // the one that is not there may explain it: seeGateways says so
		d.circuits(a)
		d.circuits(b)
		return
	}
	before := len(d.out.Causes)
	if circuit := d.circuits(a); d.circuits(b) || circuit {
		return
	}
	for _, s := range []*side{a, b} {
		if s.is != nil && d.deviates(s.site, Sure) {
			return
		}
	}
	for _, find := range []func(a, b *side) bool{d.devices, d.endpoints, d.clocks} {
		if there, back := find(a, b), find(b, a); there || back {
			return
		}
	}
	if a.look == nil || b.look == nil {
		d.lookAt(a, true)
		d.lookAt(b, true)
	} else if d.arrivals(a, b) {
		return
	}
	if len(d.out.Causes) == before {
		d.cause(Cause{
			Code: TunnelDead, Sure: Possible, Site: a.key, Link: a.link.Key, Tunnel: a.port.Interface,
			Words: fmt.Sprintf("the tunnel from %s to %s is dead, and what is seen does not say why", a.name(), b.name()),
			Repair: Cure{
				Words: "Look at both its ends.", Where: "watch", Site: a.key,
			},
		})
	}
}

// lookAt has a gateway look at a tunnel.
func (d *diagnoser) lookAt(s *side, dead bool) {
	if dead {
		d.look(s.key, s.port.Interface, lookFor)
		d.want(s.key).Look.Knock = true
		return
	}
	d.look(s.key, s.port.Interface, 0)
}

// look has a gateway look at a tunnel, or at none, for so many ms at least.
func (d *diagnoser) look(site, name string, ms int) {
	w := d.want(site)
	if w.Look == nil {
		w.Look = &gateway.Look{}
	}
	w.Look.For = max(w.Look.For, ms)
	if name != "" && !slices.Contains(w.Look.Interfaces, name) && len(w.Look.Interfaces) < gateway.MaxLooks {
		w.Look.Interfaces = append(w.Look.Interfaces, name)
	}
}

// onLink says how many tunnels of a link live, and how many there are.
func (d *diagnoser) onLink(s *side) (alive, all int) {
	for _, e := range d.plan.Ends(s.site) {
		local, _ := d.plan.Sides(e)
		if local.Link != s.port.Link {
			continue
		}
		if t := d.tunnelState(s.key, local.Interface); t != nil {
			if all++; t.Up {
				alive++
			}
		}
	}
	return alive, all
}

// circuits looks whether the WAN link at an end is the cause: it is dead, or carries no UDP. That
// a name service or a next hop does not answer proves nothing alone, as some never do.
func (d *diagnoser) circuits(s *side) bool {
	if s.wan == nil || !s.g.Up {
		return false
	}
	alive, all := d.onLink(s)
	if alive > 0 || all == 0 {
		return false
	}
	none := fmt.Sprintf("all %d tunnels of %s are dead", all, s.name())
	if all == 1 {
		none = "its one tunnel is dead"
	}
	internet := s.link.UnderlayOf() == estate.Internet
	hop := false // somebody asks its next hop
	if s.g.Wants != nil {
		l := s.g.Wants.Link(s.link.Key)
		hop = l != nil && l.Device != "" && len(l.NextHops) > 0
	}
	looked := s.g.Looked != nil && s.g.Looked.For >= lookFor
	others := d.othersLive(s)
	switch {
	case internet && s.wan.NamesUp && looked:
		return false // UDP gets through
	case hop && !s.wan.NextHopUp:
		c := Cause{
			Code: CircuitDead, Sure: Sure, Site: s.key, Link: s.link.Key, Words: fmt.Sprintf("the circuit %s of %s is dead", s.link.Key, s.key),
			Evidence: []string{"its next hop does not answer", none}, Repair: Cure{Words: "Tell " + orCarrier(s.link.Provider) + "; until it is back the other tunnels carry."},
		}
		if others == 0 {
			c.Sure = Likely // its only far ends are in trouble, too
		}
		c.Evidence = append(c.Evidence, d.together(s)...)
		d.cause(c)
	case !looked:
		d.lookAt(s, true)
		return false
	case others == 0 || d.heardAny(s):
		return false
	case !hop:
		d.cause(Cause{
			Code: CircuitDead, Sure: Likely, Site: s.key, Link: s.link.Key, Words: fmt.Sprintf("the circuit %s of %s carries nothing: it is dead, or lets no UDP through", s.link.Key, s.key),
			Evidence: []string{none, "no datagram of any far end of it arrived while it was looked at"},
			Repair:   Cure{Words: "Enter its next hop in Survey, so that the gateway can ask that; and tell " + orCarrier(s.link.Provider) + ".", Where: "survey", Site: s.key},
		})
	default:
		d.blocked(s, others, internet, none)
	}
	return true
}

// blocked says that no UDP gets through on a circuit whose next hop answers.
func (d *diagnoser) blocked(s *side, others int, internet bool, none string) {
	c := Cause{
		Code: UDPBlocked, Sure: Likely, Site: s.key, Link: s.link.Key, Words: fmt.Sprintf("%s lets no UDP through on %s", orCarrier(s.link.Provider), s.name()),
		Evidence: []string{"its next hop answers", none, "no datagram of any far end of it arrived while it was looked at", words.Many(others, "of its far ends has", "of its far ends have") + " other tunnels that live"},
		Repair:   Cure{Words: "Have " + orCarrier(s.link.Provider) + " let UDP through, for the ports of the tunnels at least."},
	}
	if internet {
		c.Evidence = append(c.Evidence, "no name service answers by it, which is asked over UDP")
		if others > 1 {
			c.Sure = Sure
		}
	}
	d.cause(c)
}

// othersLive counts the gateways at the far ends of a circuit that have living tunnels elsewhere.
func (d *diagnoser) othersLive(s *side) int {
	sites := map[int]bool{}
	for _, e := range d.plan.Ends(s.site) {
		local, remote := d.plan.Sides(e)
		if g := d.Of(d.key(remote.Site)); local.Link != s.port.Link || !g.Up || sites[remote.Site] {
			continue
		} else if g.Well || g.State != nil && slices.ContainsFunc(g.State.Tunnels, func(t gateway.TunnelState) bool { return t.Up }) {
			sites[remote.Site] = true
		}
	}
	return len(sites)
}

// carriers names those of both ends, once.
func carriers(a, b *side) string {
	x, y := orCarrier(a.link.Provider), orCarrier(b.link.Provider)
	if x == y {
		return x
	}
	return x + " and " + y
}

func orCarrier(provider string) string {
	if provider == "" {
		return "the carrier"
	}
	return provider
}

// together names what else of the same carrier or fate is dead.
func (d *diagnoser) together(s *side) (out []string) {
	count := map[string]int{}
	for i := range d.plan.Estate.Sites {
		site := &d.plan.Estate.Sites[i]
		for j := range site.Links {
			l := &site.Links[j]
			if site.Key == s.key && l.Key == s.link.Key {
				continue
			}
			if w := d.linkState(site.Key, l.Key); w == nil || w.NextHopUp || !d.Of(site.Key).Up {
				continue
			}
			for _, f := range l.SharedFate {
				if slices.Contains(s.link.SharedFate, f) {
					count["that share "+f]++
				}
			}
			if l.Provider != "" && l.Provider == s.link.Provider {
				count["of "+l.Provider]++
			}
		}
	}
	for what, n := range count {
		out = append(out, fmt.Sprintf("%s %s dead too", words.Many(n, "other circuit", "other circuits"), what))
	}
	slices.Sort(out)
	return out
}

// heardAny reports whether anything of WireGuard arrived by a link while it was looked at: at a
// port of one of its tunnels.
func (d *diagnoser) heardAny(s *side) bool {
	if s.g.Looked == nil || s.g.Wants == nil {
		return true
	}
	return slices.ContainsFunc(s.g.Looked.Arrivals, func(a gateway.Arrived) bool {
		return a.Message != gateway.Else && slices.ContainsFunc(s.g.Wants.Tunnels, func(t gateway.Tunnel) bool {
			return t.Link == s.link.Key && t.WireGuard != nil && t.WireGuard.Port == a.Port
		})
	})
}

// devices looks whether the device at one end is what its configuration says.
func (d *diagnoser) devices(s, far *side) bool {
	l := s.look
	if l == nil || s.is == nil || s.is.WireGuard == nil {
		return false
	}
	hand := Cure{Words: "Somebody changed it there by hand: let the gateway apply its configuration anew, or restart its agent.", Where: "watch", Site: s.key}
	base := Cause{Sure: Sure, Site: s.key, Link: s.link.Key, Tunnel: s.port.Interface, Repair: hand}
	others := far.g.Offers
	switch {
	case l.Missing:
		base.Code, base.Words = ByHand, fmt.Sprintf("the gateway of %s has no device %s", s.key, s.port.Interface)
	case !slices.ContainsFunc(s.is.WireGuard.Keys(), func(k string) bool { return slices.Contains(l.Peers, k) }):
		base.Code, base.Words = WrongKey, fmt.Sprintf("%s at %s knows its far end by another key than the design says", s.port.Interface, s.key)
		base.Evidence = []string{"its peer's key is " + strings.Join(l.Peers, ", ") + ", and is to be " + s.is.WireGuard.PublicKey}
	case far.look != nil && far.look.PublicKey != "" && !slices.Contains(l.Peers, far.look.PublicKey),
		far.look == nil && others != nil && others.PublicKey != "" && !slices.Contains(l.Peers, others.PublicKey) && !slices.Contains(l.Peers, others.NextKey):
		base.Code, base.Words = WrongKey, fmt.Sprintf("the design has another key for %s than its gateway uses", far.key)
		base.Evidence = []string{fmt.Sprintf("%s knows %s by %s", s.key, far.key, strings.Join(l.Peers, ", "))}
		if far.look == nil {
			base.Sure = Likely // by what it offered last
		} else {
			base.Evidence = append(base.Evidence, "the gateway of "+far.key+" uses "+far.look.PublicKey)
		}
		base.Site, base.Tunnel = far.key, far.port.Interface
		base.Repair = Cure{Words: "Take the key that the gateway offers, in Survey, and release it.", Where: "survey", Site: far.key}
	case l.OtherSecret:
		base.Code, base.Words = WrongSecret, fmt.Sprintf("%s at %s has another pre-shared key than it was told", s.port.Interface, s.key)
		base.Evidence = []string{"its device does not have the key that the gateway was given for it"}
	case s.lacks(d.packet.To) || s.lacks(d.fromSeen):
		base.Code, base.Words = LacksPrefix, fmt.Sprintf("%s at %s does not let its far end have %s", s.port.Interface, s.key, l.Lacks[0])
		base.Evidence = []string{fmt.Sprintf("the allowed prefixes of its device lack %v", l.Lacks)}
	case l.Port != 0 && l.Port != s.is.WireGuard.Port:
		base.Code, base.Words = ByHand, fmt.Sprintf("%s at %s listens at port %d instead of %d", s.port.Interface, s.key, l.Port, s.is.WireGuard.Port)
	default:
		return false
	}
	d.cause(base)
	return true
}

// lacks reports whether an address is among what the device does not allow its far end, though
// it is to.
func (s *side) lacks(at netip.Addr) bool {
	return s.look != nil && slices.ContainsFunc(s.look.Lacks, func(p netip.Prefix) bool { return p.Contains(at) })
}

// endpoints looks whether one end calls where the other is.
func (d *diagnoser) endpoints(s, far *side) bool {
	if !s.calls() || s.is == nil || s.is.WireGuard == nil || s.is.WireGuard.Endpoint == "" || far.wan == nil {
		return false
	}
	calls := netip.AddrPort{}
	switch {
	case s.look != nil && s.look.Endpoint.IsValid():
		calls = s.look.Endpoint
	case s.state != nil:
		calls = s.state.Endpoint
	}
	at, literal := netip.ParseAddrPort(s.is.WireGuard.Endpoint)
	if !calls.IsValid() && literal == nil {
		calls = at
	}
	is := far.outside()
	if !calls.IsValid() || len(is) == 0 || slices.Contains(is, calls.Addr()) || !slices.ContainsFunc(is, func(a netip.Addr) bool { return a.Is4() == calls.Addr().Is4() }) {
		return false
	}
	c := Cause{
		Code: StaleAddress, Sure: Sure, Site: far.key, Link: far.link.Key,
		Words:    fmt.Sprintf("%s has another address than the one at which %s calls it", far.name(), s.key),
		Evidence: []string{fmt.Sprintf("%s calls %s", s.key, calls), fmt.Sprintf("the gateway of %s has %s by %s", far.key, join(is), far.link.Key)},
		Repair:   Cure{Words: "Take the address that its gateway offers, in Survey, and release it.", Where: "survey", Site: far.key},
	}
	if !far.wan.SeenOutside.IsValid() {
		if slices.IndexFunc(is, func(a netip.Addr) bool { return !a.IsPrivate() }) < 0 && !calls.Addr().IsPrivate() {
			return false // it is behind a translation that the survey does not know
		}
		c.Sure = Likely // nobody outside says by which address it is seen
	}
	if literal != nil {
		if s.look == nil {
			d.lookAt(s, true)
			return false
		}
		c.Code, c.Words = StaleName, fmt.Sprintf("the name %s leads to an old address of %s", s.is.WireGuard.Endpoint, far.key)
		c.Repair = Cure{Words: "Have the name service of " + far.link.Hostname + " told the new address: see to what keeps it up to date at " + far.key + "."}
		if slices.ContainsFunc(s.look.Resolved, func(a netip.AddrPort) bool { return slices.Contains(is, a.Addr()) }) {
			c.Code, c.Sure, c.Words = StaleAddress, Likely, fmt.Sprintf("%s still calls an old address of %s, whose name leads to the new one", s.key, far.key)
			c.Repair = Cure{Words: "Wait some seconds: it asks for the name again while nothing answers."}
		} else {
			c.Evidence = append(c.Evidence, fmt.Sprintf("the name service tells %s", s.look.Resolved))
		}
	}
	d.cause(c)
	return true
}

func join(list []netip.Addr) string {
	var out []string
	for _, a := range list {
		out = append(out, a.String())
	}
	return strings.Join(out, ", ")
}

// clocks looks whether a clock is so wrong that IPsec's certificates and lifetimes fail.
func (d *diagnoser) clocks(s, _ *side) bool {
	off := clockOff(s.g)
	if s.is == nil || s.is.IPsec == nil || off == 0 {
		return false
	}
	d.cause(Cause{
		Code: ClockOff, Sure: Likely, Site: s.key, Words: fmt.Sprintf("the clock of %s is %d s off, which IPsec does not take", s.key, off),
		Evidence: []string{"its line measures that"}, Repair: Cure{Words: "Set its clock right, and let something keep it so."},
	})
	return true
}
