package diagnose

import (
	"fmt"
	"net/netip"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/words"
)

// byDesign says what the design does to the packet; false where it goes no further.
func (d *diagnoser) byDesign() bool {
	there := &d.design.Forward
	d.from, d.to = there.FromSite, there.ToSite
	d.out.FromSite, d.out.ToSite = d.key(d.from), d.key(d.to)
	if _, sites, ok := d.Routes.PrefixOf(d.packet.From); ok && there.End == route.Unknown && len(sites) > 1 {
		d.out.Steps = append(d.out.Steps, PathStep{Kind: "lan", Site: d.key(sites[0]), Verdict: Refused, Words: there.Why})
		d.refuse(Cause{Code: Collision, Site: d.key(sites[0]), Words: there.Why, Repair: Cure{Words: there.Fix, Where: "survey", Site: d.key(sites[0])}})
		return false
	}
	if there.End == route.Unknown {
		d.refuse(Cause{Code: NoSuchAddress, Words: there.Why, Repair: Cure{Words: there.Fix, Where: "survey"}})
		return false
	}
	if d.collides() {
		return false
	}
	d.places()
	d.steps(there, false)
	if there.End != route.Delivered {
		d.stopped(there, false)
		return false
	}
	if d.from == d.to && len(there.Steps) == 0 {
		d.out.Verdict = Arrives // both are on one LAN
		d.unseen("both addresses are on one LAN; no gateway is between them")
		return false
	}
	if back := d.design.Return; back != nil {
		d.steps(back, true)
		if back.End != route.Delivered {
			d.stopped(back, true)
			return false
		}
	}
	return true
}

// refuse ends the diagnosis with what the design says.
func (d *diagnoser) refuse(c Cause) {
	c.Sure = Sure
	d.out.Verdict = Refused
	d.cause(c)
}

// stopped says why the design lets the packet, or its answer, go no further.
func (d *diagnoser) stopped(w *route.Walk, back bool) {
	where := d.key(w.Where)
	c := Cause{Code: NotShared, Words: w.Why, Site: where, Repair: Cure{Words: w.Fix, Where: "shape", Site: where}}
	if w.End == route.Denied {
		c.Code, c.Rule = PolicyDenies, w.Rule
		if back {
			c.Code = PolicyDeniesBack
		}
		for _, steps := range [][]route.Step{w.Steps, d.design.Forward.Steps} {
			if n := len(steps); n > 0 && c.Overlay == "" {
				c.Overlay = steps[n-1].Overlay
			}
		}
		c.Evidence = d.counted(where, w.Rule)
	} else if back && w.ToSite >= 0 && w.ToSite != d.from {
		c.Code, c.Repair.Where = Collision, "survey"
	}
	if w.End == route.Leaves {
		c.Code, c.Words = NotShared, "it leaves "+w.Why
	}
	d.refuse(c)
	d.out.Steps = append(d.out.Steps, PathStep{Back: back, Kind: "gateway", Site: where, Words: w.Why, Verdict: Refused})
}

// counted says what a gateway counted of a rule.
func (d *diagnoser) counted(site string, rule int) []string {
	s := d.Of(site).State
	if s == nil {
		return nil
	}
	for i := range s.Rules {
		if r := &s.Rules[i]; r.Rule == rule && r.Packets > 0 {
			return []string{fmt.Sprintf("the gateway of %s counted %s that met it", site, words.Many(int(r.Packets), "packet", "packets"))}
		}
	}
	return nil
}

// collides looks for a subnet at one end that holds the address of the other, whether the survey
// knows of it or the gateway alone.
func (d *diagnoser) collides() bool {
	if d.from < 0 {
		return false
	}
	if d.design.Forward.End == route.Delivered && d.to == d.from && len(d.design.Forward.Steps) == 0 {
		if _, sites, ok := d.sharedElsewhere(d.packet.To); ok {
			d.collision(d.from, d.packet.To, sites, fmt.Sprintf("%s has it on its own LAN", d.key(d.from)))
			return true
		}
		return false
	}
	if back := d.design.Return; back != nil && back.End != route.Delivered && back.ToSite >= 0 && back.ToSite != d.from {
		d.collision(back.ToSite, d.packet.From, []int{d.from}, back.Why)
		return true
	}
	for _, end := range []struct {
		site int
		at   netip.Addr
		of   int
	}{{d.from, d.packet.To, d.to}, {d.to, d.seenOf(d.packet.From), d.from}} {
		if end.site >= 0 && end.of >= 0 && end.site != end.of {
			if where, ok := d.besides(end.site, end.at); ok {
				d.collision(end.site, end.at, []int{end.of}, where)
				return true
			}
		}
	}
	return false
}

// besides looks for an address among what a gateway sees around it and the survey does not know.
func (d *diagnoser) besides(site int, at netip.Addr) (words string, ok bool) {
	o := d.Of(d.key(site)).Offers
	if o == nil {
		return "", false
	}
	for i := range o.Devices {
		for _, p := range o.Devices[i].Addresses {
			if p.Bits() > 0 && p.Masked().Contains(at) && !p.IsSingleIP() {
				return fmt.Sprintf("the gateway of %s has %s on its device %s", d.key(site), p.Masked(), o.Devices[i].Name), true
			}
		}
	}
	for i := range o.Behind {
		if b := &o.Behind[i]; b.Prefix.Bits() > 0 && b.Prefix.Contains(at) {
			return fmt.Sprintf("the gateway of %s has a route for %s by %s", d.key(site), b.Prefix, b.Via), true
		}
	}
	return "", false
}

