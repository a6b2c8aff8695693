package memory

import (
	"fmt"
	"net/netip"
	"strings"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/agent"
)

// Flows lists the flows of the machine.
func (m *Machine) Flows() (out []agent.Flow, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	now := time.Now()
	for key, f := range m.flows.known {
		left := flowFor - now.Sub(f.seen)
		if key != f.original || left <= 0 { // it is known by its answers, too
			continue
		}
		out = append(out, agent.Flow{
			Flow: gateway.Flow{
				Protocol: int(f.original.protocol), From: hostOf(&f.original, f.original.src, f.original.sport), To: hostOf(&f.original, f.original.dst, f.original.dport),
				Unanswered: !f.answered, Left: int(left.Seconds()),
			},
			Beyond: [2]netip.Addr{f.answers.src, f.original.src},
		})
	}
	return out, nil
}

// hostOf is one side of a direction, with its port where the protocol has any.
func hostOf(t *tuple, host netip.Addr, port uint16) netip.AddrPort {
	if t.protocol != ProtoTCP && t.protocol != ProtoUDP {
		port = 0
	}
	return netip.AddrPortFrom(host, port)
}

// Forget lets flows go, and says how many there were still.
func (m *Machine) Forget(list []agent.Flow) (n int, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	gone := map[gateway.Flow]bool{}
	name := func(f *flow) gateway.Flow {
		return gateway.Flow{Protocol: int(f.original.protocol), From: hostOf(&f.original, f.original.src, f.original.sport), To: hostOf(&f.original, f.original.dst, f.original.dport)}
	}
	for _, f := range list {
		gone[gateway.Flow{Protocol: f.Protocol, From: f.From, To: f.To}] = true
	}
	for key, f := range m.flows.known {
		if !gone[name(f)] {
			continue
		}
		if key == f.original {
			n++
		}
		delete(m.flows.known, key)
	}
	return n, nil
}

// Rekey makes the peers of a tunnel's device anew, as they are, and calls them.
func (m *Machine) Rekey(t *gateway.Tunnel) error {
	is, err := m.Inspect(t)
	if err != nil {
		return err
	}
	m.mu.Lock()
	have := m.tunnels[t.Interface]
	m.mu.Unlock()
	if have == nil {
		return errNoTunnel
	}
	var b strings.Builder
	for _, p := range is.Peers {
		fmt.Fprintf(&b, "public_key=%s\nremove=true\n", hexed(p.Key))
		fmt.Fprintf(&b, "public_key=%s\npreshared_key=%x\npersistent_keepalive_interval=%d\n", hexed(p.Key), p.Shared, have.keepalive(t.WireGuard, p.Key))
		if p.Endpoint.IsValid() {
			fmt.Fprintf(&b, "endpoint=%s\n", p.Endpoint)
		}
		allow(&b, p.Allowed)
	}
	if err := have.wire.IpcSet(b.String()); err != nil {
		return err
	}
	return have.knock()
}
