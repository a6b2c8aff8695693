package gateway

import (
	"cmp"
	"encoding/hex"
	"fmt"
	"math/bits"
	"net/netip"
	"slices"
	"strings"

	"wideknot/core/route"
)

// The most of everything that a configuration may hold.
const (
	maxLinks    = 256
	maxTunnels  = 65535
	maxWays     = 200_000
	maxRoutes   = 1_000_000
	maxRules    = 10_000
	maxHubs     = 256
	maxPrefixes = 1_000_000 // in all lists together
)

// sizes checks whose it is, and how much of everything there is.
func (k *checker) sizes(c *Config) {
	k.word("the site", c.Site)
	if c.PublicKey != "" {
		k.key("the gateway's public key", c.PublicKey)
	}
	k.count("links", len(c.Links), maxLinks)
	k.count("tunnels", len(c.Tunnels), maxTunnels)
	k.count("ways", len(c.Ways), maxWays)
	k.count("routes", len(c.Routes)+len(c.Discards), maxRoutes)
	k.count("rules", len(c.Rules), maxRules)
}

// Check returns what keeps a configuration from being applied; nil for every one that
// Of makes of a valid estate.
func (c *Config) Check() error {
	k := &checker{}
	if k.sizes(c); k.err != nil {
		return k.err
	}
	each(k, "link", c.Links, func(l *Link) string { return l.Key }, k.link)
	each(k, "list", c.Lists, func(l *List) int { return l.ID }, func(l *List) {
		k.number("a list", l.ID, 1, len(c.Lists))
		k.list("a list", l.Prefixes)
	})
	names := make(map[string]bool, len(c.Tunnels))
	hops := map[int]bool{}
	each(k, "tunnel", c.Tunnels, func(t *Tunnel) string { return t.Interface }, func(t *Tunnel) {
		k.tunnel(t)
		if c.Link(t.Link) == nil {
			k.fail("%s goes by link %q, which is not there", t.Interface, t.Link)
		}
		names[t.Interface] = true
		if w := t.WireGuard; w != nil {
			k.number("a list", w.List, 0, len(c.Lists))
		}
		if hops[t.NextHop] {
			k.fail("next hop %d is there twice", t.NextHop)
		}
		hops[t.NextHop] = true
	})
	known := func(where, name string) {
		if !names[name] {
			k.fail("%s names %q, which is no tunnel here", where, name)
		}
	}
	ids := make(map[int]bool, len(c.Ways))
	each(k, "way", c.Ways, func(w *Way) int { return w.ID }, func(w *Way) {
		ids[w.ID] = true
		k.way(w, known)
	})
	each(k, "route", c.Routes, func(r *Route) place { return place{r.Table, r.Prefix} }, func(r *Route) {
		k.route(r)
		k.told(c, r)
		if r.Way != 0 && !ids[r.Way] {
			k.fail("the route to %v goes by way %d, which is not there", r.Prefix, r.Way)
		}
	})
	each(k, "telling", c.Tellings, func(t *Telling) string { return t.Overlay }, k.telling)
	each(k, "discard", c.Discards, func(d *Discard) place { return place{d.Table, d.Prefix} }, func(d *Discard) {
		k.number("a table", d.Table, 0, 65535)
		k.prefix("a discard", d.Prefix)
	})
	each(k, "rule", c.Rules, func(r *Rule) string { return fmt.Sprint(r.Family, " ", r.Priority) }, k.rule)
	k.filter(&c.Filter, known)
	k.rest(c, known)
	return k.err
}

func (k *checker) link(l *Link) {
	k.word("a link", l.Key)
	if l.Device != "" {
		k.device("the device of link "+l.Key, l.Device)
	}
	for _, a := range l.NextHops {
		k.addr("a next hop of link "+l.Key, a)
	}
	k.number("a link's mark", l.Mark, 0, LinkMask)
	k.number("a link's rate", min(l.Up, l.Down), 0, 1<<31)
}

