package diagnose

import (
	"fmt"
	"net/netip"

	"wideknot/core/addr"
	"wideknot/core/gateway"
	"wideknot/core/route"
)

// echo returns what came of an echo that a site's gateway asked for, and lets it be asked where
// it was not.
func (d *diagnoser) echo(site int, from, to netip.Addr, size int) (e gateway.Echoed, known bool) {
	key := d.key(site)
	g := d.Of(key)
	if !g.Joined || !g.Up || !from.IsValid() || !to.IsValid() || from == to {
		return e, false
	}
	if e, known = g.Echoes[Ask{From: from, To: to}]; known {
		return e, true
	}
	w := d.want(key)
	w.Echoes = append(w.Echoes, gateway.Echo{From: from, To: to, Size: size})
	return e, false
}

// again is what comes of an echo that went ill when it is asked for later: a tunnel may have died
// just then, and others carry now. Until that is known, nothing is.
func (d *diagnoser) again(site int, from, to netip.Addr, size int) (e gateway.Echoed, known bool) {
	key := d.key(site)
	if e, known = d.Of(key).Echoes[Ask{From: from, To: to, Again: true}]; known {
		return e, true
	}
	w := d.want(key)
	w.Echoes, w.Again = []gateway.Echo{{From: from, To: to, Size: size}}, true
	return e, false
}

// own is a gateway's address on the LAN of a host.
func (d *diagnoser) own(site int, host netip.Addr) netip.Addr {
	o := d.Of(d.key(site)).Offers
	if o == nil {
		return netip.Addr{}
	}
	for i := range d.plan.Site(site).Subnets {
		if n := &d.plan.Site(site).Subnets[i]; n.Prefix.Contains(host) {
			return o.Own([]netip.Prefix{n.Prefix})
		}
	}
	return netip.Addr{}
}

// seeHosts asks, where the path lives, whether the gateways reach each other, and each its host.
func (d *diagnoser) seeHosts() {
	if d.to < 0 || d.from < 0 {
		return
	}
	here, there := d.own(d.from, d.packet.From), d.own(d.to, d.toOwn)
	d.lan(d.from, d.packet.From, here)
	d.lan(d.to, d.toOwn, there)
	if !d.now.Arrives() {
		return
	}
	if !here.IsValid() || !there.IsValid() {
		d.unseen("the gateways do not say which address they have on the LANs of the two hosts, so that they cannot ask each other")
		return
	}
	thereSeen := d.movedTo(d.to, there)
	e, known := d.echo(d.from, here, thereSeen, d.now.MTU)
	if !known {
		return
	}
	if e.Answered < d.now.MTU && !d.poor || e.Answered == 0 {
		if e, known = d.again(d.from, here, thereSeen, d.now.MTU); !known {
			d.failed = e.Answered == 0
			return
		}
	}
	switch {
	case e.Answered == 0:
		d.failed = true
		d.between(e)
		return
	case d.poor: // what was lost tells nothing else
	case d.now.MTU > 0 && e.Answered < d.now.MTU:
		if d.forgotten(e) {
			return
		}
		d.largeLost(e)
	case e.Missed > 0:
		d.forgotten(e)
	}
	d.beyond(d.from, d.to, here, d.packet.To, d.toOwn)
	d.beyond(d.to, d.from, there, d.fromSeen, d.packet.From)
}

// movedTo is a site's own address as others know it.
func (d *diagnoser) movedTo(site int, own netip.Addr) netip.Addr {
	for i := range d.plan.Site(site).Subnets {
		if n := &d.plan.Site(site).Subnets[i]; n.Prefix.Contains(own) {
			return addr.Moved(own, n.Prefix, n.Taking())
		}
	}
	return own
}

