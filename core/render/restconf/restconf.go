// Package restconf renders the configuration of a site's gateway as RFC 7951
// JSON over the models of RFC 8343 (interfaces), 8344 (addresses) and 8349
// (routes), with the module wideknot-tunnel for what those do not know.
package restconf

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/render"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

type (
	object = map[string]any
	list   = []object
)

// Site renders one site as SITE/config.json and, where zone policies concern
// it, SITE/acl.json. They hold no secret. It is empty for a site without
// tunnels.
func Site(m *route.Map, site int) ([]render.File, error) {
	if len(m.Plan.Ends(site)) == 0 {
		return nil, nil
	}
	var v4, v6 list
	for _, r := range m.Table(site) {
		if r.Kind == route.Connected {
			continue
		}
		if r.Prefix.Addr().Is4() {
			v4 = append(v4, routeOf(&r, "ietf-ipv4-unicast-routing"))
		} else {
			v6 = append(v6, routeOf(&r, "ietf-ipv6-unicast-routing"))
		}
	}
	static := object{}
	if len(v4) > 0 {
		static["ietf-ipv4-unicast-routing:ipv4"] = object{"route": v4}
	}
	if len(v6) > 0 {
		static["ietf-ipv6-unicast-routing:ipv6"] = object{"route": v6}
	}
	document := object{
		"ietf-interfaces:interfaces": object{"interface": interfaces(m, site)},
		"ietf-routing:routing": object{"control-plane-protocols": object{"control-plane-protocol": list{{
			"type": "ietf-routing:static", "name": "wideknot", "static-routes": static,
		}}}},
	}
	text, err := write(document)
	if err != nil {
		return nil, fmt.Errorf("writing the configuration of %s: %w", m.Plan.Site(site).Key, err)
	}
	files := []render.File{{Path: m.Plan.Site(site).Key + "/config.json", Text: text}}
	acl, any, err := policies(m, site)
	if err != nil {
		return nil, fmt.Errorf("writing the policies of %s: %w", m.Plan.Site(site).Key, err)
	}
	if any {
		files = append(files, acl)
	}
	return files, nil
}

// write returns the document as JSON; keys come in alphabetical order.
func write(document object) ([]byte, error) {
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	err := encoder.Encode(document)
	return out.Bytes(), err
}

func interfaces(m *route.Map, site int) list {
	p := m.Plan
	var out list
	for _, device := range devices(p.Site(site)) {
		out = append(out, object{"name": device, "type": "iana-if-type:ethernetCsmacd", "enabled": true})
	}
	ends := p.Ends(site)
	for i, peer := range p.Peers(site) {
		one := object{"name": peer.Interface, "type": "iana-if-type:tunnel", "enabled": true, "wideknot-tunnel:tunnel": tunnelOf(p, ends[i], &peer)}
		if peer.Local.Address4.IsValid() {
			one["ietf-ip:ipv4"] = object{"mtu": peer.Tunnel.MTU, "address": list{addressOf(peer.Local.Address4)}}
		}
		if peer.Local.Address6.IsValid() {
			one["ietf-ip:ipv6"] = object{"mtu": peer.Tunnel.MTU, "address": list{addressOf(peer.Local.Address6)}}
		}
		out = append(out, one)
	}
	return out
}

// devices lists the site's own interfaces that its routes may name.
func devices(s *estate.Site) []string {
	var out []string
	for i := range s.Links {
		if s.Links[i].Device != "" {
			out = append(out, s.Links[i].Device)
		}
	}
	return out
}

func addressOf(p netip.Prefix) object {
	return object{"ip": p.Addr().String(), "prefix-length": p.Bits()}
}

