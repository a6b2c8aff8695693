package kernel

import (
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"time"

	"golang.zx2c4.com/wireguard/wgctrl"
	"golang.zx2c4.com/wireguard/wgctrl/wgtypes"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/agent"
)

// wire makes a device what its tunnel says, as far as it is not that already. Prefixes
// that its peer is allowed stay beside the new ones until narrow. Where the far end may come by
// two keys, the peer that has them keeps them. A peer with any other key goes.
// Long because a device is set at once.
func wire(client *wgctrl.Client, c *gateway.Config, t *gateway.Tunnel, private [32]byte, shared *[32]byte, moved bool) (wider bool, err error) {
	w := t.WireGuard
	have, err := client.Device(t.Interface)
	if err != nil {
		return false, fmt.Errorf("reading %s: %w", t.Interface, err)
	}
	keys, err := publicKeys(w)
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
	known := map[wgtypes.Key]*wgtypes.Peer{}
	for i := range have.Peers {
		if peer := &have.Peers[i]; slices.Contains(keys, peer.PublicKey) {
			known[peer.PublicKey] = peer
		} else {
			change.Peers = append(change.Peers, wgtypes.PeerConfig{PublicKey: peer.PublicKey, Remove: true})
		}
	}
	leads := keys[0]
	if first := leader(have.Peers); len(first.AllowedIPs) > 0 && known[first.PublicKey] != nil {
		leads = first.PublicKey
	}
	for _, key := range keys {
		peer, is := wgtypes.PeerConfig{PublicKey: key}, known[key]
		if peer.UpdateOnly = is != nil; is == nil {
			is = &wgtypes.Peer{}
		}
		changed := settle(&peer, is, w, shared, keepalive(w, key == leads), moved)
		if key == leads {
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
		}
		if changed {
			change.Peers = append(change.Peers, peer)
		}
	}
	if change.PrivateKey == nil && change.ListenPort == nil && change.FirewallMark == nil && len(change.Peers) == 0 {
		return wider, nil
	}
	if err := client.ConfigureDevice(t.Interface, change); err != nil {
		return wider, fmt.Errorf("setting %s: %w", t.Interface, err)
	}
	return wider, nil
}

// knock calls the far end by each of its keys at once. Where the design does not say where the
// far end is, that is where it was heard last.
func knock(client *wgctrl.Client, t *gateway.Tunnel) error {
	keys, err := publicKeys(t.WireGuard)
	if err != nil {
		return fmt.Errorf("%s: %w", t.Interface, err)
	}
	have, err := client.Device(t.Interface)
	if err != nil {
		return fmt.Errorf("reading %s: %w", t.Interface, err)
	}
	first := leader(have.Peers)
	heard := endpointOf(first)
	for _, key := range keys {
		peer := wgtypes.PeerConfig{PublicKey: key, UpdateOnly: true}
		if t.WireGuard.Endpoint == "" && heard.IsValid() {
			peer.Endpoint = net.UDPAddrFromAddrPort(heard)
		}
		for _, every := range []time.Duration{0, time.Second, keepalive(t.WireGuard, key == first.PublicKey)} { // one that is turned on calls at once
			peer.PersistentKeepaliveInterval = &every
			if err := client.ConfigureDevice(t.Interface, wgtypes.Config{Peers: []wgtypes.PeerConfig{peer}}); err != nil {
				return fmt.Errorf("setting %s: %w", t.Interface, err)
			}
		}
	}
	return nil
}

// settle fills in what a peer is to have and has not: pre-shared key, keepalive, and
// the endpoint where it moved in the design or is not known.
func settle(peer *wgtypes.PeerConfig, is *wgtypes.Peer, w *gateway.WireGuard, shared *[32]byte, alive time.Duration, moved bool) (changed bool) {
	changed = !peer.UpdateOnly
	if psk := valueOf(shared); is.PresharedKey != psk {
		peer.PresharedKey, changed = &psk, true
	}
	if is.PersistentKeepaliveInterval != alive {
		peer.PersistentKeepaliveInterval, changed = &alive, true
	}
	if at, err := netip.ParseAddrPort(w.Endpoint); err == nil && (moved || is.Endpoint == nil) && endpointOf(is) != at {
		peer.Endpoint, changed = net.UDPAddrFromAddrPort(at), true
	}
	return changed
}

// keepalive is how often a far end is called: never by a key by which it has not come yet, as two
// handshakes that cross on their way are both lost.
func keepalive(w *gateway.WireGuard, leads bool) time.Duration {
	if !leads {
		return 0
	}
	return time.Duration(w.Keepalive) * time.Second
}

// narrow leaves a peer what it is allowed and nothing besides.
func narrow(client *wgctrl.Client, c *gateway.Config, t *gateway.Tunnel) error {
	have, err := client.Device(t.Interface)
	if err != nil {
		return fmt.Errorf("reading %s: %w", t.Interface, err)
	}
	return allow(client, c, t, leader(have.Peers).PublicKey)
}

