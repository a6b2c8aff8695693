package linux

import (
	"net/netip"

	"wideknot/core/estate"

	"wideknot/core/render"
	"wideknot/core/route"
)

// neighbour is the work for the LAN's router when the gateway stands beside
// it: a route for everything that lies beyond the tunnels and, where subnets
// break out at a hub, one for what starts there. The gateway's own packets, which
// carry the tunnels, must not come back to it.
func (b *bundle) neighbour(t *render.Text) {
	g := &b.site.Gateway
	if g.Placement != estate.OneArmed {
		return
	}
	var remote []netip.Prefix
	for i := range b.routes {
		if r := &b.routes[i]; r.Kind == route.Overlay || r.Kind == route.Cut {
			remote = append(remote, r.Prefix)
		}
	}
	t.Str("Work for the LAN's router")
	for _, v4 := range []bool{true, false} {
		if up := g.UpstreamOf(v4); up.IsValid() {
			t.Str(" ").Addr(up)
		}
	}
	t.Line(": these prefixes lie behind this gateway.")
	for _, v4 := range []bool{true, false} {
		prefixes, own := ofFamily(remote, v4), g.LANAddressOf(v4)
		if len(prefixes) > 0 && !own.IsValid() {
			t.Str("    # ").Num(len(prefixes)).Line(" more cannot be reached: the design has no address of that family for this gateway on its LAN.")
			continue
		}
		for _, prefix := range prefixes {
			t.Str("    route ").Prefix(prefix).Str(" via ").Addr(own).End()
		}
	}
	t.End()
	said := false
	for i := range b.extras {
		for _, r := range b.extras[i].Routes {
			own := g.LANAddressOf(r.Prefix.Addr().Is4())
			if !b.extras[i].Last || !own.IsValid() {
				continue
			}
			for _, from := range ofFamily(b.extras[i].From, r.Prefix.Addr().Is4()) {
				if !said {
					t.Line("By where a packet starts, where the router has no route for it but its default one;").
						Line("never what this gateway itself sends, which carries the tunnels:")
					said = true
				}
				t.Str("    from ").Prefix(from).Str(" route ").Prefix(r.Prefix).Str(" via ").Addr(own).End()
			}
		}
	}
	if said {
		t.End()
	}
}