// sharedElsewhere finds the sites that share the prefix around an address.
func (d *diagnoser) sharedElsewhere(at netip.Addr) (prefix netip.Prefix, sites []int, ok bool) {
	for i := range d.plan.Overlays {
		prefix, sites, ok = d.Routes.SharedAround(i, at)
		for _, s := range sites {
			if ok && s != d.from {
				return prefix, []int{s}, true
			}
		}
	}
	return prefix, nil, false
}

func (d *diagnoser) collision(at int, about netip.Addr, sites []int, where string) {
	other := ""
	if len(sites) > 0 {
		other = d.key(sites[0])
	}
	d.out.ToSite = other
	if at != d.from {
		d.out.ToSite = d.key(at)
	}
	d.out.Steps = append(d.out.Steps, PathStep{Kind: "lan", Site: d.key(at), Verdict: Refused, Words: fmt.Sprintf("%s is taken for an address of %s itself", about, d.key(at))})
	d.refuse(Cause{
		Code: Collision, Site: d.key(at), Words: fmt.Sprintf("%s is at %s, and %s has a network of its own that holds it too", about, other, d.key(at)), Evidence: []string{where},
		Repair: Cure{Words: "Renumber or map one of the two networks.", Where: "survey", Site: d.key(at)},
	})
}

// seenOf is an address of the asking site as others know it.
func (d *diagnoser) seenOf(at netip.Addr) netip.Addr {
	if d.from < 0 {
		return at
	}
	for i := range d.plan.Site(d.from).Subnets {
		if n := &d.plan.Site(d.from).Subnets[i]; n.Prefix.Contains(at) {
			return addr.Moved(at, n.Prefix, n.Taking())
		}
	}
	return at
}

// places finds the addresses of both hosts, as they have them and as others know them.
func (d *diagnoser) places() {
	d.fromSeen, d.toOwn = d.seenOf(d.packet.From), d.packet.To
	if d.to < 0 {
		return
	}
	for i := range d.plan.Site(d.to).Subnets {
		if n := &d.plan.Site(d.to).Subnets[i]; n.Taking().Contains(d.packet.To) {
			d.toOwn = addr.Moved(d.packet.To, n.Taking(), n.Prefix)
		}
	}
}

// steps lists those of one direction, as the design has them.
func (d *diagnoser) steps(w *route.Walk, back bool) {
	from, to := d.packet.From, d.packet.To
	first := w.FromSite
	if back {
		from, to = d.packet.To, d.packet.From
	}
	if first >= 0 {
		d.out.Steps = append(d.out.Steps, PathStep{Back: back, Kind: "lan", Site: d.key(first), Words: fmt.Sprintf("%s hands it to the gateway of %s", from, d.key(first)), Verdict: Unseen})
	}
	for i := range w.Steps {
		s := &w.Steps[i]
		site, far := d.key(s.Site), d.key(s.Far)
		local, _ := d.plan.Sides(s.Hop.End)
		d.out.Steps = append(d.out.Steps, PathStep{Back: back, Kind: "gateway", Site: site, Words: fmt.Sprintf("the gateway of %s sends it to %s by %s", site, far, local.Interface), Verdict: Unseen})
		d.out.Steps = append(d.out.Steps, d.tunnelStep(s, back))
	}
	if w.End == route.Delivered && w.ToSite >= 0 {
		d.out.Steps = append(d.out.Steps, PathStep{Back: back, Kind: "lan", Site: d.key(w.ToSite), Words: fmt.Sprintf("the gateway of %s hands it to %s", d.key(w.ToSite), to), Verdict: Unseen})
	}
}

func (d *diagnoser) tunnelStep(s *route.Step, back bool) PathStep {
	local, remote := d.plan.Sides(s.Hop.End)
	linkOf := func(site, link int) string { return d.plan.Site(site).Links[link].Key }
	here, there := d.key(local.Site), d.key(remote.Site)
	return PathStep{
		Back: back, Kind: "tunnel", Site: here, Far: there, Overlay: s.Overlay, Tunnel: d.plan.Ident(s.Tunnel), Verdict: Unseen,
		Words: fmt.Sprintf("tunnel from %s (%s) to %s (%s)", here, linkOf(local.Site, local.Link), there, linkOf(remote.Site, remote.Link)),
		Ends: []EndSeen{
			d.end(here, linkOf(local.Site, local.Link), local.Interface),
			d.end(there, linkOf(remote.Site, remote.Link), remote.Interface),
		},
	}
}

// end is what a gateway reports of a tunnel.
func (d *diagnoser) end(site, link, name string) EndSeen {
	out := EndSeen{Site: site, Link: link, Interface: name}
	t := d.tunnelState(site, name)
	if t == nil {
		return out
	}
	out.Seen, out.Up, out.Since, out.HandshakeS = true, t.Up, t.Since, t.HandshakeS
	out.LatencyUs, out.LossOut, out.LossBack = t.LatencyUs, t.LossOutPPM, t.LossBackPPM
	if t.Endpoint.IsValid() {
		out.Endpoint = t.Endpoint.String()
	}
	return out
}

// oneArmed reports whether the site's gateway stands beside its LAN's router.
func (d *diagnoser) oneArmed(site int) bool {
	return d.plan.Site(site).Gateway.Placement == estate.OneArmed
}
