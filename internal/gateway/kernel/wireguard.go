package kernel

import (
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"time"

	"golang.zx2c4.com/wireguard/wgctrl"
	"golang.zx2c4.com/wireguard/wgctrl/wgtypes"

	"wideknot/core/gateway"
)

// wire makes a device what its tunnel says, as far as it is not that already. Prefixes
// that its peer is allowed stay beside the new ones until narrow. A peer with another
// key goes.
func wire(client *wgctrl.Client, c *gateway.Config, t *gateway.Tunnel, private [32]byte, shared *[32]byte, moved bool) (wider bool, err error) {
	w := t.WireGuard
	have, err := client.Device(t.Interface)
	if err != nil {
		return false, fmt.Errorf("reading %s: %w", t.Interface, err)
	}
	key, err := publicKey(w)
	if err != nil {
		return false, fmt.Errorf("%s: %w", t.Interface, err)
	}
	var change wgtypes.Config
	if have.PrivateKey != private {
		k := wgtypes.Key(private)
		change.PrivateKey = &k
	}
	if have.ListenPort != w.Port {
		change.ListenPort = &w.Port
	}
	if have.FirewallMark != w.Mark {
		change.FirewallMark = &w.Mark
	}
	peer := wgtypes.PeerConfig{PublicKey: key}
	is := &wgtypes.Peer{}
	for i := range have.Peers {
		if have.Peers[i].PublicKey == key {
			is, peer.UpdateOnly = &have.Peers[i], true
		} else {
			change.Peers = append(change.Peers, wgtypes.PeerConfig{PublicKey: have.Peers[i].PublicKey, Remove: true})
		}
	}
	changed := settle(&peer, is, w, shared, moved)
	allowed := c.Allowed(w)
	now := make(map[netip.Prefix]bool, len(is.AllowedIPs))
	for _, n := range is.AllowedIPs {
		now[prefixOf(n)] = true
	}
	for _, p := range allowed {
		if !now[p] {
			peer.AllowedIPs, changed = append(peer.AllowedIPs, ipNet(p)), true
		}
	}
	wider = len(now)+len(peer.AllowedIPs) > len(allowed)
	if changed {
		change.Peers = append(change.Peers, peer)
	}
	if change.PrivateKey == nil && change.ListenPort == nil && change.FirewallMark == nil && len(change.Peers) == 0 {
		return wider, nil
	}
	if err := client.ConfigureDevice(t.Interface, change); err != nil {
		return wider, fmt.Errorf("setting %s: %w", t.Interface, err)
	}
	return wider, nil
}

// settle fills in what a peer is to have and has not: pre-shared key, keepalive, and
// the endpoint where it moved in the design or is not known.
func settle(peer *wgtypes.PeerConfig, is *wgtypes.Peer, w *gateway.WireGuard, shared *[32]byte, moved bool) (changed bool) {
	changed = !peer.UpdateOnly
	if psk := valueOf(shared); is.PresharedKey != psk {
		peer.PresharedKey, changed = &psk, true
	}
	if alive := time.Duration(w.Keepalive) * time.Second; is.PersistentKeepaliveInterval != alive {
		peer.PersistentKeepaliveInterval, changed = &alive, true
	}
	if at, err := netip.ParseAddrPort(w.Endpoint); err == nil && (moved || is.Endpoint == nil) && endpointOf(is) != at {
		peer.Endpoint, changed = net.UDPAddrFromAddrPort(at), true
	}
	return changed
}

// narrow leaves a peer what it is allowed and nothing besides.
func narrow(client *wgctrl.Client, c *gateway.Config, t *gateway.Tunnel) error {
	key, err := publicKey(t.WireGuard)
	if err != nil {
		return fmt.Errorf("%s: %w", t.Interface, err)
	}
	peer := wgtypes.PeerConfig{PublicKey: key, UpdateOnly: true, ReplaceAllowedIPs: true}
	for _, p := range c.Allowed(t.WireGuard) {
		peer.AllowedIPs = append(peer.AllowedIPs, ipNet(p))
	}
	if err := client.ConfigureDevice(t.Interface, wgtypes.Config{Peers: []wgtypes.PeerConfig{peer}}); err != nil {
		return fmt.Errorf("setting %s: %w", t.Interface, err)
	}
	return nil
}

// call tells a device where its far end is now.
func call(client *wgctrl.Client, t *gateway.Tunnel, to netip.AddrPort) error {
	key, err := publicKey(t.WireGuard)
	if err != nil {
		return fmt.Errorf("%s: %w", t.Interface, err)
	}
	have, err := client.Device(t.Interface)
	if err != nil {
		return fmt.Errorf("reading %s: %w", t.Interface, err)
	}
	if slices.ContainsFunc(have.Peers, func(p wgtypes.Peer) bool { return p.PublicKey == key && p.Endpoint != nil && endpointOf(&p) == to }) {
		return nil
	}
	peer := wgtypes.PeerConfig{PublicKey: key, UpdateOnly: true, Endpoint: net.UDPAddrFromAddrPort(to)}
	// Keepalive that is turned on calls at once; else the next one does, up to 25 s later.
	for _, seconds := range []int{0, t.WireGuard.Keepalive} {
		keepalive := time.Duration(seconds) * time.Second
		peer.PersistentKeepaliveInterval = &keepalive
		if err := client.ConfigureDevice(t.Interface, wgtypes.Config{Peers: []wgtypes.PeerConfig{peer}}); err != nil {
			return fmt.Errorf("setting %s: %w", t.Interface, err)
		}
	}
	return nil
}

func publicKey(w *gateway.WireGuard) (key wgtypes.Key, err error) {
	raw, err := base64.StdEncoding.DecodeString(w.PublicKey)
	if err != nil || len(raw) != len(key) {
		return key, errors.New("the far end's public key is missing or is none: allocate keys and render anew")
	}
	copy(key[:], raw)
	return key, nil
}

func valueOf(key *[32]byte) (out wgtypes.Key) {
	if key != nil {
		out = *key
	}
	return out
}

func endpointOf(p *wgtypes.Peer) netip.AddrPort {
	if p.Endpoint == nil {
		return netip.AddrPort{}
	}
	at := p.Endpoint.AddrPort()
	return netip.AddrPortFrom(at.Addr().Unmap(), at.Port())
}

func ipNet(p netip.Prefix) net.IPNet {
	return net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}
}

func prefixOf(n net.IPNet) netip.Prefix {
	a, _ := netip.AddrFromSlice(n.IP)
	a = a.Unmap()
	bits, size := n.Mask.Size()
	if a.Is4() && size == 128 {
		bits -= 96
	}
	return netip.PrefixFrom(a, bits)
}
