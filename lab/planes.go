package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/internal/fleet"
	"wideknot/internal/gateway/memory"
)

// A plane is an estate kept by agents, whose hosts say what they are told to and answer nothing
// by themselves. Behind the last site there is the internet.
type plane interface {
	// say sends a packet of a host.
	say(site int, p memory.Packet) error
	// take is called with what reaches a site's LAN, or hosts of the internet; set before anything
	// is said.
	take(func(arrival)) error
	close()
}

// An arrival is a packet that reaches a site's LAN, or by a link a host of the internet.
type arrival struct {
	site int
	by   string
	memory.Packet
}

// kernels is a plane of gateways on this kernel, each in its namespace.
type kernels struct {
	*world
	socks []int     // by site: where a host sends packets, and hears them
	net   int       // where hosts of the internet hear what comes
	raw   [2]int    // where they send, of IPv4 and IPv6
	doors [][6]byte // by site: the gateway's device
	index []int     // by site: the host's device
	done  atomic.Bool
	busy  sync.WaitGroup
}

// quiet lets a host say nothing by itself but who has its addresses.
const quiet = `table inet quiet {
	chain arrive {
		type filter hook prerouting priority -300; policy drop;
		icmpv6 type { nd-router-solicit, nd-router-advert, nd-neighbor-solicit, nd-neighbor-advert } accept
	}
}
`

func newKernels(e *estate.Estate) (*kernels, error) {
	keys := keysFor(e)
	w, err := newWorld(route.Build(tunnel.Derive(e)), keys, true)
	k := &kernels{world: w}
	if err != nil {
		return k, err
	}
	if err := k.internet(); err != nil {
		return k, err
	}
	for i, host := range w.hosts {
		var door [6]byte
		near, device := w.gateways[i], e.Sites[i].Gateway.LANDevice
		if w.routers[i] != nil {
			near, device = w.routers[i], "lan"
		}
		if err := near.do(func() error {
			d, err := net.InterfaceByName(device)
			if err == nil {
				copy(door[:], d.HardwareAddr)
			}
			return err
		}); err != nil {
			return k, err
		}
		// What arrives is seen before this, and no host's kernel says anything to it.
		if err := host.run(quiet, "nft", "-f", "-"); err != nil {
			return k, err
		}
		err := host.do(func() error {
			fd, err := ear()
			if err != nil {
				return err
			}
			d, err := net.InterfaceByName("eth0")
			if err != nil {
				return err
			}
			k.socks, k.doors, k.index = append(k.socks, fd), append(k.doors, door), append(k.index, d.Index)
			return nil
		})
		if err != nil {
			return k, err
		}
	}
	return k, nil
}

// ear opens a socket that hears what arrives in the namespace of the caller.
func ear() (int, error) {
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, int(htons(unix.ETH_P_ALL)))
	if err != nil {
		return -1, err
	}
	return fd, unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Usec: 100_000})
}

// internet lets hosts of the internet hear and speak, and say nothing by themselves.
func (k *kernels) internet() error {
	net := k.between[estate.Internet]
	var drops strings.Builder
	for _, a := range internet {
		fmt.Fprintf(&drops, "  %s daddr %s drop\n", map[bool]string{true: "ip", false: "ip6"}[a.Is4()], a)
	}
	if err := net.run("table inet quiet {\n chain arrive {\n  type filter hook prerouting priority -300\n"+drops.String()+" }\n}\n", "nft", "-f", "-"); err != nil {
		return err
	}
	return net.do(func() (err error) {
		if k.net, err = ear(); err != nil {
			return err
		}
		for i, family := range []int{unix.AF_INET, unix.AF_INET6} {
			if k.raw[i], err = unix.Socket(family, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.IPPROTO_RAW); err != nil {
				return err
			}
		}
		return nil
	})
}

func (k *kernels) say(site int, p memory.Packet) error {
	if site == len(k.socks) {
		_, dst, _, _ := p.Parse()
		fd, to := k.raw[0], unix.Sockaddr(nil)
		if a := dst.Addr(); a.Is4() {
			to = &unix.SockaddrInet4{Addr: a.As4()}
		} else {
			fd, to = k.raw[1], &unix.SockaddrInet6{Addr: a.As16()}
		}
		err := unix.Sendto(fd, p, 0, to)
		if errors.Is(err, unix.ENETUNREACH) || errors.Is(err, unix.EHOSTUNREACH) || errors.Is(err, unix.EMSGSIZE) {
			return nil // what was not translated is lost on its way back
		}
		return err
	}
	to := &unix.SockaddrLinklayer{Protocol: htons(unix.ETH_P_IP), Ifindex: k.index[site], Halen: 6}
	if p[0]>>4 == 6 {
		to.Protocol = htons(unix.ETH_P_IPV6)
	}
	copy(to.Addr[:], k.doors[site][:])
	return unix.Sendto(k.socks[site], p, 0, to)
}

