package main

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/render/linux"
	"wideknot/core/route"
)

// A world is an estate brought up: its gateways with their bundles, what is
// between them, and hosts behind them.
type world struct {
	routes   *route.Map
	between  map[string]*space  // by underlay: one router, to which each link has a cable
	gateways []*space           // by site
	hosts    []*space           // by site: its LAN, or what is behind the LAN's router
	routers  map[int]*space     // LAN routers of one-armed sites
	spaces   []*space           // all, to be closed
	ends     map[[2]string]*end // by site and interface
	outside  map[netip.Addr]int // the address by which a site is seen outside
	names    map[string]netip.Addr
	folder   string           // of bundles and what gateways keep
	down     map[int][]string // by site: what was done last to take tunnels down
	watched  *watch
	agents   bool            // gateways are kept by agents, and not by bundles
	keepers  map[int]*keeper // by site
	slowest  time.Duration   // that an agent was in seeing a tunnel die
	mu       sync.Mutex      // of ends and keepers, while gateways are configured
}

// Addresses in the internet, one of them in the prefix that samples except from
// their breakout.
var internet = []netip.Addr{netip.MustParseAddr("192.0.2.77"), netip.MustParseAddr("198.51.100.77"), netip.MustParseAddr("2001:db8:ffff::77")}

// gatewayOn and hostOn are addresses of a subnet.
func gatewayOn(p netip.Prefix) netip.Addr { return p.Addr().Next() }

func hostOn(p netip.Prefix) netip.Addr {
	a := p.Addr()
	for range 10 {
		a = a.Next()
	}
	return a
}

// newWorld brings an estate up, with bundles or with agents. Close it even after an error.
func newWorld(m *route.Map, keys linux.Keys, agents bool) (*world, error) {
	w, err := layOut(m)
	if err != nil {
		return w, err
	}
	w.agents = agents
	var group errgroup.Group
	for i := range m.Plan.Estate.Sites {
		group.Go(func() error { return w.configure(i, keys) })
	}
	if err := group.Wait(); err != nil {
		return w, err
	}
	if w.watched, err = w.watch(); err != nil {
		return w, err
	}
	return w, w.fail(route.Failing{})
}

// layOut makes what there is before any gateway is told anything: LANs, gateways, circuits and
// what they lead to. Close it even after an error.
func layOut(m *route.Map) (*world, error) {
	w := &world{
		routes: m, between: map[string]*space{}, routers: map[int]*space{}, ends: map[[2]string]*end{},
		outside: map[netip.Addr]int{}, names: map[string]netip.Addr{}, down: map[int][]string{},
		keepers: map[int]*keeper{},
	}
	var err error
	if w.folder, err = os.MkdirTemp("", "wk-lab-"); err != nil {
		return w, err
	}
	e := m.Plan.Estate
	if _, err := w.underlay(estate.Internet); err != nil {
		return w, err
	}
	for i := range e.Sites {
		if err := w.site(i); err != nil {
			return w, err
		}
	}
	return w, nil
}

func (w *world) close() {
	if w.watched != nil {
		w.watched.close()
	}
	for _, k := range w.keepers {
		k.end(syscall.SIGKILL)
	}
	var group sync.WaitGroup
	for _, e := range w.ends {
		group.Go(e.close) // each waits for the kernel to let go of its interface
	}
	group.Wait()
	for _, s := range w.spaces {
		s.close()
	}
	_ = os.RemoveAll(w.folder)
}

func (w *world) space(name string) (*space, error) {
	s, err := newSpace(name)
	if err == nil {
		w.spaces = append(w.spaces, s)
	}
	return s, err
}

// underlay returns the router of an underlay.
func (w *world) underlay(name string) (*space, error) {
	if s := w.between[name]; s != nil {
		return s, nil
	}
	s, err := w.space(name)
	if err != nil {
		return nil, err
	}
	w.between[name] = s
	if err := s.forwards(); err != nil {
		return nil, err
	}
	if name != estate.Internet {
		return s, nil
	}
	var lines []string
	for _, a := range internet {
		lines = append(lines, fmt.Sprintf("addr add %s/%d dev lo", a, a.BitLen()))
	}
	return s, s.ip(lines...)
}