// lan asks whether a host answers its own gateway.
func (d *diagnoser) lan(site int, host, own netip.Addr) {
	key := d.key(site)
	g := d.Of(key)
	if host == own {
		d.onLAN(site, Arrives, "it is the gateway itself")
		return
	}
	if g.Looked == nil && g.Joined && g.Up {
		d.look(key, "", 0)
	}
	if silent := d.silentAt(site, host); silent.IsValid() {
		d.onLAN(site, Fails, "its LAN carries nothing")
		d.cause(Cause{
			Code: LANDead, Sure: Sure, Site: key, Words: fmt.Sprintf("the LAN of %s is dead at its gateway", key),
			Evidence: []string{fmt.Sprintf("the device with %s has no carrier", silent)}, Repair: Cure{Words: "See to the cable and the switch at the gateway's LAN."},
		})
		return
	}
	e, known := d.echo(site, own, host, 0)
	switch {
	case !known:
		d.unseen(fmt.Sprintf("whether %s at %s is there", host, key))
	case e.Answered > 0:
		d.onLAN(site, Arrives, fmt.Sprintf("it answers its gateway in %.1f ms", float64(e.RoundTrip)/1000))
	default:
		d.onLAN(site, Fails, "it does not answer its own gateway")
		d.cause(Cause{
			Code: HostSilent, Sure: Likely, Site: key, Words: fmt.Sprintf("%s at %s does not answer even its own gateway", host, key),
			Evidence: []string{fmt.Sprintf("the gateway asked it from %s on the same LAN", own)},
			Repair:   Cure{Words: "See whether it is on, has that address, and lets echoes in."},
		})
	}
}

// silentAt is a gateway's address on the LAN of a host, where its device carries nothing.
func (d *diagnoser) silentAt(site int, host netip.Addr) netip.Addr {
	l := d.Of(d.key(site)).Looked
	for i := range d.plan.Site(site).Subnets {
		n := &d.plan.Site(site).Subnets[i]
		if !n.Prefix.Contains(host) || l == nil {
			continue
		}
		for _, a := range l.Silent {
			if n.Prefix.Contains(a) {
				return a
			}
		}
	}
	return netip.Addr{}
}

// onLAN marks the steps on a site's LAN.
func (d *diagnoser) onLAN(site int, v Verdict, said string) {
	for i := range d.out.Steps {
		if s := &d.out.Steps[i]; s.Kind == "lan" && s.Site == d.key(site) {
			s.Verdict, s.Said = v, said
		}
	}
}

// beyond asks whether a host that answers its own gateway answers the far one too: else what it
// sends back does not come to its gateway.
func (d *diagnoser) beyond(from, to int, own, hostSeen, host netip.Addr) {
	key := d.key(to)
	near := d.own(to, host)
	if host == near {
		return
	}
	local, known := d.Of(key).Echoes[Ask{From: near, To: host}]
	if !known || local.Answered == 0 {
		return
	}
	if t := d.Routes.Follow(route.Packet{From: own, To: hostSeen, Protocol: "icmp"}); !t.Arrives() {
		d.unseen(fmt.Sprintf("the policy lets no echo through to %s, so that it is not known whether it answers from afar", host))
		return
	}
	e, known := d.echo(from, own, hostSeen, 0)
	if !known || e.Answered > 0 || d.forgotten(e) {
		return
	}
	if d.poor { // it may have been lost on the way
		d.unseen(fmt.Sprintf("the way loses packets, so that it is not known whether %s answers from afar", host))
		return
	}
	d.onLAN(to, Fails, "it answers its gateway, and nobody beyond")
	c := Cause{
		Code: HostGateway, Sure: Likely, Site: key, Words: fmt.Sprintf("%s at %s sends what is for other sites somewhere else than to its gateway", host, key),
		Evidence: []string{"it answers its own gateway", fmt.Sprintf("it does not answer %s at %s, though the two gateways answer each other", own, d.key(from))},
		Repair:   Cure{Words: fmt.Sprintf("Set its default gateway to %s, and see that its firewall lets other sites in.", near)},
	}
	if n := d.Of(key).Looked.Began(host); n > 0 {
		d.cause(d.dropped(to, host, near, n, c.Evidence))
		return
	}
	if d.oneArmed(to) {
		if !d.upstream(from, to, own, near, &c) {
			return
		}
	}
	d.cause(c)
}

