// Package kernel makes a Linux gateway what its configuration says: by netlink,
// next-hop objects, rules, nftables, HTB and WireGuard. Ours, and so changed or taken
// away, are interfaces whose alias begins with "wideknot:", next hops, routes and rules
// of protocol 199, and the nft table "inet wideknot". Nothing else is touched.
package kernel

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"os"
	"slices"

	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
	"golang.zx2c4.com/wireguard/wgctrl"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/render/linux"
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
	return &Plane{client: client, devices: &deviceClient{socket}, state: state}, nil
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

// Check says what keeps a configuration from being applied.
func (p *Plane) Check(c *gateway.Config) error {
	if c.Carries(estate.IPsec) {
		return errors.New("it has tunnels of IPsec, which the agent does not keep: use the site's linux bundle and its apply")
	}
	p.devices.wait()
	have, err := links()
	if err != nil {
		return err
	}
	for i := range c.Tunnels {
		t := &c.Tunnels[i]
		if l, there := have[t.Interface]; there && !l.ours {
			return fmt.Errorf("there is an interface %s that is not ours: take it away or rename it", t.Interface)
		}
		if _, err := publicKey(t.WireGuard); err != nil {
			return fmt.Errorf("%s: %w", t.Interface, err)
		}
		if t.WireGuard.Port == 0 {
			return fmt.Errorf("%s has no port: its range has run out, give the site more", t.Interface)
		}
	}
	if err := p.ports(c, have); err != nil {
		return err
	}
	text, err := linux.Filter(c, nil, "")
	if err != nil {
		return err
	}
	if _, err := nft(text, "-c", "-f", "-"); err != nil {
		return fmt.Errorf("the filter is not taken: %w", err)
	}
	return nil
}

// ports looks for UDP ports that others hold.
func (p *Plane) ports(c *gateway.Config, have map[string]link) error {
	ours := map[int]bool{}
	for name, l := range have {
		if !l.ours {
			continue
		}
		if d, err := p.client.Device(name); err == nil {
			ours[d.ListenPort] = true
		}
	}
	for i := range c.Tunnels {
		t := &c.Tunnels[i]
		if ours[t.WireGuard.Port] {
			continue
		}
		if err := bindable(t.WireGuard.Port); err != nil {
			return fmt.Errorf("port %d, which %s is to have, is taken by another program: stop that, or keep the port from the design with used_ports", t.WireGuard.Port, t.Interface)
		}
	}
	return nil
}

// bindable tries a UDP port.
func bindable(port int) error {
	fd, err := unix.Socket(unix.AF_INET6, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		if fd, err = unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0); err != nil {
			return err
		}
		defer unix.Close(fd)
		return unix.Bind(fd, &unix.SockaddrInet4{Port: port})
	}
	defer unix.Close(fd)
	return unix.Bind(fd, &unix.SockaddrInet6{Port: port})
}

// An applying is one pass of Apply.
type applying struct {
	p         *Plane
	was, is   *gateway.Config
	secrets   agent.Secrets
	choice    *agent.Choice
	links     map[string]link
	addresses map[int][]netip.Prefix
	routes    map[routeKey]*route // that are there
	wanted    map[routeKey]*route
	hops      map[int]*nextHop
	wider     []*gateway.Tunnel // whose peers are allowed more than they are to be
	notes     []string
}

// Apply makes the gateway what is says, in an order in which nothing that stays is cut.
func (p *Plane) Apply(was, is *gateway.Config, secrets agent.Secrets, choice *agent.Choice) ([]string, error) {
	a := &applying{p: p, was: was, is: is, secrets: secrets, choice: choice}
	also := was
	if was == nil {
		also = &gateway.Config{}
	}
	p.devices.wait()
	steps := []func() error{
		a.read, a.discards,
		func() error { return p.filter(is, also) },
		a.interfaces,
		func() error { return p.settings(is) },
		a.shape, a.nextHops, a.ways, a.setRoutes, a.setRules, a.dropRules, a.dropRoutes, a.dropNextHops, a.dropInterfaces, a.narrow,
		func() error { return p.filter(is, nil) },
		a.dropDiscards,
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return a.notes, err
		}
	}
	return a.notes, nil
}

func (a *applying) note(format string, values ...any) {
	a.notes = append(a.notes, fmt.Sprintf(format, values...))
}