// site makes a site's LAN, its gateway and the circuits.
func (w *world) site(i int) error {
	site := w.routes.Plan.Site(i)
	gateway, err := w.space(site.Key)
	if err != nil {
		return err
	}
	w.gateways = append(w.gateways, gateway)
	host, err := w.space(site.Key + " host")
	if err != nil {
		return err
	}
	w.hosts = append(w.hosts, host)
	if err := w.lan(i, gateway, host); err != nil {
		return err
	}
	for j := range site.Links {
		if err := w.link(i, j, gateway); err != nil {
			return fmt.Errorf("link %s of %s: %w", site.Links[j].Key, site.Key, err)
		}
	}
	// What the gateway has before any bundle: a way out by its preferred link.
	var lines []string
	links := make([]*estate.Link, len(site.Links))
	for j := range site.Links {
		links[j] = &site.Links[j]
	}
	slices.SortStableFunc(links, func(a, b *estate.Link) int { return cmp.Compare(a.RankOf(), b.RankOf()) })
	slices.SortStableFunc(links, func(a, b *estate.Link) int { // a private underlay where there is nothing else
		return cmp.Compare(min(1, len(a.Underlay)), min(1, len(b.Underlay)))
	})
	for _, v4 := range []bool{true, false} {
		for _, l := range links {
			if hop := route.NextHop(l, v4); hop.IsValid() {
				lines = append(lines, fmt.Sprintf("route add default via %s dev %s onlink", hop, l.Device))
				break
			}
		}
	}
	return gateway.ip(lines...)
}

// lan joins the gateway and the hosts: by a cable where the gateway is the
// LAN's router, else behind a router that is there already.
func (w *world) lan(i int, gateway, host *space) error {
	site := w.routes.Plan.Site(i)
	near, device := gateway, site.Gateway.LANDevice
	var own, hosts, ways []string
	if site.Gateway.Placement == estate.OneArmed {
		router, err := w.space(site.Key + " router")
		if err != nil {
			return err
		}
		w.routers[i] = router
		if err := errors.Join(
			router.forwards(), router.ip("link add lan type bridge", "link set lan up"),
			cable(gateway, device, router, "gateway", 1500), router.ip("link set gateway master lan"),
			cable(router, "hosts", host, "eth0", 1500), router.ip("link set hosts master lan"),
			w.beside(i, router),
		); err != nil {
			return err
		}
		var lines []string
		for _, a := range site.Gateway.LANAddresses() {
			for j := range site.Subnets {
				if site.Subnets[j].Prefix.Contains(a) {
					lines = append(lines, fmt.Sprintf("addr add %s/%d dev %s nodad", a, site.Subnets[j].Prefix.Bits(), device))
				}
			}
		}
		for j := range site.Subnets { // those behind the router
			p := site.Subnets[j].Prefix
			up := site.Gateway.UpstreamOf(p.Addr().Is4())
			if up.IsValid() && !slices.ContainsFunc(site.Gateway.LANAddresses(), p.Contains) {
				lines = append(lines, fmt.Sprintf("route add %s via %s dev %s", p, up, device))
			}
		}
		if err := gateway.ip(lines...); err != nil {
			return err
		}
		near, device = router, "lan"
	} else if err := cable(gateway, device, host, "eth0", 1500); err != nil {
		return err
	}
	given := map[bool]bool{}
	for j := range site.Subnets {
		p := site.Subnets[j].Prefix
		at := gatewayOn(p)
		if up := site.Gateway.UpstreamOf(p.Addr().Is4()); near != gateway && up.IsValid() && p.Contains(up) {
			at = up
		}
		own = append(own, fmt.Sprintf("addr add %s/%d dev %s nodad", at, p.Bits(), device))
		hosts = append(hosts, fmt.Sprintf("addr add %s/%d dev eth0 nodad", hostOn(p), p.Bits()))
		if v4 := p.Addr().Is4(); !given[v4] {
			given[v4] = true
			ways = append(ways, fmt.Sprintf("route add default via %s dev eth0", at))
		}
	}
	return errors.Join(near.ip(own...), host.ip(append(hosts, ways...)...))
}

