// Package offer compares what a gateway sees of itself with what the design says of its
// site. Nothing of it enters a design by itself: each is taken, or refused with a reason.
package offer

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/gateway"
)

// An Item is one thing that a gateway sees, beside what the design says of it.
type Item struct {
	ID     string `json:"id"`     // stable while it is of the same thing
	About  string `json:"about"`  // in words, such as "MTU of WAN link fibre"
	Survey string `json:"survey"` // what the design says; empty for nothing
	Seen   string `json:"seen"`
	// Differs is whether the two cannot both be right; Missing whether the design says nothing.
	Differs bool   `json:"differs"`
	Missing bool   `json:"missing"`
	Matters string `json:"matters,omitempty"` // what follows while they differ
	// Collides lists subnets of other sites that a prefix overlaps, as SITE PREFIX.
	Collides []string `json:"collides,omitempty"`

	take func(*estate.Site)
}

// Open reports whether there is something to take.
func (o *Item) Open() bool { return o.take != nil && (o.Differs || o.Missing) }

// Of compares what a site's gateway offers with the design: first of the gateway itself,
// then link by link, then subnet by subnet. It is empty for a site that is not there.
func Of(e *estate.Estate, key string, seen *gateway.Offers) []Item {
	site := e.Site(key)
	if site == nil {
		return nil
	}
	c := &comparing{e: e, site: site, seen: seen, wan: map[string]bool{}}
	for i := range site.Links {
		c.wan[site.Links[i].Device] = true
	}
	c.key()
	c.links()
	c.subnets()
	return c.out
}

// Take returns the site with some of the offers taken. The error names one that is not
// there any more.
func Take(site *estate.Site, offers []Item, ids []string) (*estate.Site, error) {
	out := *site
	out.Links, out.Subnets = slices.Clone(site.Links), slices.Clone(site.Subnets)
	for _, id := range ids {
		i := slices.IndexFunc(offers, func(o Item) bool { return o.ID == id })
		if i < 0 || !offers[i].Open() {
			return nil, fmt.Errorf("%q is not offered any more; look again", id)
		}
		offers[i].take(&out)
	}
	return &out, nil
}

type comparing struct {
	e    *estate.Estate
	site *estate.Site
	seen *gateway.Offers
	wan  map[string]bool // devices by which links leave
	out  []Item
}

// add adds an offer; equal texts do not differ.
func (c *comparing) add(o Item) {
	o.Missing = o.Survey == ""
	o.Differs = !o.Missing && o.Survey != o.Seen
	if !o.Differs && !o.Missing {
		o.Matters = ""
	}
	c.out = append(c.out, o)
}

func (c *comparing) key() {
	key := c.seen.PublicKey
	if c.seen.NextKey != "" && c.seen.NextKey == c.site.Gateway.PublicKey {
		key = c.seen.NextKey // it has that one too, and uses it once it is told
	}
	if key != "" {
		c.add(Item{
			ID: "public-key", About: "public key of its tunnels", Survey: c.site.Gateway.PublicKey, Seen: key,
			Matters: "its far ends know another key, so no tunnel comes up",
			take:    func(s *estate.Site) { s.Gateway.PublicKey = key },
		})
	}
}

// links compares what is seen of each device by which the internet, or a network of a
// provider, is reached.
func (c *comparing) links() {
	for i := range c.site.Links {
		if d := c.device(i); d != nil {
			c.wan[d.Name] = true
			c.link(i, d)
		}
	}
	for i := range c.seen.Devices {
		if d := &c.seen.Devices[i]; len(d.NextHops) > 0 && !c.wan[d.Name] {
			c.out = append(c.out, Item{
				ID: "device:" + d.Name, About: "device " + d.Name, Seen: "leads to next hop " + list(d.NextHops), Missing: true,
				Matters: "the design knows no WAN link by it; add one in the site's form if tunnels are to use it",
			})
		}
	}
}

