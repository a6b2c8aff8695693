package main

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/route"
)

// wire gives both ends of a cable their addresses, and routes to each other's.
func wire(near *space, device string, address netip.Addr, far *space, farDevice string, farAddress netip.Addr) error {
	bits := address.BitLen()
	nodad := ""
	if address.Is6() {
		nodad = " nodad"
	}
	return errors.Join(
		near.ip(fmt.Sprintf("addr add %s/%d dev %s%s", address, bits, device, nodad), fmt.Sprintf("route replace %s/%d dev %s src %s", farAddress, bits, device, address)),
		far.ip(fmt.Sprintf("addr replace %s/%d dev %s%s", farAddress, bits, farDevice, nodad), fmt.Sprintf("route replace %s/%d dev %s src %s", address, bits, farDevice, farAddress)),
	)
}

// link makes a WAN link: a cable to its underlay, with a translator in between
// where the link is behind one.
func (w *world) link(i, j int, gateway *space) error {
	l := &w.routes.Plan.Site(i).Links[j]
	far, err := w.underlay(l.UnderlayOf())
	if err != nil {
		return err
	}
	farDevice := fmt.Sprintf("s%dl%d", i, j)
	if l.Device == w.routes.Plan.Site(i).Gateway.LANDevice {
		return w.behindRouter(i, l)
	}
	if l.Reach == estate.Static || l.Reach == estate.Dynamic {
		if err := cable(gateway, l.Device, far, farDevice, l.MTUOf()); err != nil {
			return err
		}
		addresses := l.Addresses
		if l.Reach == estate.Dynamic {
			addresses = []netip.Addr{l.NextHop[0].Next()}
			w.names[l.Hostname] = addresses[0]
		}
		for _, a := range addresses {
			hop := route.NextHop(l, a.Is4())
			if !hop.IsValid() {
				continue
			}
			w.outside[a] = i
			if err := wire(gateway, l.Device, a, far, farDevice, hop); err != nil {
				return err
			}
		}
		return nil
	}
	inside, public := l.NextHop[0].Next(), netip.AddrFrom4([4]byte{198, 18, byte(i), byte(j + 1)})
	if l.Reach == estate.Forwarded {
		inside, public = l.Addresses[0], l.Outside
	}
	translator, err := w.space(fmt.Sprintf("before %s/%s", gateway.name, l.Key))
	if err != nil {
		return err
	}
	w.outside[public] = i
	return errors.Join(
		translator.forwards(), cable(gateway, l.Device, translator, "in", l.MTUOf()), cable(translator, "out", far, farDevice, l.MTUOf()),
		wire(gateway, l.Device, inside, translator, "in", l.NextHop[0]),
		wire(translator, "out", public, far, farDevice, netip.MustParseAddr("198.18.0.1")),
		translator.ip("route add default via 198.18.0.1 dev out onlink"),
		translator.translate("out", l, inside, w.forwarded(i, j)),
	)
}

// behindRouter lets a link leave by the LAN's router, which translates.
func (w *world) behindRouter(i int, l *estate.Link) error {
	public := netip.AddrFrom4([4]byte{198, 18, 128, byte(i + 1)})
	router := w.routers[i]
	if l.Reach == estate.Forwarded {
		public = l.Outside
		if err := wire(router, "wan", public, w.between[estate.Internet], fmt.Sprintf("lan%d", i), netip.MustParseAddr("198.18.0.1")); err != nil {
			return err
		}
		w.outside[public] = i
	}
	var ports []int
	for j := range w.routes.Plan.Site(i).Links {
		if &w.routes.Plan.Site(i).Links[j] == l {
			ports = w.forwarded(i, j)
		}
	}
	return router.translate("wan", l, w.routes.Plan.Site(i).Gateway.LANAddress, ports)
}

// translate makes a router hide what is behind it, and forward some ports.
func (s *space) translate(device string, l *estate.Link, inside netip.Addr, ports []int) error {
	var t strings.Builder
	t.WriteString("table ip hide {\n chain post { type nat hook postrouting priority srcnat;\n")
	if l.Reach == estate.Forwarded {
		fmt.Fprintf(&t, "  oifname %s ip saddr %s snat to %s\n", device, inside, l.Outside)
	} else {
		// Mappings of its own for each far end, by ports nobody can guess.
		fmt.Fprintf(&t, "  oifname %s ip saddr %s masquerade fully-random\n", device, inside)
	}
	t.WriteString(" }\n chain pre { type nat hook prerouting priority dstnat;\n")
	for _, p := range ports {
		fmt.Fprintf(&t, "  iifname %s udp dport %d ip daddr %s dnat to %s\n", device, p, l.Outside, inside)
	}
	// What nobody asked for is not answered by the translator itself.
	fmt.Fprintf(&t, " }\n chain own { type filter hook input priority filter; iifname %s drop; }\n}\n", device)
	return s.run(t.String(), "nft", "-f", "-")
}

// forwarded lists the ports that the router before a link forwards: those that
// the survey says, or those that the plan asks for.
func (w *world) forwarded(i, j int) (ports []int) {
	l := &w.routes.Plan.Site(i).Links[j]
	if l.Reach != estate.Forwarded {
		return nil
	}
	for _, p := range w.routes.Plan.Peers(i) {
		if p.Local.Link != j {
			continue
		}
		if l.HasForward(p.Local.UDP) {
			ports = append(ports, p.Local.UDP)
		}
	}
	return ports
}
