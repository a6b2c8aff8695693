package gateway

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"hash"
	"net/netip"

	"wideknot/core/estate"
)

// Ident names a tunnel by both its ends, as its overlay does, for the site whose
// configuration it is in.
func (t *Tunnel) Ident(site string) string {
	if t.Peer < site {
		return string(estate.AppendTunnelIdent(nil, t.Peer, t.PeerLink, site, t.Link))
	}
	return string(estate.AppendTunnelIdent(nil, site, t.Link, t.Peer, t.PeerLink))
}

// A digester writes values one after another so that no two lists of values read
// the same: each text ends with a zero byte, each list begins with its length, each
// number and address tells where it ends.
type digester struct {
	sum  hash.Hash
	room []byte
}

func (d *digester) text(values ...string) {
	for _, s := range values {
		d.room = append(append(d.room, s...), 0)
	}
	d.flush()
}

func (d *digester) num(values ...int) {
	for _, n := range values {
		d.room = binary.AppendVarint(d.room, int64(n))
	}
	d.flush()
}

func (d *digester) bit(values ...bool) {
	for _, b := range values {
		if b {
			d.room = append(d.room, 1)
		} else {
			d.room = append(d.room, 0)
		}
	}
}

func (d *digester) texts(list []string) {
	d.num(len(list))
	d.text(list...)
}

func (d *digester) addr(values ...netip.Addr) {
	for _, a := range values {
		d.prefix(netip.PrefixFrom(a, a.BitLen()))
	}
}

func (d *digester) prefixes(list []netip.Prefix) {
	d.num(len(list))
	for _, p := range list {
		d.prefix(p)
	}
	d.flush()
}

// prefix writes the bytes of an address and a length.
func (d *digester) prefix(p netip.Prefix) {
	switch a := p.Addr(); {
	case !a.IsValid():
		d.room = append(d.room, 0)
	case a.Is4():
		four := a.As4()
		d.room = append(append(d.room, 4, byte(p.Bits())), four[:]...)
	default:
		sixteen := a.As16()
		d.room = append(append(d.room, 6, byte(p.Bits())), sixteen[:]...)
	}
}

func (d *digester) flush() {
	if len(d.room) > 4096 {
		d.sum.Write(d.room) // never fails
		d.room = d.room[:0]
	}
}

// Digest returns 64 hexadecimal digits by which two configurations of a gateway are
// known to be the same: SHA-256 over all that the gateway does. What other routers
// are asked to do is left out.
func (c *Config) Digest() string {
	d := &digester{sum: sha256.New(), room: make([]byte, 0, 8192)}
	d.text(c.Site)
	if c.PublicKey != "" {
		d.text("key", c.PublicKey)
	}
	d.bit(c.Forward6)
	d.num(len(c.Links))
	for i := range c.Links {
		l := &c.Links[i]
		d.text(l.Key, l.Device)
		d.num(l.Mark, l.Up, l.Down, len(l.NextHops))
		d.addr(l.NextHops...)
	}
	d.num(len(c.Tunnels))
	for i := range c.Tunnels {
		d.tunnel(&c.Tunnels[i])
	}
	d.num(len(c.Lists))
	for _, l := range c.Lists {
		d.num(l.ID)
		d.prefixes(l.Prefixes)
	}
	d.num(len(c.Ways))
	for i := range c.Ways {
		d.num(c.Ways[i].ID, len(c.Ways[i].Groups))
		for _, g := range c.Ways[i].Groups {
			d.num(g.Place, len(g.Members))
			for _, m := range g.Members {
				d.text(m.Interface)
				d.num(m.Weight)
			}
		}
	}
	d.num(len(c.Routes))
	for i := range c.Routes {
		d.route(&c.Routes[i])
	}
	d.num(len(c.Discards))
	for _, r := range c.Discards {
		d.prefix(r.Prefix)
		d.num(r.Table)
	}
	d.num(len(c.Rules))
	for i := range c.Rules {
		r := &c.Rules[i]
		d.num(r.Priority, r.Mark, r.Mask, r.Table)
		d.text(string(r.Family))
		d.bit(r.NoLonger)
		d.texts(r.Arriving)
		d.prefixes(r.From)
	}
	for i := range c.Tellings {
		d.telling(&c.Tellings[i])
	}
	d.filter(&c.Filter)
	d.translation(c)
	d.sum.Write(d.room)
	return hex.EncodeToString(d.sum.Sum(nil))
}

// route writes only what a route has, so that the digest of what has no more than before
// stays what it was.
func (d *digester) route(r *Route) {
	d.prefix(r.Prefix)
	d.num(r.Table, r.Way)
	if r.Via.IsValid() || r.Device != "" {
		d.addr(r.Via)
		d.text(r.Device)
	}
	if r.Telling != 0 || r.To != 0 {
		d.text("telling")
		d.num(r.Telling, r.To)
	}
}