func (k *checker) tunnel(t *Tunnel) {
	k.device("an interface", t.Interface)
	for what, s := range map[string]string{"overlay": t.Overlay, "link": t.Link, "peer": t.Peer, "peer-link": t.PeerLink} {
		k.word(what, s)
	}
	k.number("a rank", t.Rank, 1, 1<<20)
	k.number("a next hop", t.NextHop, Blackhole, Blackhole+65535) // that itself: the slots ran out
	k.number("an MTU", t.MTU, 68, 65535)
	for _, a := range t.Addresses {
		if !a.IsValid() {
			k.fail("an address of %s is no address", t.Interface)
		}
		k.addr("an address of "+t.Interface, a.Addr())
	}
	for _, z := range t.Zones {
		k.word("a zone", z)
	}
	if p := t.Probe; p != nil {
		k.addr("a probe's address", p.Address)
		k.number("a probe's interval", p.Interval, 1, 1<<30)
		k.number("a probe's timeout", p.Timeout, 1, 1<<30)
		k.number("misses", p.Misses, 1, 1<<20)
		k.number("successes", p.Successes, 1, 1<<20)
		k.number("a limit", min(p.Limits.Latency, p.Limits.Jitter, p.Limits.Loss, p.Limits.Window), 0, 1<<30)
		k.number("a limit", max(p.Limits.Latency, p.Limits.Jitter, p.Limits.Loss, p.Limits.Window), 0, 1<<30)
		if (p.Limits.Window > 0) != (p.Limits.Latency+p.Limits.Jitter+p.Limits.Loss > 0) {
			k.fail("%s has limits and no window, or the other way round", t.Interface)
		}
		if p.Target != "far-end" && p.Target != "far-lan" {
			k.fail("a probe's target is %q", p.Target)
		}
	}
	switch {
	case (t.WireGuard == nil) == (t.IPsec == nil):
		k.fail("%s is to be of WireGuard or of IPsec", t.Interface)
	case t.WireGuard != nil:
		k.wireguard(t.WireGuard)
	default:
		k.ipsec(t.IPsec)
	}
}

func (k *checker) wireguard(w *WireGuard) {
	k.number("a port", w.Port, 0, 65535) // 0: the ports ran out
	k.number("a mark", w.Mark, 0, LinkMask)
	k.number("a keepalive", w.Keepalive, 0, 65535)
	if w.PublicKey != "" {
		k.word("a public key", w.PublicKey)
	}
	if w.Also != "" {
		if k.key("another public key", w.Also); w.Also == w.PublicKey {
			k.fail("a peer has one public key twice")
		}
	}
	if w.Endpoint != "" {
		k.word("an endpoint", w.Endpoint)
	}
	k.list("an allowed prefix", w.Allowed)
}

func (k *checker) ipsec(s *IPsec) {
	k.word("an identity", s.LocalID)
	k.word("an identity", s.RemoteID)
	if s.RemoteName != "" {
		k.word("a name", s.RemoteName)
	}
	k.addr("an address", s.Local)
	k.addr("an address", s.Remote)
	for _, p := range slices.Concat(s.IKE, s.ESP) {
		k.word("a proposal", p)
	}
	k.number("a lifetime", s.IKELifetime, 1, 1<<30)
	k.number("a lifetime", s.ChildLifetime, 1, 1<<30)
	k.number("an interface id", s.InterfaceID, 0, 65535)
	k.number("a mark", s.Mark, 0, LinkMask)
	k.list("a selector", s.LocalTS)
	k.list("a selector", s.RemoteTS)
}

func (k *checker) way(w *Way, known func(where, name string)) {
	k.number("a way's number", w.ID, FirstWay, FirstWay+WayNumbers-1)
	if len(w.Groups) == 0 {
		k.fail("way %d has no group", w.ID)
	}
	for i, g := range w.Groups {
		if g.Place != i+1 || len(g.Members) == 0 {
			k.fail("group %d of way %d is empty or out of its place", i+1, w.ID)
		}
		for _, m := range g.Members {
			known("a way", m.Interface)
			k.number("a weight", m.Weight, 1, 255)
		}
	}
}

func (k *checker) route(r *Route) {
	k.number("a table", r.Table, 0, 65535)
	k.prefix("a route", r.Prefix)
	k.addr("a next hop", r.Via)
	if (r.Way != 0) == r.Via.IsValid() {
		k.fail("the route to %v is to go by a way or by a next hop", r.Prefix)
	}
	if r.Via.IsValid() {
		k.device("a route's device", r.Device)
	} else if r.Device != "" {
		k.fail("the route to %v has a device and no next hop", r.Prefix)
	}
}

