package linux

import (
	"slices"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/render"
)

func (b *bundle) readme() []byte {
	t := b.text()
	t.Word(b.site.Key).Str(": ").Name(b.site.Name).End()
	t.Line(strings.Repeat("=", len(b.site.Key)+2+len([]rune(b.site.Name)))).End()
	t.Line("On the gateway, as root, in this folder and in this order:").End()
	t.Line("    ip -batch interfaces.ip")
	for i := range b.peers {
		name := b.peers[i].Interface
		t.Str("    wg setconf ").Word(name).Str(" wg/").Word(name).Line(".conf")
	}
	_, private := b.keys.private(b.site.Key)
	for i := range b.peers {
		peer := &b.peers[i]
		if !private {
			t.Str("    wg set ").Word(peer.Interface).Line(" private-key FILE-WITH-THIS-SITES-PRIVATE-KEY")
		}
		if _, known, wanted := b.presharedKey(peer); wanted && !known {
			t.Str("    wg set ").Word(peer.Interface).Str(" peer ").Word(peer.PublicKey).Line(" preshared-key FILE-WITH-THIS-TUNNELS-PRE-SHARED-KEY")
		}
	}
	for _, f := range []struct {
		command string
		v4      bool
	}{{"    ip -force -batch rules.ip", true}, {"    ip -6 -force -batch rules6.ip", false}} {
		if len(b.rules(f.v4)) > 0 {
			t.Line(f.command)
		}
	}
	t.Line("    ip -batch network.ip")
	t.Line("    nft -f filter.nft")
	t.Line("    sysctl -p sysctl.conf").End()
	b.linksWithoutHop(t)
	if len(b.marked) > 0 {
		t.Line("Some tunnels share the load. A flow takes one of them, by its addresses and ports;").
			Line("its answers take the one by which it came.").End()
	}
	b.forwards(t)
	b.neighbour(t)
	return t.Bytes
}

// linksWithoutHop says what the design does not know about leaving by a
// certain link.
func (b *bundle) linksWithoutHop(t *render.Text) {
	var missing []string
	for i := range b.site.Links {
		l := &b.site.Links[i]
		if _, ok := b.marks[l.Key]; !ok && len(b.site.Links) > 1 && !l.NoTunnels {
			missing = append(missing, l.Key)
		}
	}
	if len(missing) > 0 {
		t.Str("The design names no device and next hop for ")
		words(t, missing, "")
		t.
			Line(". Without them every tunnel's").
			Line("packets follow the gateway's default route, whichever link that is. Enter both at the link.").End()
	}
}

// forwards is the work for the router in front of a forwarded link.
func (b *bundle) forwards(t *render.Text) {
	for i := range b.site.Links {
		l := &b.site.Links[i]
		if l.Reach != estate.Forwarded {
			continue
		}
		var ports []int
		for j := range b.peers {
			if b.plan.Link(b.peers[j].Local) == l {
				ports = append(ports, b.peers[j].Local.UDP)
			}
		}
		if len(ports) == 0 {
			continue
		}
		slices.Sort(ports)
		t.Str("Work for the router in front of ").Word(l.Key).Str(" (outside address ").Addr(l.Outside).Line("):").End()
		inside := "this gateway"
		if len(l.Addresses) > 0 {
			inside = l.Addresses[0].String()
		}
		for _, port := range ports {
			t.Str("    forward inbound UDP ").Num(port).Str(" to ").Str(inside).Str(" port ").Num(port).End()
		}
		t.End()
	}
}