func (d *digester) telling(t *Telling) {
	d.text("telling", t.Overlay, t.Version)
	d.num(t.Sites, t.Me, len(t.Hubs), len(t.Peers), len(t.Orders), len(t.To))
	d.num(t.Hubs...)
	for _, p := range t.Peers {
		d.num(p.Number)
		d.text(p.Site)
	}
	for _, o := range t.Orders {
		d.num(o.ID, len(o.Paths))
		for _, p := range o.Paths {
			d.num(p.ID, len(p.Via))
			d.num(p.Via...)
		}
	}
	for _, to := range t.To {
		d.num(to.Number, to.Order)
	}
}

func (d *digester) tunnel(t *Tunnel) {
	d.text(t.Interface, t.Overlay, t.Link, t.Peer, t.PeerLink)
	d.num(t.Rank, t.NextHop, t.MTU)
	d.prefixes(t.Addresses)
	d.texts(t.Zones)
	d.bit(t.Limited, t.Probe != nil, t.WireGuard != nil, t.IPsec != nil)
	if p := t.Probe; p != nil {
		d.text(p.Target)
		d.addr(p.Address)
		d.num(p.Interval, p.Timeout, p.Misses, p.Successes)
		if p.Limits != (Limits{}) {
			d.text("limits")
			d.num(p.Limits.Latency, p.Limits.Jitter, p.Limits.Loss, p.Limits.Window)
		}
	}
	if w := t.WireGuard; w != nil {
		d.num(w.Port, w.Mark, w.Keepalive, w.List)
		d.text(w.PublicKey, w.Endpoint)
		d.bit(w.Preshared)
		d.prefixes(w.Allowed)
		if w.Also != "" {
			d.text("also", w.Also)
		}
	}
	if s := t.IPsec; s != nil {
		d.text(s.LocalID, s.RemoteID, s.RemoteName)
		d.addr(s.Local, s.Remote)
		d.bit(s.Initiates, s.Encapsulate)
		d.texts(s.IKE)
		d.texts(s.ESP)
		d.num(s.IKELifetime, s.ChildLifetime, s.InterfaceID, s.Mark)
		d.prefixes(s.LocalTS)
		d.prefixes(s.RemoteTS)
	}
}

func (d *digester) filter(f *Filter) {
	d.num(len(f.Arrivals), len(f.Kept), len(f.Overlays))
	for _, a := range f.Arrivals {
		d.num(a.Port)
		d.addr(a.From)
	}
	for _, k := range f.Kept {
		d.text(k.Interface)
		d.prefixes(k.Prefixes)
	}
	for i := range f.Overlays {
		o := &f.Overlays[i]
		d.text(o.Overlay)
		d.texts(o.Interfaces)
		d.texts(o.Back)
		d.prefixes(o.BackFrom)
		d.bit(o.Relays, o.Policed, o.Deny)
		d.num(len(o.Policy))
		for j := range o.Policy {
			e := &o.Policy[j]
			d.num(e.Index, e.Rule)
			d.bit(e.Permit, e.Leaving, e.Reply)
			d.text(string(e.Family), e.Protocol)
			d.prefixes(e.From)
			d.prefixes(e.To)
			d.texts(e.Ports)
		}
	}
	d.prefixes(f.Own)
}

func (d *digester) held(h *Held) {
	d.text("held")
	d.prefixes(h.Here)
	d.num(len(h.Overlays))
	for i := range h.Overlays {
		o := &h.Overlays[i]
		d.text(o.Overlay)
		d.num(o.Mark)
		d.texts(o.Zones)
		d.prefixes(o.Own)
		d.prefixes(o.Prefixes)
	}
}

func (d *digester) translation(c *Config) {
	d.num(len(c.Places), len(c.Maps), len(c.Breakouts), len(c.Shaping))
	for _, p := range c.Places {
		d.num(p.Mark)
		d.texts(p.Interfaces)
	}
	if len(c.Held.Overlays) > 0 {
		d.held(&c.Held)
	}
	for _, m := range c.Maps {
		d.prefixes([]netip.Prefix{m.Inside, m.Outside})
	}
	for _, b := range c.Breakouts {
		d.text(b.Overlay, string(b.Family))
		d.texts(b.Devices)
		d.prefixes(b.From)
		d.prefixes(b.Except)
	}
	for _, s := range c.Shaping {
		d.text(s.Zone)
		d.prefixes(s.Here)
		d.prefixes(s.Beyond)
	}
}