// told checks to which site of a telling a route leads.
func (k *checker) told(c *Config, r *Route) {
	k.number("a telling", r.Telling, 0, len(c.Tellings))
	if r.Telling > 0 && r.Telling <= len(c.Tellings) {
		k.number("a site's number", r.To, 1, c.Tellings[r.Telling-1].Sites)
	} else if r.To != 0 {
		k.fail("the route to %v leads to a site of which nobody tells", r.Prefix)
	}
}

func (k *checker) telling(t *Telling) {
	k.word("an overlay", t.Overlay)
	k.word("a version", t.Version)
	if raw, err := hex.DecodeString(t.Version); err != nil || len(raw) != 8 {
		k.fail("the version of what is told is %q", t.Version)
	}
	k.number("a number of sites", t.Sites, 1, maxTunnels)
	site := func(n int) { k.number("a site's number", n, 1, t.Sites) }
	site(t.Me)
	k.count("hubs", len(t.Hubs), maxHubs)
	for _, hub := range t.Hubs {
		site(hub)
	}
	each(k, "peer", t.Peers, func(p *Numbered) string { return p.Site }, func(p *Numbered) {
		k.word("a peer", p.Site)
		site(p.Number)
	})
	each(k, "order", t.Orders, func(o *Order) int { return o.ID }, func(o *Order) {
		k.number("an order", o.ID, 1, len(t.Orders))
		each(k, "path", o.Paths, func(p *Path) int { return p.ID }, func(p *Path) {
			k.number("a path", p.ID, 1, len(o.Paths))
			k.count("hubs on a path", len(p.Via), 2)
			for _, hub := range p.Via {
				if !slices.Contains(t.Hubs, hub) {
					k.fail("a path leads by site %d, which is no hub", hub)
				}
			}
		})
	})
	for i := range t.Orders {
		k.number("the place of an order", t.Orders[i].ID, i+1, i+1)
	}
	last := 0
	for _, d := range t.To {
		site(d.Number)
		k.number("an order", d.Order, 1, len(t.Orders))
		if d.Number <= last {
			k.fail("destinations are not in the order of their numbers")
		}
		last = d.Number
	}
}

func (k *checker) rule(r *Rule) {
	k.number("a priority", r.Priority, 1, 32765)
	k.family("a rule's family", r.Family)
	k.number("a table", r.Table, 0, 65535)
	k.number("a rule's mark", r.Mark, 0, 1<<31)
	k.number("a rule's mask", r.Mask, 0, 1<<31)
	if r.Mark&^r.Mask != 0 || (r.Mark == 0) != (r.Mask == 0) {
		k.fail("the mark of rule %d is outside its mask", r.Priority)
	}
	if (r.Table != 0) == r.NoLonger {
		k.fail("rule %d asks no table, or two", r.Priority)
	}
	for _, d := range r.Arriving {
		k.device("a rule's device", d)
	}
	k.list("a rule's prefix", r.From)
}

func (k *checker) filter(f *Filter, known func(where, name string)) {
	each(k, "arrival", f.Arrivals, func(a *Arrival) int { return a.Port }, func(a *Arrival) {
		k.number("a port", a.Port, 0, 65535)
		k.addr("an arrival", a.From)
		if !a.From.IsValid() {
			k.fail("port %d is open to no address", a.Port)
		}
	})
	each(k, "kept-off", f.Kept, func(o *Kept) string { return o.Interface }, func(o *Kept) {
		known("kept-off", o.Interface)
		k.list("what is kept off", o.Prefixes)
	})
	each(k, "overlay", f.Overlays, func(o *Passing) string { return o.Overlay }, func(o *Passing) {
		k.word("an overlay", o.Overlay)
		for _, name := range slices.Concat(o.Interfaces, o.Back) {
			known("the filter", name)
		}
		k.list("what may come back", o.BackFrom)
		each(k, "entry", o.Policy, func(e *Entry) int { return e.Index }, k.entry)
	})
	k.list("what is shared", f.Own)
}

