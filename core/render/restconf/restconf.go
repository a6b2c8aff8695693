// Package restconf renders the configuration of a site's gateway as RFC 7951
// JSON over the models of RFC 8343 (interfaces), 8344 (addresses) and 8349
// (routes), with the module wideknot-tunnel for what those do not know.
package restconf

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"wideknot/core/gateway"
	"wideknot/core/render"
	"wideknot/core/route"
)

type (
	object = map[string]any
	list   = []object
)

// Site renders one site as SITE/config.json and, where zone policies concern
// it, SITE/acl.json. They hold no secret. It is empty for a site without
// tunnels.
func Site(m *route.Map, site int) ([]render.File, error) { return Write(m, site, gateway.Of(m, site)) }

// Write is Site where the site's configuration is made already. Routes are told with
// the reasons of the route map, which the configuration has not.
func Write(m *route.Map, site int, c *gateway.Config) ([]render.File, error) {
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
		"ietf-interfaces:interfaces": object{"interface": interfaces(c)},
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

// interfaces lists the site's own devices, which its routes may name, and its tunnels.
func interfaces(c *gateway.Config) list {
	var out list
	for _, l := range c.Links {
		if l.Device != "" {
			out = append(out, object{"name": l.Device, "type": "iana-if-type:ethernetCsmacd", "enabled": true})
		}
	}
	for i := range c.Tunnels {
		t := &c.Tunnels[i]
		one := object{"name": t.Interface, "type": "iana-if-type:tunnel", "enabled": true, "wideknot-tunnel:tunnel": tunnelOf(c, t)}
		for _, a := range t.Addresses {
			one["ietf-ip:"+string(gateway.FamilyOf(a.Addr()))] = object{"mtu": t.MTU, "address": list{{"ip": a.Addr().String(), "prefix-length": a.Bits()}}}
		}
		out = append(out, one)
	}
	return out
}

func tunnelOf(c *gateway.Config, t *gateway.Tunnel) object {
	out := object{
		"overlay": t.Overlay, "rank": t.Rank, "mtu": t.MTU,
		"underlay-link": t.Link, "peer-site": t.Peer, "peer-link": t.PeerLink,
	}
	if t.Limited {
		out["zones"] = object{"zone": append([]string{}, t.Zones...)}
	}
	if p := t.Probe; p != nil {
		probe := object{"target": p.Target, "interval": p.Interval, "timeout": p.Timeout, "misses": p.Misses, "successes": p.Successes}
		if p.Address.IsValid() {
			probe["address"] = p.Address.String()
		}
		out["probe"] = probe
	}
	if t.IPsec != nil {
		out["ipsec"] = ipsecOf(t.IPsec)
	} else {
		out["wireguard"] = wireguardOf(c, t.WireGuard)
	}
	return out
}

func wireguardOf(c *gateway.Config, w *gateway.WireGuard) object {
	out := object{"listen-port": w.Port, "allowed-prefix": texts(c.Allowed(w))}
	if w.PublicKey != "" {
		out["public-key"] = w.PublicKey
	}
	if at := strings.LastIndex(w.Endpoint, ":"); at >= 0 {
		port, _ := strconv.Atoi(w.Endpoint[at+1:]) // is one: Check has seen it
		out["endpoint-host"], out["endpoint-port"] = strings.Trim(w.Endpoint[:at], "[]"), port
	}
	if w.Keepalive > 0 {
		out["keepalive"] = w.Keepalive
	}
	return out
}

func ipsecOf(s *gateway.IPsec) object {
	out := object{
		"autostartup": "add", "local-pad-entry-name": s.LocalID, "remote-pad-entry-name": s.RemoteID,
		"espencap": "none", "ike-proposal": s.IKE, "esp-proposal": s.ESP,
		"ike-sa-lifetime-soft":   object{"rekey-time": s.IKELifetime},
		"ipsec-sa-lifetime-soft": object{"time": s.ChildLifetime},
		"bind-identifier":        s.InterfaceID,
	}
	if s.Initiates {
		out["autostartup"] = "start"
	}
	if s.Encapsulate {
		out["espencap"] = "espinudp"
	}
	if s.Local.IsValid() {
		out["local"] = s.Local.String()
	}
	if s.RemoteName != "" {
		out["remote"] = s.RemoteName
	} else if s.Remote.IsValid() {
		out["remote"] = s.Remote.String()
	}
	var entries list
	for i := range s.LocalTS {
		entries = append(entries, object{"name": fmt.Sprint(i + 1), "local-prefix": s.LocalTS[i].String(), "remote-prefix": s.RemoteTS[i].String()})
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