// beside gives a LAN's router a way out of its own.
func (w *world) beside(i int, router *space) error {
	net := w.between[estate.Internet]
	device := fmt.Sprintf("lan%d", i)
	outside := netip.AddrFrom4([4]byte{198, 18, 128, byte(i + 1)})
	outside6 := netip.AddrFrom16([16]byte{0x20, 0x01, 0x0d, 0xb8, 0xfe, byte(i + 1), 15: 1})
	w.outside[outside], w.outside[outside6] = i, i
	return errors.Join(
		cable(router, "wan", net, device, 1500),
		wire(router, "wan", outside, net, device, netip.MustParseAddr("198.18.0.1")),
		wire(router, "wan", outside6, net, device, netip.MustParseAddr("2001:db8:fe::1")),
		router.ip("route add default via 198.18.0.1 dev wan onlink", "route add default via 2001:db8:fe::1 dev wan onlink"),
	)
}

// online reports whether hosts of a site reach the internet without any tunnel: by their gateway's
// preferred link, or by the router that it stands beside.
func (w *world) online(i int, v4 bool) bool {
	if w.routers[i] != nil {
		return true
	}
	if c := gateway.Of(w.routes, i); len(c.Tunnels) == 0 || !v4 && !c.Forward6 {
		return false // the lab makes no router of what the design does not
	}
	return slices.ContainsFunc(w.routes.Plan.Site(i).Links, func(l estate.Link) bool {
		return l.UnderlayOf() == estate.Internet && route.NextHop(&l, v4).IsValid()
	})
}

// configure applies a gateway's bundle, and does at the router beside it what the
// bundle's README.txt asks.
func (w *world) configure(i int, keys linux.Keys) error {
	files, err := linux.Site(w.routes, i, keys)
	if err != nil || len(files) == 0 {
		return err
	}
	site := w.routes.Plan.Site(i).Key
	readme := ""
	for _, f := range files {
		path := filepath.Join(w.folder, filepath.FromSlash(f.Path))
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), os.WriteFile(path, f.Text, 0o600)); err != nil {
			return err
		}
		if f.Path == site+"/README.txt" {
			readme = string(f.Text)
		}
	}
	sockets := filepath.Join(w.folder, site+".d", "sockets") // no key has a dot
	if err := os.MkdirAll(sockets, 0o700); err != nil {
		return err
	}
	for _, p := range w.routes.Plan.Peers(i) {
		e, err := newEnd(w.gateways[i], p.Interface, sockets)
		if err != nil {
			return err
		}
		w.mu.Lock()
		w.ends[[2]string{site, p.Interface}] = e
		w.mu.Unlock()
	}
	var hosts strings.Builder
	for name, address := range w.names {
		fmt.Fprintf(&hosts, "%s %s\n", address, name)
	}
	if err := os.WriteFile(filepath.Join(w.folder, site+".d", "hosts"), []byte(hosts.String()), 0o600); err != nil {
		return err
	}
	bring := func() error { return w.apply(i) }
	if w.agents {
		bring = func() error { return w.keep(i, keys) }
	}
	if err := bring(); err != nil {
		return err
	}
	for _, p := range w.routes.Plan.Peers(i) {
		e := w.ends[[2]string{site, p.Interface}]
		if err := e.wire.Up(); err != nil { // only now: until it has its port it would take any
			return fmt.Errorf("%s at %s: %w", e.name, site, err)
		}
		e.port.resized()
	}
	return w.neighbour(i, readme)
}

// apply runs the bundle's program at its gateway, with sockets and names that are
// this gateway's alone.
func (w *world) apply(i int, arguments ...string) error {
	at := filepath.Join(w.folder, w.routes.Plan.Site(i).Key)
	return w.gateways[i].run("", append([]string{"unshare", "-m", "sh", "-c", `
		mkdir -p /run/wireguard && mount --bind "$1.d/sockets" /run/wireguard && mount --bind "$1.d/hosts" /etc/hosts || exit
		export WIDEKNOT_STATE="$1.d/state" WIDEKNOT_KEYS="$1.d/keys"
		folder=$1; shift
		exec sh "$folder/apply" "$@"`, "sh", at}, arguments...)...)
}

