package diagnose

import (
	"fmt"
	"net/netip"
	"slices"

	"wideknot/core/gateway"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/core/words"
)

// tunnelState is what a site's gateway reports of a tunnel, or nil.
func (d *diagnoser) tunnelState(site, name string) *gateway.TunnelState {
	s := d.Of(site).State
	if s == nil {
		return nil
	}
	by := d.states[site]
	if by == nil {
		by = make(map[string]*gateway.TunnelState, len(s.Tunnels))
		for i := range s.Tunnels {
			by[s.Tunnels[i].Interface] = &s.Tunnels[i]
		}
		if d.states == nil {
			d.states = map[string]map[string]*gateway.TunnelState{}
		}
		d.states[site] = by
	}
	return by[name]
}

// linkState is what is seen of a WAN link: by a look, or by what was reported last.
func (d *diagnoser) linkState(site, link string) *gateway.LinkState {
	g := d.Of(site)
	var lists [][]gateway.LinkState
	if g.Looked != nil {
		lists = append(lists, g.Looked.Links)
	}
	if g.State != nil {
		lists = append(lists, g.State.Links)
	}
	for _, list := range lists {
		for i := range list {
			if list[i].Link == link {
				return &list[i]
			}
		}
	}
	return nil
}

// dead reports whether a gateway at either end says that a tunnel is; one that does not say is
// believed to see what the other end sees.
func (d *diagnoser) dead(t *tunnel.Tunnel) bool {
	for _, p := range []*tunnel.Port{&t.A, &t.B} {
		site := d.key(p.Site)
		g := d.Of(site)
		if g.State == nil || !g.Up {
			continue
		}
		if s := d.tunnelState(site, p.Interface); s == nil || !s.Up {
			return true
		}
	}
	return false
}

// onPath lists the sites that the packet and its answer pass, there first.
func (d *diagnoser) onPath() (out []int) {
	for _, w := range []*route.Walk{&d.design.Forward, d.design.Return, &d.now.Forward, d.now.Return} {
		if w == nil {
			continue
		}
		for i := range w.Steps {
			for _, s := range []int{w.Steps[i].Site, w.Steps[i].Far} {
				if !slices.Contains(out, s) {
					out = append(out, s)
				}
			}
		}
	}
	return out
}

// seeGateways looks whether each on the path is there, and is what it is to be.
func (d *diagnoser) seeGateways() {
	for _, site := range d.onPath() {
		key := d.key(site)
		g := d.Of(key)
		verdict, said := Arrives, ""
		switch {
		case !g.Joined:
			verdict, said = Unseen, "it has not joined"
			d.unseen(fmt.Sprintf("the gateway of %s has not joined, so nothing is known of it", key))
		case !g.Up:
			verdict, said = Unseen, "nothing is heard from it"
			d.unseen(fmt.Sprintf("the gateway of %s is away; what it sees now is not known", key))
			d.away(site, g)
		case g.State == nil:
			verdict, said = Unseen, "it has not reported"
		case d.deviates(site, Possible):
			verdict, said = Arrives, "it does not run what is in force"
		}
		for i := range d.out.Steps {
			if s := &d.out.Steps[i]; s.Kind == "gateway" && s.Site == key {
				s.Verdict, s.Said = verdict, said
			}
		}
	}
}

// away says of a gateway without a line whether its far ends hear it.
func (d *diagnoser) away(site int, g *Gateway) {
	heard, silent := d.heardBy(site)
	key := d.key(site)
	if heard > 0 || silent == 0 {
		if off := clockOff(g); off != 0 {
			d.cause(Cause{
				Code: ClockOff, Sure: Possible, Site: key, Words: fmt.Sprintf("the clock of %s is %d s off, so that certificates may not be valid to it", key, off),
				Evidence: []string{"its tunnels live, and it has no line to a server"}, Repair: Cure{Words: "Set its clock right, and let something keep it so."},
			})
		}
		return
	}
	d.cause(Cause{
		Code: Away, Sure: Likely, Site: key, Words: fmt.Sprintf("the gateway of %s is off, or all its circuits are dead", key),
		Evidence: []string{"it has no line to a server", words.Many(silent, "far end of its tunnels reports, and does not hear it", "far ends of its tunnels report, and none hears it")},
		Repair:   Cure{Words: "See to its power and its circuits; what carries its line to the server comes back by itself."},
	})
}