// read reads what is there, and works out which routes are to be.
func (a *applying) read() (err error) {
	if a.links, err = links(); err != nil {
		return err
	}
	if a.addresses, err = addresses(); err != nil {
		return err
	}
	if a.routes, err = routes(); err != nil {
		return err
	}
	if a.hops, err = nextHops(); err != nil {
		return err
	}
	a.wanted = make(map[routeKey]*route, len(a.is.Routes)+len(a.is.Discards))
	for i := range a.is.Discards {
		d := &a.is.Discards[i]
		r := &route{table: tableOf(d.Table), prefix: d.Prefix}
		a.wanted[r.key()] = r
	}
	missing := map[string]bool{}
	var steers map[agent.Place]int
	if a.choice != nil {
		steers = a.choice.Steers
	}
	for i := range a.is.Routes {
		w := &a.is.Routes[i]
		r := &route{table: tableOf(w.Table), prefix: w.Prefix, way: w.Way, via: w.Via}
		if way, ok := steers[agent.Place{Table: w.Table, Prefix: w.Prefix}]; ok && w.Way != 0 {
			r.way = way
		}
		if w.Way == 0 {
			l, there := a.links[w.Device]
			if !there || !l.up {
				if !missing[w.Device] {
					a.note("a WAN link cannot be left as the design says: its device %s is missing or down", w.Device)
				}
				missing[w.Device] = true
				continue
			}
			r.device = l.index
		}
		a.wanted[r.key()] = r
	}
	return nil
}

// set makes the routes that are wanted and not there, discards or others.
func (a *applying) set(discards bool) error {
	for key, r := range a.wanted {
		if have := a.routes[key]; key.discard != discards || have != nil && *have == *r {
			continue
		}
		if err := r.set(); err != nil {
			if r.device == 0 {
				return err
			}
			a.note("a WAN link cannot be left as the design says: %v", err) // its address is to come
		}
	}
	return nil
}

// drop takes routes away that are there and not wanted.
func (a *applying) drop(discards bool) error {
	for key, r := range a.routes {
		if a.wanted[key] == nil && key.discard == discards {
			if err := r.drop(); err != nil {
				return err
			}
		}
	}
	return nil
}

func (a *applying) discards() error { return a.set(true) }
func (a *applying) setRoutes() error {
	list, _ := probing(a.is, a.links)
	for _, r := range list {
		a.wanted[r.key()] = r
	}
	return a.set(false)
}

func (a *applying) dropRoutes() error   { return a.drop(false) }
func (a *applying) dropDiscards() error { return a.drop(true) }

// interfaces makes them and gives them what they lack.
func (a *applying) interfaces() error {
	before := map[string]*gateway.Tunnel{}
	for i := 0; a.was != nil && i < len(a.was.Tunnels); i++ {
		before[a.was.Tunnels[i].Interface] = &a.was.Tunnels[i]
	}
	for i := range a.is.Tunnels {
		t := &a.is.Tunnels[i]
		l, there := a.links[t.Interface]
		if there && !l.ours {
			return fmt.Errorf("there is an interface %s that is not ours: take it away or rename it", t.Interface)
		}
		if !there {
			var err error
			if l, err = a.p.makeInterface(t.Interface); err != nil {
				return err
			}
		}
		var shared *[32]byte
		if key, ok := a.secrets.Shared[t.Interface]; ok && t.WireGuard.Preshared {
			shared = &key
		}
		old := before[t.Interface]
		moved := old == nil || old.WireGuard == nil || old.WireGuard.Endpoint != t.WireGuard.Endpoint
		wider, err := wire(a.p.client, a.is, t, a.secrets.Private, shared, moved)
		if err != nil {
			return err
		}
		if wider {
			a.wider = append(a.wider, t)
		}
		if err := give(t, l, a.addresses[l.index]); err != nil {
			return err
		}
		if !l.up {
			if err := netlink.LinkSetUp(byIndex(l.index)); err != nil {
				return fmt.Errorf("setting %s up: %w", t.Interface, err)
			}
			l.up = true
			if err := give(t, l, nil); err != nil { // those of IPv6 went with it
				return err
			}
		}
		a.links[t.Interface] = l
	}
	return nil
}

// shape makes the trees of links and leads tunnels through them.
func (a *applying) shape() error {
	trees := treesOf(a.is)
	roots := map[string]int{}
	for key, t := range trees {
		index, err := t.grow(a.links)
		if err != nil {
			return err
		}
		roots[key] = index
	}
	for i := range a.is.Tunnels {
		t := &a.is.Tunnels[i]
		if err := redirect(t.Interface, a.links[t.Interface].index, roots[t.Link]); err != nil {
			return err
		}
	}
	return nil
}

// nextHops makes the objects of tunnels, and the one of what is discarded.
func (a *applying) nextHops() error {
	want := map[int]*nextHop{gateway.Blackhole: {discard: true}}
	for i := range a.is.Tunnels {
		t := &a.is.Tunnels[i]
		if l := a.links[t.Interface]; l.up {
			want[t.NextHop] = &nextHop{device: l.index}
		}
	}
	return a.setNextHops(want)
}

