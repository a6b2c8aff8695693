package offer

import (
	"fmt"
	"net/netip"
	"slices"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// A Drift is what of a change by hand at a gateway can be said in a design.
type Drift struct {
	Site  *estate.Site // with it
	Taken []string     // in words
	Left  []string     // what the gateway runs that no word of the design makes, in words
}

// mostLeft is how much of what is left is told.
const mostLeft = 20

// Drifted takes what somebody set by hand at a site's gateway, since what it was to be by the
// design that it confirmed, into the site of a draft: how WAN links are left and how fast they
// are, their MTU, prefixes that are shared, the key of the tunnels. What else the draft changed
// stays. What is left is told by deriving the confirmed design anew with what is taken.
func Drifted(confirmed, draft *estate.Estate, key string, runs *gateway.Config) (*Drift, error) {
	at := siteIndex(confirmed, key)
	to := siteIndex(draft, key)
	if at < 0 || to < 0 {
		return nil, fmt.Errorf("there is no site %s in the draft and in what its gateway confirmed", key)
	}
	was := gateway.Of(route.Build(tunnel.Derive(confirmed)), at)
	taking := func(e *estate.Estate, i int) *drifting {
		site := e.Sites[i]
		site.Links, site.Subnets = slices.Clone(site.Links), slices.Clone(site.Subnets)
		d := &drifting{site: &site, is: was, runs: runs}
		d.key()
		for j := range site.Links {
			d.link(&site.Links[j])
		}
		d.shared()
		return d
	}
	changed := confirmed.Clone()
	changed.Sites[at] = *taking(confirmed, at).site
	d := taking(draft, to)
	out := &Drift{Site: d.site, Taken: d.taken, Left: []string{}}
	left := gateway.Difference(gateway.Of(route.Build(tunnel.Derive(changed)), at), runs)
	for i := range left[:min(len(left), mostLeft)] {
		out.Left = append(out.Left, left[i].Words)
	}
	if more := len(left) - mostLeft; more > 0 {
		out.Left = append(out.Left, fmt.Sprintf("and %d more", more))
	}
	return out, nil
}

func siteIndex(e *estate.Estate, key string) int {
	return slices.IndexFunc(e.Sites, func(s estate.Site) bool { return s.Key == key })
}

// drifting holds a site that is changed, and what its gateway was to be and runs.
type drifting struct {
	site     *estate.Site
	is, runs *gateway.Config
	taken    []string
}

func (d *drifting) take(format string, values ...any) {
	d.taken = append(d.taken, fmt.Sprintf(format, values...))
}

func (d *drifting) key() {
	if d.runs.PublicKey != "" && d.runs.PublicKey != d.is.PublicKey {
		d.site.Gateway.PublicKey = d.runs.PublicKey
		d.take("the key of its tunnels is %s", d.runs.PublicKey)
	}
}

func (d *drifting) link(l *estate.Link) {
	is, runs := d.is.Link(l.Key), d.runs.Link(l.Key)
	if is == nil || runs == nil {
		return
	}
	if runs.Device != is.Device {
		l.Device = runs.Device
		d.take("WAN link %s leaves by device %s", l.Key, runs.Device)
	}
	if !slices.Equal(runs.NextHops, is.NextHops) {
		l.NextHop = slices.Clone(runs.NextHops)
		d.take("the next hop of WAN link %s is %s", l.Key, list(runs.NextHops))
	}
	if runs.Up != is.Up {
		l.UpMbps = float64(runs.Up) / 1000
		d.take("WAN link %s sends %g Mbit/s", l.Key, l.UpMbps)
	}
	if runs.Down != is.Down {
		l.DownMbps = float64(runs.Down) / 1000
		d.take("WAN link %s gets %g Mbit/s", l.Key, l.DownMbps)
	}
	if less := d.narrower(l.Key); less > 0 {
		l.MTU = l.MTUOf() - less
		d.take("WAN link %s takes packets of %d bytes", l.Key, l.MTU)
	}
}

// narrower is by how many bytes all tunnels of a link were made narrower, all alike; else 0.
func (d *drifting) narrower(link string) (less int) {
	for i := range d.is.Tunnels {
		t := &d.is.Tunnels[i]
		if t.Link != link {
			continue
		}
		at := slices.IndexFunc(d.runs.Tunnels, func(r gateway.Tunnel) bool { return r.Interface == t.Interface })
		if at < 0 {
			continue
		}
		switch by := t.MTU - d.runs.Tunnels[at].MTU; {
		case by <= 0 || less != 0 && by != less:
			return 0
		default:
			less = by
		}
	}
	return less
}

// shared takes prefixes that the gateway lets into the tunnels, or lets no more.
func (d *drifting) shared() {
	in := func(list []netip.Prefix, p netip.Prefix) bool {
		return slices.ContainsFunc(list, func(q netip.Prefix) bool { return q.Bits() <= p.Bits() && q.Contains(p.Addr()) })
	}
	var overlays []string
	for i := range d.site.Subnets {
		for _, o := range d.site.Subnets[i].Share {
			if !slices.Contains(overlays, o) {
				overlays = append(overlays, o)
			}
		}
	}
	for i := range d.site.Subnets {
		if n := &d.site.Subnets[i]; len(n.Share) > 0 && in(d.is.Filter.Own, n.Prefix) && !in(d.runs.Filter.Own, n.Prefix) {
			n.Share = nil
			d.take("%v is shared no more", n.Prefix)
		}
	}
	for _, p := range d.runs.Filter.Own {
		if in(d.is.Filter.Own, p) || len(overlays) == 0 {
			continue
		}
		if at := slices.IndexFunc(d.site.Subnets, func(n estate.Subnet) bool { return n.Prefix == p }); at >= 0 {
			d.site.Subnets[at].Share = slices.Clone(overlays)
		} else {
			d.site.Subnets = append(d.site.Subnets, estate.Subnet{Prefix: p, Share: slices.Clone(overlays)})
		}
		d.take("%v is shared", p)
	}
}
