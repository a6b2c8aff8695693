// Package kernel makes a Linux gateway what its configuration says: by netlink,
// next-hop objects, rules, nftables, HTB and WireGuard. Ours, and so changed or taken
// away, are interfaces whose alias begins with "wideknot:", next hops, routes and rules
// of protocol 199, and the nft table "inet wideknot". Nothing else is touched.
package kernel

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
	"golang.zx2c4.com/wireguard/wgctrl"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/agent"
	"wideknot/internal/gateway/stamp"
)

// A Plane is this machine's kernel, in the network namespace of the process.
type Plane struct {
	client  *wgctrl.Client
	devices *deviceClient
	state   string // folder for what must be known over reboots
	loaded  []byte // the filter that is loaded, if this process loaded it
}

// oldest is the first kernel whose next-hop groups do what is asked of them.
var oldest = [2]int{5, 10}

// Open returns the plane. State is a folder; socket is where the process is told of
// devices that the kernel cannot make.
func Open(state, socket string) (*Plane, error) {
	if os.Geteuid() != 0 && !capable() {
		return nil, errors.New("no permission: this needs root or CAP_NET_ADMIN")
	}
	var name unix.Utsname
	if err := unix.Uname(&name); err != nil {
		return nil, err
	}
	release := unix.ByteSliceToString(name.Release[:])
	if err := recent(release); err != nil {
		return nil, err
	}
	client, err := wgctrl.New()
	if err != nil {
		return nil, fmt.Errorf("asking for WireGuard: %w", err)
	}
	return &Plane{client: client, devices: &deviceClient{socket: socket}, state: state}, nil
}

// recent refuses kernels that are too old.
func recent(release string) error {
	var major, minor int
	if n, err := fmt.Sscanf(release, "%d.%d", &major, &minor); err != nil || n != 2 {
		return fmt.Errorf("this kernel calls itself %q; it must be Linux %d.%d or later", release, oldest[0], oldest[1])
	}
	if major < oldest[0] || major == oldest[0] && minor < oldest[1] {
		return fmt.Errorf("this kernel is Linux %s; ways are next-hop groups, which are whole from %d.%d on", release, oldest[0], oldest[1])
	}
	return nil
}

// capable reports whether the process may administer networks.
func capable() bool {
	var data [2]unix.CapUserData
	err := unix.Capget(&unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}, &data[0])
	return err == nil && data[0].Effective&(1<<unix.CAP_NET_ADMIN) != 0
}

// Close lets go of the kernel; what was made stays.
func (p *Plane) Close() error { return p.client.Close() }

// Use lets ways go by other tunnels: one replacement each, however many routes go by it;
// then prefixes by other ways.
func (p *Plane) Use(c *gateway.Config, uses []agent.Use, steers map[agent.Place]int) error {
	// A member whose device just went down is told by the kernel's refusal; Mend, which
	// follows a change of links, then puts it right.
	for id, h := range groupsOf(c, uses, func(*gateway.Tunnel) bool { return true }) {
		if err := setNextHop(id, h); err != nil {
			return err
		}
	}
	for place, way := range steers {
		if err := (&route{table: tableOf(place.Table), prefix: place.Prefix, way: way}).set(); err != nil {
			return err
		}
	}
	return nil
}

// Mend brings back what went with a link that was down: addresses, next hops, ways,
// routes.
func (p *Plane) Mend(c *gateway.Config, choice *agent.Choice) ([]string, error) {
	a := &applying{p: p, is: c, choice: choice}
	if err := a.read(); err != nil {
		return nil, err
	}
	for i := range c.Tunnels {
		t := &c.Tunnels[i]
		if l, there := a.links[t.Interface]; there && l.ours {
			if err := give(t, l, a.addresses[l.index]); err != nil {
				return nil, err
			}
		}
	}
	for _, step := range []func() error{a.nextHops, a.ways, a.discards, a.setRoutes} {
		if err := step(); err != nil {
			return a.notes, err
		}
	}
	return a.notes, nil
}

// Guard puts discards and the filter up.
func (p *Plane) Guard(c *gateway.Config) error {
	a := &applying{p: p, is: c}
	if err := a.read(); err != nil {
		return err
	}
	return errors.Join(a.discards(), p.filter(c, nil))
}

// Remove takes away everything of ours, in the order of Apply with nothing wanted.
func (p *Plane) Remove() error {
	a := &applying{p: p, is: &gateway.Config{}}
	for _, step := range []func() error{a.read, a.dropRules, a.dropRoutes, a.dropNextHops} {
		if err := step(); err != nil {
			return err
		}
	}
	if err := dropNextHop(gateway.Blackhole); err != nil {
		return err
	}
	p.loaded = nil
	return errors.Join(a.dropInterfaces(), dropFilter(), a.dropDiscards(), p.restore())
}