// dropped is the cause where what a host begins comes to its gateway, and its answers do not.
func (d *diagnoser) dropped(site int, host, near netip.Addr, begun int, evidence []string) Cause {
	key := d.key(site)
	c := Cause{
		Code: AnswerDropped, Sure: Likely, Site: key, Words: fmt.Sprintf("what %s at %s answers to other sites is dropped before it is at the gateway", host, key),
		Evidence: append(evidence, fmt.Sprintf("sessions with other sites that the host began come to the gateway (%d are tracked), so it knows the way", begun)),
		Repair:   Cure{Words: fmt.Sprintf("See that the firewall of %s lets other sites in, and that its default gateway is still %s.", host, near)},
	}
	if d.oneArmed(site) {
		router := "the router beside the gateway"
		if at := d.plan.Site(site).Gateway.UpstreamOf(near.Is4()); at.IsValid() {
			router = "the router " + at.String()
		}
		c.Words = fmt.Sprintf("%s of %s drops what %s answers to other sites, as it keeps state and does not see how that began", router, key, host)
		c.Evidence = append(c.Evidence, "the gateway is beside the way: what it brings goes to the host past the router, and the answer through it")
		c.Repair.Words = fmt.Sprintf("Have the router pass what it did not see begin, or route between it and %s so that both ways pass it; or see that the host's own firewall lets other sites in.", near)
	}
	return c
}

// upstream tells, beside a one-armed gateway, the router's missing route from a host's own
// mistake: whether the router itself answers from afar. It reports whether that is known.
func (d *diagnoser) upstream(from, to int, own, near netip.Addr, c *Cause) bool {
	router := d.plan.Site(to).Gateway.UpstreamOf(near.Is4())
	if !router.IsValid() {
		c.Code = NeighbourRoute
		c.Words = fmt.Sprintf("the router beside the gateway of %s, or the host, sends what is for other sites somewhere else than to the gateway", d.key(to))
		return true
	}
	locally, knownHere := d.echo(to, near, router, 0)
	afar, knownThere := d.echo(from, own, d.movedTo(to, router), 0)
	if !knownHere || !knownThere {
		return false
	}
	if locally.Answered > 0 && afar.Answered == 0 {
		c.Code = NeighbourRoute // it may not answer strangers, either
		c.Words = fmt.Sprintf("the router %s beside the gateway of %s has no route to other sites by the gateway", router, d.key(to))
		c.Evidence = append(c.Evidence, fmt.Sprintf("the router answers %s on its LAN, and not %s at %s", near, own, d.key(from)))
		c.Repair = Cure{Words: fmt.Sprintf("Give it the routes that Paths lists for %s, by %s.", d.key(to), near), Where: "watch", Site: d.key(to)}
	} else if locally.Answered > 0 {
		c.Evidence = append(c.Evidence, fmt.Sprintf("the router %s beside the gateway does answer from there", router))
		c.Repair.Words = fmt.Sprintf("Set its default gateway to %s, and see that its firewall lets other sites in.", router)
	}
	return true
}

// between looks for why gateways whose tunnels live do not reach each other.
func (d *diagnoser) between(e gateway.Echoed) {
	before := len(d.out.Causes)
	missing := false
	for _, w := range []*route.Walk{&d.now.Forward, d.now.Return} {
		for i := range w.Steps {
			for _, p := range sidesOf(d.plan, w.Steps[i].Hop.End) {
				s := d.side(p)
				if s.look == nil {
					if s.g.Up {
						d.lookAt(s, false)
						missing = true
					}
					continue
				}
				far := sidesOf(d.plan, w.Steps[i].Hop.End)
				other := far[0]
				if other == p {
					other = far[1]
				}
				d.devices(s, d.side(other))
			}
		}
	}
	for i := range d.out.Steps {
		s := &d.out.Steps[i]
		for _, c := range d.out.Causes[before:] {
			if s.Kind == "tunnel" && (s.Site == c.Site || s.Far == c.Site) {
				s.Verdict, s.Said = Fails, c.Words
			}
		}
	}
	if missing || len(d.out.Causes) > before || d.explained() {
		return
	}
	other := false
	for _, site := range d.onPath() {
		other = d.deviates(site, Sure) || other
	}
	if other {
		return
	}
	words := "the tunnels live, and yet no echo comes through between the gateways"
	evidence := []string{}
	if e.Words != "" {
		evidence = append(evidence, "the gateway was told: "+e.Words)
	}
	d.cause(Cause{Code: GatewaysDisagree, Sure: Possible, Site: d.key(d.from), Words: words, Evidence: evidence, Repair: Cure{Words: "Compare what the gateways run with what is in force.", Where: "watch", Site: d.key(d.from)}})
}

// explained reports whether a cause was found that keeps everything from coming through.
func (d *diagnoser) explained() bool {
	for _, c := range d.out.Causes {
		switch c.Code {
		case LANDead, WrongKey, LacksPrefix:
			return true
		}
	}
	return false
}