// device finds the device of a link: by its name; of those that no link has, by an address that
// it has, or because there is but one of each.
func (c *comparing) device(link int) *gateway.Device {
	l := &c.site.Links[link]
	var others []*gateway.Device
	for i := range c.seen.Devices {
		d := &c.seen.Devices[i]
		if d.Name == l.Device {
			return d
		}
		if !c.wan[d.Name] {
			others = append(others, d)
		}
	}
	for _, d := range others {
		if slices.ContainsFunc(d.Addresses, func(p netip.Prefix) bool { return slices.Contains(l.Addresses, p.Addr()) }) {
			return d
		}
	}
	others = slices.DeleteFunc(others, func(d *gateway.Device) bool { return len(d.NextHops) == 0 })
	if len(others) == 1 && len(c.site.Links) == 1 {
		return others[0]
	}
	return nil
}

// link compares one link with its device.
func (c *comparing) link(i int, d *gateway.Device) {
	l := &c.site.Links[i]
	id, of := "link:"+l.Key+":", " of WAN link "+l.Key
	matters := "without it, how the link is left is not known"
	if l.Device != "" {
		matters = "the gateway has no device of that name, so tunnels leave by another link, or not at all"
	}
	c.add(Item{
		ID: id + "device", About: "device" + of, Survey: l.Device, Seen: d.Name, Matters: matters,
		take: func(s *estate.Site) { s.Links[i].Device = d.Name },
	})
	if d.MTU >= 576 && d.MTU <= 9216 {
		matters := "packets that just fit the design's MTU are lost or cut up"
		if d.MTU > l.MTUOf() {
			matters = "tunnels carry less in each packet than they could, if the whole way takes as much"
		}
		c.add(Item{
			ID: id + "mtu", About: "MTU" + of, Survey: fmt.Sprint(l.MTUOf()), Seen: fmt.Sprint(d.MTU), Matters: matters,
			take: func(s *estate.Site) { s.Links[i].MTU = d.MTU },
		})
	}
	if len(d.NextHops) > 0 {
		c.add(Item{
			ID: id + "next-hop", About: "next hop" + of, Survey: list(l.NextHop), Seen: list(d.NextHops), Matters: "packets of its tunnels leave by another router, or by none",
			take: func(s *estate.Site) { s.Links[i].NextHop = slices.Clone(d.NextHops) },
		})
	}
	c.reach(i, d, id+"reach", "reach"+of)
}

// reach compares how a link can be called with what a STUN server saw.
func (c *comparing) reach(i int, d *gateway.Device, id, about string) {
	l := &c.site.Links[i]
	outside := d.Outside.Addr()
	if !outside.IsValid() || l.UnderlayOf() != estate.Internet {
		return
	}
	own := slices.ContainsFunc(d.Addresses, func(p netip.Prefix) bool { return p.Addr() == outside })
	says := string(l.Reach)
	switch l.Reach {
	case estate.Static:
		says += " " + list(l.Addresses)
	case estate.Forwarded:
		says += " " + l.Outside.String()
	}
	o := Item{ID: id, About: about, Survey: says}
	switch {
	case own && l.Reach == estate.Dynamic, !own && l.Reach == estate.NAT:
		o.Seen = says
	case own && l.Reach == estate.Static:
		if o.Seen = says; !slices.Contains(l.Addresses, outside) {
			o.Seen = "static " + outside.String()
			o.Matters = "far ends call an address that it does not have"
			o.take = func(s *estate.Site) { s.Links[i].Addresses = []netip.Addr{outside} }
		}
	case own:
		o.Seen = "not behind NAT: " + outside.String()
		o.Matters = "it could be called, and is not"
		o.take = func(s *estate.Site) {
			k := &s.Links[i]
			k.Reach, k.Addresses, k.Outside, k.Forwards = estate.Static, []netip.Addr{outside}, netip.Addr{}, nil
		}
	case l.Reach == estate.Forwarded:
		if o.Seen = says; l.Outside != outside {
			o.Seen = "forwarded " + outside.String()
			o.Matters = "far ends call an address before which it does not stand"
			o.take = func(s *estate.Site) { s.Links[i].Outside = outside }
		}
	default:
		o.Seen = "behind NAT, seen as " + outside.String()
		o.Matters = "nobody can call it unless ports are forwarded to it"
		o.take = func(s *estate.Site) {
			k := &s.Links[i]
			k.Reach, k.Addresses, k.Hostname = estate.NAT, nil, ""
		}
	}
	c.add(o)
}