func tunnelOf(p *tunnel.Plan, end tunnel.End, peer *tunnel.Peer) object {
	out := object{
		"overlay": peer.Overlay.Spec.Key, "rank": peer.Rank, "mtu": peer.Tunnel.MTU,
		"underlay-link": p.Link(peer.Local).Key, "peer-site": p.Site(peer.Remote.Site).Key, "peer-link": p.Link(peer.Remote).Key,
	}
	if near, far := p.Link(peer.Local), p.Link(peer.Remote); len(near.Zones)+len(far.Zones) > 0 {
		out["zones"] = object{"zone": slices.DeleteFunc(p.Estate.Zones(), func(z string) bool { return !near.Carries(z) || !far.Carries(z) })}
	}
	if peer.Overlay.Spec.Probe != nil {
		out["probe"] = probeOf(p, peer)
	}
	if peer.Overlay.Spec.Transport == estate.IPsec {
		out["ipsec"] = ipsecOf(p.SecurityAssociation(end))
		return out
	}
	wireguard := object{"listen-port": peer.Local.UDP, "allowed-prefix": texts(peer.Allowed())}
	if peer.PublicKey != "" {
		wireguard["public-key"] = peer.PublicKey
	}
	if peer.Endpoint != "" {
		at := strings.LastIndex(peer.Endpoint, ":")
		wireguard["endpoint-host"] = strings.Trim(peer.Endpoint[:at], "[]")
		wireguard["endpoint-port"] = peer.Remote.UDP
	}
	if peer.Keepalive > 0 {
		wireguard["keepalive"] = peer.Keepalive
	}
	out["wireguard"] = wireguard
	return out
}

func probeOf(p *tunnel.Plan, peer *tunnel.Peer) object {
	probe := peer.Overlay.Spec.Probe.Full()
	out := object{"target": string(probe.Target), "interval": probe.IntervalMs, "timeout": probe.TimeoutMs, "misses": probe.Misses, "successes": probe.Successes}
	address := p.Site(peer.Remote.Site).Gateway.LANAddress
	if probe.Target == estate.FarEnd {
		address = cmp.Or(peer.Remote.Address4, peer.Remote.Address6).Addr()
	}
	if address.IsValid() {
		out["address"] = address.String()
	}
	return out
}

func ipsecOf(sa tunnel.SA) object {
	out := object{
		"autostartup": "add", "local-pad-entry-name": sa.LocalID, "remote-pad-entry-name": sa.RemoteID,
		"espencap": "none", "ike-proposal": sa.IKE, "esp-proposal": sa.ESP,
		"ike-sa-lifetime-soft":   object{"rekey-time": sa.IKELifetime},
		"ipsec-sa-lifetime-soft": object{"time": sa.ChildLifetime},
		"bind-identifier":        sa.InterfaceIdentifier,
	}
	if sa.Initiates {
		out["autostartup"] = "start"
	}
	if sa.UDPEncapsulation {
		out["espencap"] = "espinudp"
	}
	if sa.Local.IsValid() {
		out["local"] = sa.Local.String()
	}
	if sa.RemoteName != "" {
		out["remote"] = sa.RemoteName
	} else if sa.Remote.IsValid() {
		out["remote"] = sa.Remote.String()
	}
	var entries list
	for i := range sa.LocalTS {
		entries = append(entries, object{"name": fmt.Sprint(i + 1), "local-prefix": sa.LocalTS[i].String(), "remote-prefix": sa.RemoteTS[i].String()})
	}
	if len(entries) > 0 {
		out["spd-entry"] = entries
	}
	return out
}

func texts(prefixes []netip.Prefix) []string {
	out := make([]string, len(prefixes))
	for i, p := range prefixes {
		out[i] = p.String()
	}
	return out
}

// routeOf renders a route: its first choice, or those that share the load, in
// the standard model's terms, all of them in ours.
func routeOf(r *route.Route, module string) object {
	next := object{"special-next-hop": "blackhole"}
	choices := list{}
	for _, h := range r.Hops {
		one := object{"metric": h.Metric, "outgoing-interface": h.Interface}
		if h.Weight > 0 {
			one["weight"] = h.Weight
		}
		if h.Why != "" {
			one["why"] = string(h.Why)
		}
		choices = append(choices, one)
	}
	switch {
	case r.Link != nil:
		next = object{module + ":next-hop-address": r.NextHop.String()}
	case route.Sharing(r.Hops) > 1:
		hops := list{}
		for i, h := range r.Hops[:route.Sharing(r.Hops)] {
			hops = append(hops, object{"index": strconv.Itoa(i + 1), "outgoing-interface": h.Interface})
		}
		next = object{"next-hop-list": object{"next-hop": hops}}
	case len(r.Hops) > 0:
		next = object{"outgoing-interface": r.Hops[0].Interface}
	}
	standby := object{"kind": string(r.Kind), "discard": r.Discards()}
	if len(choices) > 0 {
		standby["choice"] = choices
	}
	return object{"destination-prefix": r.Prefix.String(), "next-hop": next, "wideknot-tunnel:standby": standby}
}