func (k *kernels) take(to func(arrival)) error {
	circuits, err := k.circuits()
	if err != nil {
		return err
	}
	for site, fd := range append(slices.Clone(k.socks), k.net) {
		k.busy.Go(func() {
			room := make([]byte, 4096)
			for !k.done.Load() {
				n, from, err := unix.Recvfrom(fd, room, 0)
				at, ok := from.(*unix.SockaddrLinklayer)
				if err == nil && ok && at.Pkttype == unix.PACKET_HOST && (at.Protocol == htons(unix.ETH_P_IP) || at.Protocol == htons(unix.ETH_P_IPV6)) {
					a := arrival{site: site, Packet: slices.Clone(room[:n])}
					if fd == k.net {
						a.by = circuits[at.Ifindex]
					}
					to(a)
				}
			}
		})
	}
	return nil
}

// circuits names the links to the internet, by the devices there that lead to them.
func (k *kernels) circuits() (map[int]string, error) {
	names := map[string]string{}
	for i := range k.gateways {
		site := k.routes.Plan.Site(i)
		for j := range site.Links {
			l := &site.Links[j]
			names[fmt.Sprintf("s%dl%d", i, j)] = site.Key + "/" + l.Key
			if l.Device == site.Gateway.LANDevice {
				names[fmt.Sprintf("lan%d", i)] = site.Key + "/" + l.Key
			}
		}
	}
	out := map[int]string{}
	return out, k.between[estate.Internet].do(func() error {
		devices, err := net.Interfaces()
		for _, d := range devices {
			out[d.Index] = names[d.Name]
		}
		return err
	})
}

func (k *kernels) close() {
	k.done.Store(true)
	k.busy.Wait()
	for _, fd := range append(k.socks, k.net, k.raw[0], k.raw[1]) {
		unix.Close(fd)
	}
	k.world.close()
}

// standIns is a plane of gateways in memory.
type standIns struct {
	*fleet.World
	routes *route.Map
	keys   []string
	folder string
	stop   func()
	ended  chan error
}

func newStandIns(e *estate.Estate) (s *standIns, err error) {
	s = &standIns{stop: func() {}, ended: make(chan error, 1)}
	if s.folder, err = os.MkdirTemp("", "wk-lab-"); err != nil {
		return s, err
	}
	for i := range e.Sites {
		s.keys = append(s.keys, e.Sites[i].Key)
	}
	public, err := fleet.Keys(s.folder, s.keys)
	if err != nil {
		return s, err
	}
	e = e.Clone()
	e.Allocations.Keys = nil
	for i := range e.Sites {
		e.Sites[i].Gateway.PublicKey = public[e.Sites[i].Key]
	}
	s.routes = route.Build(tunnel.Derive(e))
	s.World = fleet.New(e, 1, slog.New(slog.DiscardHandler))
	ctx, stop := context.WithCancel(context.Background())
	ready := make(chan struct{})
	go s.Run(ctx)
	go func() { s.ended <- s.Stand(ctx, s.folder, nil, func() { close(ready) }) }()
	s.stop = stop
	<-ready
	for i, key := range s.keys {
		c := gateway.Of(s.routes, i)
		shared := map[string][32]byte{}
		for j := range c.Tunnels {
			if w := c.Tunnels[j].WireGuard; w != nil && w.Preshared {
				shared[c.Tunnels[j].Interface] = [32]byte{1, 2, 3}
			}
		}
		a := s.Site(key).Agent
		if err := errors.Join(a.Share(ctx, shared), a.Try(ctx, c, 1, "lab", 0)); err != nil {
			return s, fmt.Errorf("%s: %w", key, err)
		}
	}
	return s, s.settle()
}

// settle waits until each tunnel that can live does, and its probes are answered.
func (s *standIns) settle() error {
	for until := time.Now().Add(40 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		wrong := ""
		for i, key := range s.keys {
			state, err := s.Site(key).Agent.State(context.Background())
			if err != nil {
				return err
			}
			up := map[string]bool{}
			for j := range state.Tunnels {
				up[state.Tunnels[j].Interface] = state.Tunnels[j].Up && state.Tunnels[j].Answered > 0
			}
			for _, p := range s.routes.Plan.Peers(i) {
				if !p.Tunnel.Mute && !up[p.Interface] {
					wrong = p.Interface + " of " + key
				}
			}
		}
		if wrong == "" {
			return nil
		}
		if time.Now().After(until) {
			return fmt.Errorf("the stand-ins' %s does not live", wrong)
		}
	}
}

func (s *standIns) say(site int, p memory.Packet) error {
	if site == len(s.keys) {
		s.FromInternet(slices.Clone(p))
	} else {
		s.FromHost(s.keys[site], slices.Clone(p))
	}
	return nil
}

func (s *standIns) take(to func(arrival)) error {
	s.Tap(func(site string, p memory.Packet) {
		to(arrival{site: slices.Index(s.keys, site), Packet: slices.Clone(p)})
	})
	s.TapInternet(func(by *fleet.Link, p memory.Packet) {
		to(arrival{len(s.keys), by.Site + "/" + by.Key, slices.Clone(p)})
	})
	return nil
}

// forgive lets all agents forget that tunnels flapped.
func (s *standIns) forgive() error {
	for _, key := range s.keys {
		if err := s.Site(key).Agent.Forgive(context.Background()); err != nil {
			return err
		}
	}
	return nil
}

func (s *standIns) close() {
	s.stop()
	if s.World != nil {
		<-s.ended
	}
	_ = os.RemoveAll(s.folder)
}