// allow lets one peer have all that the far end may send from, and nothing besides.
func allow(client *wgctrl.Client, c *gateway.Config, t *gateway.Tunnel, key wgtypes.Key) error {
	peer := wgtypes.PeerConfig{PublicKey: key, UpdateOnly: true, ReplaceAllowedIPs: true}
	for _, p := range c.Allowed(t.WireGuard) {
		peer.AllowedIPs = append(peer.AllowedIPs, ipNet(p))
	}
	if err := client.ConfigureDevice(t.Interface, wgtypes.Config{Peers: []wgtypes.PeerConfig{peer}}); err != nil {
		return fmt.Errorf("setting %s: %w", t.Interface, err)
	}
	return nil
}

// leader is the peer that has allowed prefixes; the first where none has, and an empty one
// where there is none.
func leader(peers []wgtypes.Peer) *wgtypes.Peer {
	at := slices.IndexFunc(peers, func(p wgtypes.Peer) bool { return len(p.AllowedIPs) > 0 })
	if at = max(at, 0); at < len(peers) {
		return &peers[at]
	}
	return &wgtypes.Peer{}
}

// lead lets the peer that shook hands last have the allowed prefixes.
func lead(client *wgctrl.Client, c *gateway.Config, t *gateway.Tunnel) (moved bool, err error) {
	have, err := client.Device(t.Interface)
	if err != nil || len(have.Peers) < 2 {
		return false, err
	}
	first := leader(have.Peers)
	last := first
	for i := range have.Peers {
		if have.Peers[i].LastHandshakeTime.After(last.LastHandshakeTime) {
			last = &have.Peers[i]
		}
	}
	if last == first {
		return false, nil
	}
	if err := allow(client, c, t, last.PublicKey); err != nil {
		return false, err
	}
	change := wgtypes.Config{}
	for i := range have.Peers {
		every := keepalive(t.WireGuard, &have.Peers[i] == last)
		change.Peers = append(change.Peers, wgtypes.PeerConfig{PublicKey: have.Peers[i].PublicKey, UpdateOnly: true, PersistentKeepaliveInterval: &every})
	}
	return true, client.ConfigureDevice(t.Interface, change)
}

// call tells a device where its far end is now.
func call(client *wgctrl.Client, t *gateway.Tunnel, to netip.AddrPort) error {
	keys, err := publicKeys(t.WireGuard)
	if err != nil {
		return fmt.Errorf("%s: %w", t.Interface, err)
	}
	have, err := client.Device(t.Interface)
	if err != nil {
		return fmt.Errorf("reading %s: %w", t.Interface, err)
	}
	for _, key := range keys {
		if slices.ContainsFunc(have.Peers, func(p wgtypes.Peer) bool { return p.PublicKey == key && p.Endpoint != nil && endpointOf(&p) == to }) {
			continue
		}
		peer := wgtypes.PeerConfig{PublicKey: key, UpdateOnly: true, Endpoint: net.UDPAddrFromAddrPort(to)}
		// Keepalive that is turned on calls at once; else the next one does, up to 25 s later.
		for _, every := range []time.Duration{0, keepalive(t.WireGuard, key == leader(have.Peers).PublicKey)} {
			peer.PersistentKeepaliveInterval = &every
			if err := client.ConfigureDevice(t.Interface, wgtypes.Config{Peers: []wgtypes.PeerConfig{peer}}); err != nil {
				return fmt.Errorf("setting %s: %w", t.Interface, err)
			}
		}
	}
	return nil
}

// publicKeys are those by which the far end may come, the usual one first.
func publicKeys(w *gateway.WireGuard) (keys []wgtypes.Key, err error) {
	for _, text := range w.Keys() {
		raw, err := base64.StdEncoding.DecodeString(text)
		if err != nil || len(raw) != wgtypes.KeyLen {
			return nil, errors.New("the far end's public key is missing or is none: allocate keys and render anew")
		}
		keys = append(keys, wgtypes.Key(raw))
	}
	return keys, nil
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

// inspect reads the device of a tunnel, whatever it is meant to be.
func inspect(client *wgctrl.Client, t *gateway.Tunnel) (out agent.Inside, err error) {
	have, err := client.Device(t.Interface)
	if errors.Is(err, os.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return out, fmt.Errorf("reading %s: %w", t.Interface, err)
	}
	out = agent.Inside{Present: true, Port: have.ListenPort, Private: have.PrivateKey}
	for i := range have.Peers {
		p := &have.Peers[i]
		one := agent.Peer{Key: p.PublicKey.String(), Shared: p.PresharedKey, Endpoint: endpointOf(p), Handshake: p.LastHandshakeTime, In: uint64(p.ReceiveBytes), Out: uint64(p.TransmitBytes)}
		for _, n := range p.AllowedIPs {
			one.Allowed = append(one.Allowed, prefixOf(n))
		}
		out.Peers = append(out.Peers, one)
	}
	return out, nil
}