// neighbour gives the LAN's router the routes that README.txt asks of it.
func (w *world) neighbour(i int, readme string) error {
	router := w.routers[i]
	if router == nil {
		return nil
	}
	var lines []string
	tables := 0
	for line := range strings.Lines(readme) {
		f := strings.Fields(line)
		switch {
		case !strings.HasPrefix(line, "    "):
		case len(f) == 4 && f[0] == "route" && f[2] == "via":
			lines = append(lines, "route replace "+f[1]+" via "+f[3]+" dev lan")
		case len(f) == 5 && f[0] == "route" && f[2] == "its":
			hop := "198.18.0.1"
			if strings.Contains(f[1], ":") {
				hop = "2001:db8:fe::1"
			}
			lines = append(lines, "route replace "+f[1]+" via "+hop+" dev wan onlink")
		case len(f) == 6 && f[0] == "from" && f[2] == "route" && f[4] == "via":
			// By where a packet starts, but for the gateway's own; what the router has
			// routes for goes as before.
			family := "-4"
			if strings.Contains(f[1], ":") {
				family = "-6"
			}
			table := 100 + tables
			tables++
			for _, line := range []string{
				fmt.Sprintf("rule add from %s/%d lookup main priority 50", f[5], netip.MustParseAddr(f[5]).BitLen()),
				"rule add lookup main suppress_prefixlength 0 priority 60",
				fmt.Sprintf("rule add from %s lookup %d priority %d", f[1], table, table),
				fmt.Sprintf("route replace %s via %s dev lan table %d", f[3], f[5], table),
			} {
				if err := router.run(line+"\n", "ip", family, "-force", "-batch", "-"); err != nil && !strings.Contains(err.Error(), "File exists") {
					return err
				}
			}
		}
	}
	return router.ip(lines...)
}

// cut lets nothing through the tunnels that are dead, and tells nobody.
func (w *world) cut(dead route.Dead) {
	for i := range w.gateways {
		for _, p := range w.routes.Plan.Peers(i) {
			w.ends[[2]string{w.routes.Plan.Site(i).Key, p.Interface}].port.dead.Store(p.Tunnel.Mute || says(dead, p.Tunnel))
		}
	}
}

// fail kills tunnels: nothing gets through them any more, and gateways that watch
// their tunnels take the interfaces down. Where agents do, it makes others slow or lossy,
// for probes: those that the survey calls slow are so always. What failed before comes
// back. The zero Failing brings everything back.
func (w *world) fail(failing route.Failing) error {
	dead := failing.Dead
	began := time.Now()
	var group errgroup.Group
	for i, gateway := range w.gateways {
		var lines []string
		site := w.routes.Plan.Site(i)
		for _, p := range w.routes.Plan.Peers(i) {
			gone := p.Tunnel.Mute || says(dead, p.Tunnel)
			port := w.ends[[2]string{site.Key, p.Interface}].port
			port.dead.Store(gone)
			port.slow.Store(says(failing.Slow, p.Tunnel) || w.routes.Plan.Quality(p.Tunnel).LatencyMs > 0)
			port.lossy.Store(says(failing.Lossy, p.Tunnel))
			if w.agents {
				continue
			}
			if gone && site.Gateway.SwitchesItself() {
				lines = append(lines, "link set dev "+p.Interface+" down")
			}
		}
		was := w.down[i]
		if slices.Equal(was, lines) {
			continue
		}
		w.down[i] = lines
		group.Go(func() error {
			var up []string
			for _, line := range was {
				if !slices.Contains(lines, line) {
					up = append(up, strings.TrimSuffix(line, "down")+"up")
				}
			}
			if err := gateway.ip(append(up, lines...)...); err != nil {
				return err
			}
			return w.apply(i, "--ways")
		})
	}
	if err := group.Wait(); err != nil || !w.agents {
		return err
	}
	if _, err := w.settle(failing); err != nil {
		return err
	}
	slowest, err := w.deaths(dead, began)
	if err != nil {
		return err
	}
	w.slowest = max(w.slowest, slowest)
	return w.forgive()
}