func (a *applying) setNextHops(want map[int]*nextHop) error {
	for id, h := range want {
		if have := a.hops[id]; have == nil || !have.same(h) {
			if have != nil && (have.members == nil) != (h.members == nil) {
				if err := dropNextHop(id); err != nil { // one kind does not become the other
					return err
				}
			}
			if err := setNextHop(id, h); err != nil {
				return err
			}
			a.hops[id] = h
		}
	}
	return nil
}

// ways lets each way go by what it is to use.
func (a *applying) ways() error {
	return a.setNextHops(groupsOf(a.is, a.choice.Uses, func(t *gateway.Tunnel) bool { return a.links[t.Interface].up }))
}

// groupsOf writes uses as groups of next hops. Members whose interface is not up are
// left out, and a way without any discards.
func groupsOf(c *gateway.Config, uses []agent.Use, up func(*gateway.Tunnel) bool) map[int]*nextHop {
	byName := make(map[string]*gateway.Tunnel, len(c.Tunnels))
	for i := range c.Tunnels {
		byName[c.Tunnels[i].Interface] = &c.Tunnels[i]
	}
	out := make(map[int]*nextHop, len(uses))
	for _, u := range uses {
		h := &nextHop{}
		for _, m := range u.Members {
			if t := byName[m.Interface]; t != nil && up(t) {
				h.members = append(h.members, nextHopMember{uint32(t.NextHop), uint8(m.Weight - 1)})
			}
		}
		if len(h.members) == 0 {
			h.members = []nextHopMember{{gateway.Blackhole, 0}}
		}
		// The kernel keeps a group in the order of its numbers.
		slices.SortFunc(h.members, func(a, b nextHopMember) int { return int(a.id) - int(b.id) })
		out[u.Way] = h
	}
	return out
}

func (a *applying) setRules() error { return a.changeRules(false) }

func (a *applying) dropRules() error { return a.changeRules(true) }

func (a *applying) changeRules(drop bool) error {
	have, err := rules()
	if err != nil {
		return err
	}
	want := rulesOf(a.is)
	_, more := probing(a.is, a.links)
	maps.Copy(want, more)
	if drop {
		for r := range have {
			if !want[r] {
				if err := r.drop(); err != nil {
					return err
				}
			}
		}
		return nil
	}
	for r := range want {
		if !have[r] {
			if err := r.set(); err != nil {
				return err
			}
		}
	}
	return nil
}

// dropNextHops takes ways away that nothing goes by any more, then next hops.
func (a *applying) dropNextHops() error {
	keep := map[int]bool{gateway.Blackhole: true}
	for i := range a.is.Tunnels {
		keep[a.is.Tunnels[i].NextHop] = true
	}
	for i := range a.is.Ways {
		keep[a.is.Ways[i].ID] = true
	}
	if a.choice != nil {
		for i := range a.choice.Uses {
			keep[a.choice.Uses[i].Way] = true
		}
	}
	for _, ways := range []bool{true, false} {
		for id := range a.hops {
			if !keep[id] && (id >= gateway.FirstWay) == ways {
				if err := dropNextHop(id); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// dropInterfaces takes interfaces of ours away that are not wanted, and addresses.
func (a *applying) dropInterfaces() error {
	keep := map[string]bool{}
	for i := range a.is.Tunnels {
		t := &a.is.Tunnels[i]
		keep[t.Interface] = true
		l := a.links[t.Interface]
		if err := take(t, l, a.addresses[l.index]); err != nil {
			return err
		}
	}
	for _, t := range treesOf(a.is) {
		keep[t.device] = true
	}
	for name, l := range a.links {
		if l.ours && !keep[name] {
			if err := dropInterface(l.index); err != nil {
				return err
			}
		}
	}
	return nil
}

// narrow takes from peers what they are no longer allowed.
func (a *applying) narrow() error {
	for _, t := range a.wider {
		if err := narrow(a.p.client, a.is, t); err != nil {
			return err
		}
	}
	return nil
}

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
	for i := range c.Tunnels {
		t := &c.Tunnels[i]
		l, there := have[t.Interface]
		one := agent.Device{Present: there && l.ours, Up: l.up}
		if d, err := p.client.Device(t.Interface); err == nil && len(d.Peers) > 0 {
			peer := &d.Peers[0]
			one.In, one.Out, one.Endpoint = uint64(peer.ReceiveBytes), uint64(peer.TransmitBytes), endpointOf(peer)
			if peer.LastHandshakeTime.Unix() > 0 {
				one.Handshake = peer.LastHandshakeTime
			}
		}
		out.Tunnels[t.Interface] = one
	}
	out.Rules, err = counts(c)
	return out, err
}

// Call tells a tunnel's device where its far end is.
func (p *Plane) Call(t *gateway.Tunnel, to netip.AddrPort) error { return call(p.client, t, to) }

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
	return stamp.Listen(ctx, four, port, mark)
}

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
