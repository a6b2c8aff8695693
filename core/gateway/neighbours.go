package gateway

import (
	"slices"

	"wideknot/core/estate"
	"wideknot/core/route"
)

// neighbours lists the work for routers beside the gateway.
func (k *making) neighbours(table []route.Route, extras []route.Extra) {
	out := &k.out.Neighbours
	for i := range k.site.Links {
		l := &k.site.Links[i]
		if len(k.site.Links) > 1 && k.out.Links[i].Mark == 0 && !l.NoTunnels {
			out.Unknown = append(out.Unknown, l.Key)
		}
		k.forward(i)
	}
	if k.site.Gateway.Placement == estate.OneArmed {
		k.beside(table, extras)
	}
}

// forward is the work for the router in front of a forwarded link.
func (k *making) forward(link int) {
	l := &k.site.Links[link]
	if l.Reach != estate.Forwarded {
		return
	}
	f := PortForward{Link: l.Key, Outside: l.Outside}
	for i := range k.peers {
		if p := &k.peers[i]; p.Local.Link == link && p.Overlay.Spec.Transport != estate.IPsec {
			f.Ports = append(f.Ports, p.Local.UDP)
		}
	}
	if len(l.Addresses) > 0 {
		f.Inside = l.Addresses[0]
	}
	if len(f.Ports) > 0 {
		slices.Sort(f.Ports)
		k.out.Neighbours.Forwards = append(k.out.Neighbours.Forwards, f)
	}
}
