package linux

import (
	"slices"
	"strings"

	"wideknot/core/gateway"
	"wideknot/core/render"
)

// readme is one screen, and what other routers must do.
func (b *bundle) readme(t *render.Text) {
	t.Word(b.c.Site).Str(": ").Name(b.about.Name).End()
	t.Line(strings.Repeat("=", len(b.c.Site)+2+len([]rune(b.about.Name)))).End()
	t.Line("On the gateway, as root, in this folder:").End()
	t.Line("    sh apply --check      checks everything and changes nothing")
	t.Line("    sh apply --try 180    applies it; goes back by itself after 180 s ...")
	t.Line("    sh apply --keep       ... unless you can still reach the gateway to say this").End()
	t.Line("    sh apply              applies it and keeps it, over reboots too")
	t.Line("    sh apply --back       goes back to what was kept before")
	t.Line("    sh apply --remove     takes away everything that was ever made here").End()
	t.Line("It may be run at any time: tunnels that stay keep their sessions, and only what").
		Line("Wide Knot made is changed. release says what this is, manifest what belongs to it.").End()
	t.Line("The private key comes with the bundle in secrets/, or is made on the gateway once; its").
		Line("public half is then entered at the site in Wide Knot:").End()
	t.Line("    umask 077; mkdir -p /etc/wideknot; wg genkey > /etc/wideknot/private.key")
	t.Line("    wg pubkey < /etc/wideknot/private.key").End()
	if slices.ContainsFunc(b.c.Tunnels, func(o gateway.Tunnel) bool { return o.IPsec != nil || o.WireGuard.Preshared }) {
		t.Line("Some tunnels have a secret besides, which both ends must know: download the bundle with").
			Line("its keys, or put them into /etc/wideknot under the names that apply --check asks for.").End()
	}
	t.Line("Nothing here notices that a tunnel is dead. Whatever does takes its interface down").
		Line("(ip link set dev NAME down), and up when it is back; the next best then carries its").
		Line("traffic: wideknot-ways.service sees to it or, without systemd, sh apply --ways.").End()
	if len(b.c.Places) > 0 {
		t.Line("Some tunnels share the load. A flow takes one of them, by its addresses and ports;").
			Line("its answers take the one by which it came.").End()
	}
	b.unknown(t)
	b.forwards(t)
	b.neighbour(t)
}

// unknown says what the design does not know about leaving by a certain link.
func (b *bundle) unknown(t *render.Text) {
	if links := b.c.Neighbours.Unknown; len(links) > 0 {
		t.Str("The design names no device and next hop for ")
		words(t, links, "")
		t.Line(". Without them every tunnel's").
			Line("packets follow the gateway's default route, whichever link that is. Enter both at the link.").End()
	}
}

// forwards is the work for the router in front of a forwarded link.
func (b *bundle) forwards(t *render.Text) {
	for _, f := range b.c.Neighbours.Forwards {
		t.Str("Work for the router in front of ").Word(f.Link).Str(" (outside address ").Addr(f.Outside).Line("):").End()
		inside := "this gateway"
		if f.Inside.IsValid() {
			inside = f.Inside.String()
		}
		for _, port := range f.Ports {
			t.Str("    forward inbound UDP ").Num(port).Str(" to ").Str(inside).Str(" port ").Num(port).End()
		}
		t.End()
	}
}

// neighbour is the work for the LAN's router where the gateway stands beside it.
func (b *bundle) neighbour(t *render.Text) {
	n := &b.c.Neighbours
	if len(n.Upstream)+len(n.Routes)+len(n.Without) == 0 {
		return
	}
	t.Str("Work for the LAN's router")
	for _, up := range n.Upstream {
		t.Str(" ").Addr(up)
	}
	t.Line(": these prefixes lie behind this gateway.")
	for _, family := range families {
		for _, w := range n.Without {
			if w.Family == family.family {
				t.Str("    # ").Num(w.Count).Line(" more cannot be reached: the design has no address of that family for this gateway on its LAN.")
			}
		}
		for _, r := range n.Routes {
			if !r.From.IsValid() && gateway.FamilyOf(r.Prefix.Addr()) == family.family {
				t.Str("    route ").Prefix(r.Prefix).Str(" via ").Addr(r.Via).End()
			}
		}
	}
	t.End()
	said := false
	for _, r := range n.Routes {
		if !r.From.IsValid() {
			continue
		}
		if !said {
			t.Line("By where a packet starts, where the router has no route for it but its default one;").
				Line("never what this gateway itself sends, which carries the tunnels:")
			said = true
		}
		t.Str("    from ").Prefix(r.From).Str(" route ").Prefix(r.Prefix).Str(" via ").Addr(r.Via).End()
	}
	if len(n.OwnWay) > 0 {
		t.Line("But these by the router's own default route, not by this gateway:")
	}
	for _, p := range n.OwnWay {
		t.Str("    route ").Prefix(p).Line(" its own way")
	}
	if said {
		t.End()
	}
}