func (k *checker) entry(e *Entry) {
	k.family("an entry's family", e.Family)
	k.number("a rule", e.Rule, 1, 1<<20)
	k.list("an entry's prefix", e.From)
	k.list("an entry's prefix", e.To)
	if e.Protocol != "" && e.Protocol != "tcp" && e.Protocol != "udp" && e.Protocol != "icmp" {
		k.fail("an entry's protocol is %q", e.Protocol)
	}
	if len(e.Ports) > 0 && e.Protocol != "tcp" && e.Protocol != "udp" {
		k.fail("an entry has ports without tcp or udp")
	}
	for _, p := range e.Ports {
		if low, high := route.PortRange(p); low < 0 || high > 65535 || low > high || strings.ContainsFunc(p, func(r rune) bool { return r != '-' && (r < '0' || r > '9') }) || p == "" {
			k.fail("%q is no port or range", p)
		}
	}
}

func (k *checker) rest(c *Config, known func(where, name string)) {
	each(k, "place", c.Places, func(p *Place) int { return p.Mark }, func(p *Place) {
		if p.Mark <= 0 || p.Mark&^PlaceMask != 0 {
			k.fail("the mark of a place is %#x", p.Mark)
		}
		if len(p.Interfaces) == 0 {
			k.fail("the place of mark %#x has no interface", p.Mark)
		}
		for _, name := range p.Interfaces {
			known("a place", name)
		}
	})
	k.held(&c.Held)
	each(k, "map", c.Maps, func(m *Map) netip.Prefix { return m.Inside }, func(m *Map) {
		k.list("a map", []netip.Prefix{m.Inside, m.Outside})
		if m.Inside.Bits() != m.Outside.Bits() {
			k.fail("%v and %v are not equally large", m.Inside, m.Outside)
		}
	})
	each(k, "breakout", c.Breakouts, func(b *Breakout) string { return cmp.Or(b.Overlay, "-") + " " + string(b.Family) }, func(b *Breakout) {
		k.word("an overlay", b.Overlay)
		k.family("a breakout's family", b.Family)
		for _, d := range b.Devices {
			k.device("a breakout's device", d)
		}
		k.list("a breakout", b.From)
		k.list("a breakout", b.Except)
	})
	each(k, "class", c.Shaping, func(s *Class) string { return s.Zone }, func(s *Class) {
		k.word("a zone", s.Zone)
		k.list("a class", s.Here)
		k.list("a class", s.Beyond)
	})
	n := &c.Neighbours
	for _, a := range n.Upstream {
		k.addr("an upstream", a)
	}
	each(k, "LAN route", n.Routes, func(r *LANRoute) int { return r.Index }, func(r *LANRoute) {
		k.prefix("a LAN route", r.Prefix)
		k.addr("a LAN route", r.Via)
		if r.From.IsValid() {
			k.prefix("a LAN route", r.From)
		}
	})
	k.list("a router's own way", n.OwnWay)
	for _, w := range n.Without {
		k.family("a family", w.Family)
	}
	each(k, "forward", n.Forwards, func(f *PortForward) string { return f.Link }, func(f *PortForward) {
		k.word("a link", f.Link)
		k.addr("an address", f.Outside)
		k.addr("an address", f.Inside)
		for _, p := range f.Ports {
			k.number("a port", p, 0, 65535)
		}
	})
	for _, l := range n.Unknown {
		k.word("a link", l)
	}
}

func (k *checker) held(h *Held) {
	k.list("what is here", h.Here)
	each(k, "overlay", h.Overlays, func(o *HeldIn) string { return o.Overlay }, func(o *HeldIn) {
		k.word("an overlay", o.Overlay)
		if o.Mark&^LimitMask != 0 || bits.OnesCount(uint(o.Mark)) != 1 {
			k.fail("the mark of what %s holds to limits is %#x", o.Overlay, o.Mark)
		}
		for _, z := range o.Zones {
			k.word("a zone", z)
		}
		k.list("what is held to limits", o.Own)
		k.list("what is held to limits", o.Prefixes)
	})
	each(k, "mark", h.Overlays, func(o *HeldIn) int { return o.Mark }, func(*HeldIn) {})
}