// heardBy counts the tunnels of a site that the gateways at their far ends report as alive, and
// as dead.
func (d *diagnoser) heardBy(site int) (alive, dead int) {
	for _, e := range d.plan.Ends(site) {
		_, remote := d.plan.Sides(e)
		g := d.Of(d.key(remote.Site))
		switch t := d.tunnelState(d.key(remote.Site), remote.Interface); {
		case !g.Up:
		case t == nil && g.Well, t != nil && t.Up:
			alive++
		case t != nil:
			dead++
		}
	}
	return alive, dead
}

// clockOff is by how many seconds a gateway's clock was wrong when last heard; 0 where that does
// no harm.
func clockOff(g *Gateway) int {
	if g.State == nil || max(g.State.Clock.OffsetMs, -g.State.Clock.OffsetMs) < 60_000 {
		return 0
	}
	return g.State.Clock.OffsetMs / 1000
}

// deviates looks whether a gateway runs something else than what is in force, as far as that
// concerns this packet, and names that as a cause: a possible one until nothing else explains what
// fails. It reports whether it explains that nothing arrives.
func (d *diagnoser) deviates(site int, sure Sureness) bool {
	key := d.key(site)
	g := d.Of(key)
	if g.Runs == nil || g.Wants == nil {
		return false
	}
	what, hard := d.otherwise(g)
	if len(what) == 0 {
		return false
	}
	if !hard {
		sure = Possible
	}
	c := Cause{
		Code: OlderRelease, Sure: sure, Site: key, Words: fmt.Sprintf("the gateway of %s runs release %d; release %d is in force", key, g.Keeps, g.Release),
		Evidence: what, Repair: Cure{Words: fmt.Sprintf("Bring release %d to it.", g.Release), Where: "release", Site: key},
	}
	if g.ByHand {
		c.Code, c.Words = ByHand, fmt.Sprintf("somebody changed the gateway of %s by hand", key)
		c.Repair = Cure{Words: "Put back what was confirmed, or take what was changed into a draft.", Where: "watch", Site: key}
	}
	d.cause(c)
	for i := range d.out.Steps {
		if s := &d.out.Steps[i]; sure == Sure && s.Kind == "gateway" && s.Site == key {
			s.Verdict, s.Said = Fails, "it does not run what is in force"
		}
	}
	return hard
}

// otherwise says in words how what a gateway runs treats this packet otherwise than what is in
// force: by its routes and tunnels, which is hard, or perhaps by sizes and its filter.
func (d *diagnoser) otherwise(g *Gateway) (out []string, hard bool) {
	for _, at := range []netip.Addr{d.packet.To, d.fromSeen} {
		was, is := leads(g.Wants, at), leads(g.Runs, at)
		if was != is && was != "" {
			out = append(out, fmt.Sprintf("it sends what is for %s %s, and is to send it %s", at, orNowhere(is), was))
		}
	}
	for _, name := range d.interfacesAt(g.Wants.Site) {
		want := g.Wants.Tunnel(name)
		if want == nil {
			continue
		}
		have := sameTunnel(g.Runs, want)
		if have == nil {
			out = append(out, "it has no tunnel "+name)
			continue
		}
		out = append(out, settings(g, want, have, []netip.Addr{d.packet.To, d.fromSeen})...)
	}
	hard = len(out) > 0
	for _, name := range d.interfacesAt(g.Wants.Site) {
		want := g.Wants.Tunnel(name)
		if want == nil {
			continue
		}
		if have := sameTunnel(g.Runs, want); have != nil && have.MTU != want.MTU {
			out = append(out, fmt.Sprintf("MTU of %s: %d, and it is to be %d", name, have.MTU, want.MTU))
		}
	}
	if filters(g.Wants) != filters(g.Runs) {
		out = append(out, "its filter is another one")
	}
	return out, hard
}

