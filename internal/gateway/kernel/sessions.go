package kernel

import (
	"fmt"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
	"golang.zx2c4.com/wireguard/wgctrl/wgtypes"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/agent"
)

// mostConnections is how many the kernel may know for them to be read: each takes some hundred
// bytes here.
const mostConnections = 100_000

// Flows lists the connections that the kernel tracks; it tracks some where a filter or a
// translation looks at them.
func (p *Plane) Flows() (out []agent.Flow, err error) {
	text, err := os.ReadFile("/proc/sys/net/netfilter/nf_conntrack_count")
	if err != nil {
		return nil, nil //nolint:nilerr // it tracks none
	}
	if n, err := strconv.Atoi(strings.TrimSpace(string(text))); err != nil || n > mostConnections {
		return nil, fmt.Errorf("the kernel tracks %d connections, more than are read", n)
	}
	for _, family := range []netlink.InetFamily{unix.AF_INET, unix.AF_INET6} {
		list, err := netlink.ConntrackTableList(netlink.ConntrackTable, family)
		if err != nil {
			return nil, fmt.Errorf("the kernel does not tell its connections: %w", err)
		}
		for _, f := range list {
			if one, ok := flowOf(f); ok {
				out = append(out, one)
			}
		}
	}
	return out, nil
}

// flowOf is a connection as agents know it.
func flowOf(f *netlink.ConntrackFlow) (out agent.Flow, ok bool) {
	from, a := netip.AddrFromSlice(f.Forward.SrcIP)
	to, b := netip.AddrFromSlice(f.Forward.DstIP)
	answers, c := netip.AddrFromSlice(f.Reverse.SrcIP)
	from, to, answers = from.Unmap(), to.Unmap(), answers.Unmap()
	out = agent.Flow{
		Flow: gateway.Flow{
			Protocol: int(f.Forward.Protocol), From: netip.AddrPortFrom(from, f.Forward.SrcPort), To: netip.AddrPortFrom(to, f.Forward.DstPort),
			Unanswered: unanswered(f), Left: int(f.TimeOut),
		},
		Beyond: [2]netip.Addr{answers, from},
	}
	return out, a && b && c
}

// unanswered reports whether a connection is known to have no answer: its handshake waits for one, or
// the kernel counts packets and none came back. Mostly it does not count.
func unanswered(f *netlink.ConntrackFlow) bool {
	const synSent = 1 // TCP_CONNTRACK_SYN_SENT of linux/netfilter/nf_conntrack_tcp.h
	tcp, is := f.ProtoInfo.(*netlink.ProtoInfoTCP)
	return is && tcp.State == synSent || f.Forward.Packets > 0 && f.Reverse.Packets == 0
}

// forgetting matches the connections that are to go.
type forgetting map[gateway.Flow]bool

// MatchConntrackFlow says whether one is among them.
func (g forgetting) MatchConntrackFlow(f *netlink.ConntrackFlow) bool {
	one, ok := flowOf(f)
	return ok && g[gateway.Flow{Protocol: one.Protocol, From: one.From, To: one.To}]
}

// Forget lets connections go, and says how many there were still.
func (p *Plane) Forget(list []agent.Flow) (int, error) {
	gone := map[bool]forgetting{true: {}, false: {}} // of IPv4, of IPv6
	for _, f := range list {
		gone[f.From.Addr().Is4()][gateway.Flow{Protocol: f.Protocol, From: f.From, To: f.To}] = true
	}
	all := 0
	for four, some := range gone {
		if len(some) == 0 {
			continue
		}
		family := netlink.InetFamily(unix.AF_INET6)
		if four {
			family = unix.AF_INET
		}
		n, err := netlink.ConntrackDeleteFilters(netlink.ConntrackTable, family, some)
		if all += int(n); err != nil {
			return all, fmt.Errorf("the kernel does not forget connections: %w", err)
		}
	}
	return all, nil
}

// Rekey makes the peers of a tunnel's device anew, as they are, and calls them.
func (p *Plane) Rekey(t *gateway.Tunnel) error {
	have, err := p.client.Device(t.Interface)
	if err != nil {
		return fmt.Errorf("reading %s: %w", t.Interface, err)
	}
	var change wgtypes.Config
	for i := range have.Peers {
		is := &have.Peers[i]
		every := is.PersistentKeepaliveInterval
		secret := is.PresharedKey
		again := wgtypes.PeerConfig{PublicKey: is.PublicKey, PresharedKey: &secret, PersistentKeepaliveInterval: &every, AllowedIPs: append([]net.IPNet{}, is.AllowedIPs...)}
		if is.Endpoint != nil {
			again.Endpoint = is.Endpoint
		}
		change.Peers = append(change.Peers, wgtypes.PeerConfig{PublicKey: is.PublicKey, Remove: true}, again)
	}
	if err := p.client.ConfigureDevice(t.Interface, change); err != nil {
		return fmt.Errorf("setting %s: %w", t.Interface, err)
	}
	return knock(p.client, t)
}