// Read tells of tunnels, links and counters.
func (p *Plane) Read(c *gateway.Config) (agent.Reading, error) {
	out := agent.Reading{Tunnels: make(map[string]agent.Device, len(c.Tunnels)), Links: map[string][]netip.Addr{}}
	have, err := links()
	if err != nil {
		return out, err
	}
	given, err := addresses()
	if err != nil {
		return out, err
	}
	for i := range c.Links {
		if l, there := have[c.Links[i].Device]; there {
			for _, a := range given[l.index] {
				out.Links[c.Links[i].Key] = append(out.Links[c.Links[i].Key], a.Addr())
			}
		}
	}
	rules, kept, err := counts(c)
	if err != nil {
		return out, err
	}
	out.Rules = rules
	for i := range c.Tunnels {
		t := &c.Tunnels[i]
		l, there := have[t.Interface]
		one := agent.Device{Present: there && l.ours, Up: l.up, Kept: kept[t.Interface]}
		if d, err := p.client.Device(t.Interface); err == nil && len(d.Peers) > 0 {
			for j := range d.Peers {
				peer := &d.Peers[j]
				one.In, one.Out = one.In+uint64(peer.ReceiveBytes), one.Out+uint64(peer.TransmitBytes)
				if peer.LastHandshakeTime.Unix() > 0 && peer.LastHandshakeTime.After(one.Handshake) {
					one.Handshake = peer.LastHandshakeTime
				}
			}
			one.Endpoint = endpointOf(leader(d.Peers))
		}
		out.Tunnels[t.Interface] = one
	}
	return out, nil
}

// Call tells a tunnel's device where its far end is.
func (p *Plane) Call(t *gateway.Tunnel, to netip.AddrPort) error { return call(p.client, t, to) }

// Lead lets whichever of a far end's two keys shook hands last have what it may send from.
func (p *Plane) Lead(c *gateway.Config, t *gateway.Tunnel) (bool, error) {
	return lead(p.client, c, t)
}

// Knock calls the far end of a tunnel by each of its keys at once.
func (p *Plane) Knock(t *gateway.Tunnel) error { return knock(p.client, t) }

// Inspect reads a tunnel's device.
func (p *Plane) Inspect(t *gateway.Tunnel) (agent.Inside, error) { return inspect(p.client, t) }

// Interfaces returns the number of each interface that is up.
func (p *Plane) Interfaces() (map[string]int, error) {
	have, err := links()
	if err != nil {
		return nil, err
	}
	out := make(map[string]int, len(have))
	for name, l := range have {
		if l.up {
			out[name] = l.index
		}
	}
	return out, nil
}

// Carrying says of each address whether its device carries anything: a LAN's cable that
// is out leaves the address, and the kernel answers for it.
func (p *Plane) Carrying() (map[netip.Addr]bool, error) {
	list, err := netlink.LinkList()
	if err != nil {
		return nil, fmt.Errorf("reading interfaces: %w", err)
	}
	given, err := addresses()
	if err != nil {
		return nil, err
	}
	out := map[netip.Addr]bool{}
	for _, l := range list {
		a := l.Attrs()
		carries := a.OperState == netlink.OperUp || a.OperState == netlink.OperUnknown && a.Flags&net.FlagUp != 0
		for _, at := range given[a.Index] {
			out[at.Addr()] = out[at.Addr()] || carries
		}
	}
	return out, nil
}

// Listen opens a socket for probes.
func (p *Plane) Listen(ctx context.Context, four bool, port, mark int) (stamp.Conn, error) {
	if port != 0 {
		return stamp.Listen(ctx, four, port, mark)
	}
	// The system's own choice might be a port that a tunnel is to have later.
	for port := stamp.Port + 1; port < stamp.Port+asking; port++ {
		if conn, err := stamp.Listen(ctx, four, port, mark); err == nil {
			return conn, nil
		}
	}
	return stamp.Listen(ctx, four, 0, mark)
}

// asking is how many ports after that of STAMP probes may be sent from; nobody has those.
const asking = 10

// gather is how long changes of links are gathered before they are told.
const gather = 20 * time.Millisecond

// Changes tells that links or addresses changed.
func (p *Plane) Changes(ctx context.Context) (<-chan struct{}, error) {
	links, addresses := make(chan netlink.LinkUpdate, 64), make(chan netlink.AddrUpdate, 64)
	done := ctx.Done()
	options := netlink.LinkSubscribeOptions{ErrorCallback: func(error) {}}
	if err := netlink.LinkSubscribeWithOptions(links, done, options); err != nil {
		return nil, fmt.Errorf("watching links: %w", err)
	}
	if err := netlink.AddrSubscribe(addresses, done); err != nil {
		return nil, fmt.Errorf("watching addresses: %w", err)
	}
	out := make(chan struct{}, 1)
	go func() {
		timer := time.NewTimer(time.Hour)
		defer timer.Stop()
		for {
			select {
			case _, ok := <-links:
				if !ok {
					return
				}
				timer.Reset(gather)
			case _, ok := <-addresses:
				if !ok {
					return
				}
				timer.Reset(gather)
			case <-timer.C:
				select {
				case out <- struct{}{}:
				default:
				}
			}
		}
	}()
	return out, nil
}
