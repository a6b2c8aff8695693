package memory

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/hex"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/agent"
)

// Inspect reads a tunnel's device.
func (m *Machine) Inspect(t *gateway.Tunnel) (out agent.Inside, err error) {
	m.mu.Lock()
	device := m.tunnels[t.Interface]
	m.mu.Unlock()
	if device == nil {
		return out, nil
	}
	text, err := device.wire.IpcGet()
	if err != nil {
		return out, err
	}
	out.Present = true
	peer := &agent.Peer{}
	var seconds int64
	for l := range strings.Lines(text) {
		name, value, _ := strings.Cut(strings.TrimSpace(l), "=")
		n, _ := strconv.ParseInt(value, 10, 64)
		switch name {
		case "private_key":
			_, _ = hex.Decode(out.Private[:], []byte(value)) // the device wrote it
		case "listen_port":
			out.Port = int(n)
		case "public_key":
			raw, _ := hex.DecodeString(value)
			out.Peers = append(out.Peers, agent.Peer{Key: base64.StdEncoding.EncodeToString(raw)})
			peer = &out.Peers[len(out.Peers)-1]
		case "preshared_key":
			_, _ = hex.Decode(peer.Shared[:], []byte(value))
		case "endpoint":
			peer.Endpoint, _ = netip.ParseAddrPort(value)
		case "allowed_ip":
			if p, err := netip.ParsePrefix(value); err == nil {
				peer.Allowed = append(peer.Allowed, p)
			}
		case "last_handshake_time_sec":
			seconds = n
		case "last_handshake_time_nsec":
			if seconds+n > 0 {
				peer.Handshake = time.Unix(seconds, n)
			}
		case "rx_bytes":
			peer.In = uint64(n)
		case "tx_bytes":
			peer.Out = uint64(n)
		}
	}
	return out, nil
}

// An ear counts what arrives.
type ear struct {
	devices []string
	count   map[gateway.Arrived]int // without its count
}

// Overhear counts the datagrams that arrive by the devices of links.
func (m *Machine) Overhear(ctx context.Context, links []gateway.Link) (out []gateway.Arrived, err error) {
	e := &ear{count: map[gateway.Arrived]int{}}
	for i := range links {
		e.devices = append(e.devices, links[i].Device)
	}
	m.mu.Lock()
	m.ears = append(m.ears, e)
	m.mu.Unlock()
	<-ctx.Done()
	m.mu.Lock()
	defer m.mu.Unlock()
	m.ears = slices.DeleteFunc(m.ears, func(other *ear) bool { return other == e })
	for a, n := range e.count {
		a.Count = n
		out = append(out, a)
	}
	return out, nil
}

// overhear tells who listens, under the lock.
func (m *Machine) overhear(device string, p Packet) {
	in, ok := p.read()
	if !ok || in.protocol != ProtoUDP {
		return
	}
	for _, e := range m.ears {
		a := gateway.Arrived{Port: int(in.dport), From: netip.AddrPortFrom(in.src, in.sport), Message: gateway.MessageOf(p.Payload())}
		if slices.Contains(e.devices, device) && (len(e.count) < gateway.MaxArrivals || e.count[a] > 0) {
			e.count[a]++
		}
	}
}

// SetByHand changes the device of a tunnel as somebody does who has a shell there: another key
// of its peer, another pre-shared key, or a prefix that the peer may no longer send from. What
// is empty stays.
func (m *Machine) SetByHand(name, peerKey, shared string, without netip.Prefix) error {
	m.mu.Lock()
	t := m.tunnels[name]
	m.mu.Unlock()
	if t == nil {
		return errNoTunnel
	}
	now, err := m.Inspect(&t.is)
	if err != nil || len(now.Peers) == 0 {
		return err
	}
	p := &now.Peers[0]
	var b strings.Builder
	if peerKey != "" || shared != "" { // the peer is made anew
		secret := hex.EncodeToString(p.Shared[:])
		if shared != "" {
			secret = hexed(shared)
		}
		b.WriteString("public_key=" + hexed(p.Key) + "\nremove=true\n")
		b.WriteString("public_key=" + hexed(cmp.Or(peerKey, p.Key)) + "\npreshared_key=" + secret + "\n")
		b.WriteString("persistent_keepalive_interval=" + strconv.Itoa(t.is.WireGuard.Keepalive) + "\n")
		if t.is.WireGuard.Endpoint != "" && p.Endpoint.IsValid() { // else it is learned anew
			b.WriteString("endpoint=" + p.Endpoint.String() + "\n")
		}
		allow(&b, p.Allowed)
		return t.wire.IpcSet(b.String())
	}
	b.WriteString("public_key=" + hexed(p.Key) + "\nupdate_only=true\n")
	if without.IsValid() {
		b.WriteString("replace_allowed_ips=true\n")
		allow(&b, slices.DeleteFunc(p.Allowed, func(a netip.Prefix) bool { return a == without }))
	}
	return t.wire.IpcSet(b.String())
}