func orNowhere(words string) string {
	if words == "" {
		return "nowhere"
	}
	return words
}

// interfacesAt lists the tunnels at a site that the packet or its answer is to take, or takes.
func (d *diagnoser) interfacesAt(site string) (out []string) {
	for _, w := range []*route.Walk{&d.design.Forward, d.design.Return, &d.now.Forward, d.now.Return} {
		if w == nil {
			continue
		}
		for i := range w.Steps {
			for _, p := range sidesOf(d.plan, w.Steps[i].Hop.End) {
				if d.key(p.Site) == site && !slices.Contains(out, p.Interface) {
					out = append(out, p.Interface)
				}
			}
		}
	}
	return out
}

func sidesOf(p *tunnel.Plan, e tunnel.End) [2]*tunnel.Port {
	local, remote := p.Sides(e)
	return [2]*tunnel.Port{local, remote}
}

// leads says by which sites a configuration sends what is for an address, by its main table.
func leads(c *gateway.Config, at netip.Addr) string {
	var best *gateway.Route
	for i := range c.Routes {
		if r := &c.Routes[i]; r.Table == gateway.DefaultTable && r.Prefix.Contains(at) && (best == nil || r.Prefix.Bits() > best.Prefix.Bits()) {
			best = r
		}
	}
	if best == nil || best.Way == 0 {
		return ""
	}
	for i := range c.Ways {
		if w := &c.Ways[i]; w.ID == best.Way && len(w.Groups) > 0 && len(w.Groups[0].Members) > 0 {
			if t := c.Tunnel(w.Groups[0].Members[0].Interface); t != nil {
				return "to " + t.Peer + " by " + t.Interface
			}
		}
	}
	return ""
}

// sameTunnel finds a tunnel in another configuration, by where it leads.
func sameTunnel(c *gateway.Config, t *gateway.Tunnel) *gateway.Tunnel {
	for i := range c.Tunnels {
		if o := &c.Tunnels[i]; o.Overlay == t.Overlay && o.Peer == t.Peer && o.Link == t.Link && o.PeerLink == t.PeerLink {
			return o
		}
	}
	return nil
}

// settings says how a tunnel's differ.
func settings(g *Gateway, want, have *gateway.Tunnel, about []netip.Addr) (out []string) {
	a, b := want.WireGuard, have.WireGuard
	if (a == nil) != (b == nil) {
		return []string{want.Interface + " is of another transport"}
	}
	if a == nil {
		return nil
	}
	for _, x := range []struct {
		what       string
		want, have any
	}{
		{"port", a.Port, b.Port}, {"far end's key", a.PublicKey, b.PublicKey}, {"endpoint", a.Endpoint, b.Endpoint},
		{"pre-shared key", a.Preshared, b.Preshared},
	} {
		if x.want != x.have {
			out = append(out, fmt.Sprintf("%s of %s: %v, and it is to be %v", x.what, want.Interface, x.have, x.want))
		}
	}
	for _, at := range about {
		holds := func(list []netip.Prefix) bool {
			return slices.ContainsFunc(list, func(p netip.Prefix) bool { return p.Contains(at) })
		}
		if holds(g.Wants.Allowed(a)) && !holds(g.Runs.Allowed(b)) {
			out = append(out, fmt.Sprintf("%s is not allowed to its far end by %s", at, want.Interface))
		}
	}
	return out
}

// filters is what a configuration lets pass, for comparing.
func filters(c *gateway.Config) string { return fmt.Sprintf("%v", c.Filter) }