// subnets compares what is on the gateway's LAN devices, and behind routers there, with the
// site's subnets.
func (c *comparing) subnets() {
	where := map[netip.Prefix]string{}
	var seen []netip.Prefix
	note := func(p netip.Prefix, words string) {
		if _, there := where[p]; !there && p.Bits() > 0 && !p.Addr().IsLinkLocalUnicast() && !p.IsSingleIP() {
			where[p] = words
			seen = append(seen, p)
		}
	}
	outward := map[string]bool{}
	for i := range c.seen.Devices {
		d := &c.seen.Devices[i]
		if outward[d.Name] = len(d.NextHops) > 0 || c.wan[d.Name]; !outward[d.Name] {
			for _, p := range d.Addresses {
				note(p.Masked(), "on "+d.Name)
			}
		}
	}
	for i := range c.seen.Behind {
		if b := &c.seen.Behind[i]; !outward[b.Device] {
			note(b.Prefix, "behind router "+b.Via.String())
		}
	}
	for _, p := range seen {
		o := Item{ID: "subnet:" + p.String(), About: "subnet " + p.String(), Seen: where[p], Survey: c.surveyed(p)}
		if o.Survey != "" {
			o.Survey = where[p]
		} else {
			o.Collides = c.collisions(p)
			o.Matters = "nobody wrote it down: no overlay can reach it, and nothing checks it for overlaps"
			if parts := c.within(p); len(parts) > 0 {
				o.Matters = "the design has no more of it than " + strings.Join(parts, ", ") + ": no overlay can reach the rest, and nothing checks it for overlaps"
			}
			o.take = func(s *estate.Site) { s.Subnets = append(s.Subnets, estate.Subnet{Prefix: p}) }
		}
		c.add(o)
	}
	for i := range c.site.Subnets {
		p := c.site.Subnets[i].Prefix
		if !slices.ContainsFunc(seen, func(s netip.Prefix) bool { return s == p || addr.Covers(s, p) || addr.Covers(p, s) }) && len(c.seen.Devices) > 0 {
			c.out = append(c.out, Item{
				ID: "absent:" + p.String(), About: "subnet " + p.String(), Survey: "at this site", Seen: "not seen", Differs: true,
				Matters: "no device of the gateway has it, and no router beside it that the gateway knows",
			})
		}
	}
}

// surveyed says how the site has a prefix; empty for not at all.
func (c *comparing) surveyed(p netip.Prefix) string {
	for i := range c.site.Subnets {
		if have := c.site.Subnets[i].Prefix; have == p || addr.Covers(have, p) {
			return have.String()
		}
	}
	return ""
}

// within lists subnets of the site that are parts of a prefix.
func (c *comparing) within(p netip.Prefix) (out []string) {
	for i := range c.site.Subnets {
		if have := c.site.Subnets[i].Prefix; addr.Covers(p, have) && len(out) < mostNamed {
			out = append(out, have.String())
		}
	}
	return out
}

// mostNamed is how many subnets are named.
const mostNamed = 20

func (c *comparing) collisions(p netip.Prefix) (out []string) {
	for i := range c.e.Sites {
		s := &c.e.Sites[i]
		for j := range s.Subnets {
			if n := &s.Subnets[j]; s.Key != c.site.Key && n.Prefix.Overlaps(p) && len(out) < mostNamed {
				out = append(out, s.Key+" "+n.Prefix.String())
			}
		}
	}
	return out
}

func list(addresses []netip.Addr) string {
	words := make([]string, len(addresses))
	for i, a := range addresses {
		words[i] = a.String()
	}
	return strings.Join(words, ", ")
}
