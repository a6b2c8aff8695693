package main

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"
	"golang.zx2c4.com/wireguard/conn"
	"golang.zx2c4.com/wireguard/device"
	"golang.zx2c4.com/wireguard/tun"
)

// An end is a WireGuard interface of a gateway: the kernel here has no module
// for it, so a device in user space serves it. wg tells it what to be, by a socket.
type end struct {
	at     *space
	name   string
	wire   *device.Device
	port   *tunPort
	listen net.Listener
}

// newEnd makes the interface, as apply knows its own, with its socket in a folder.
func newEnd(at *space, name, folder string) (*end, error) {
	port, err := newTunPort(at, name)
	if err != nil {
		return nil, err
	}
	e := &end{at: at, name: name, port: port}
	e.wire = device.NewDevice(port, &bind{at: at}, &device.Logger{Verbosef: device.DiscardLogf, Errorf: device.DiscardLogf})
	if e.listen, err = net.Listen("unix", filepath.Join(folder, name+".sock")); err != nil {
		e.wire.Close()
		return nil, err
	}
	go func() {
		for {
			c, err := e.listen.Accept()
			if err != nil {
				return
			}
			go e.wire.IpcHandle(c)
		}
	}()
	return e, at.ip("link set dev " + name + " alias wideknot:" + name)
}

func (e *end) close() {
	_ = e.listen.Close()
	e.wire.Close()
}

// A tunPort is the kernel's side of an interface, one packet at a time.
type tunPort struct {
	at     *space
	file   *os.File
	name   string
	events chan tun.Event
	once   sync.Once
	dead   atomic.Bool // nothing gets through
	slow   atomic.Bool // probes are late by lateness
	lossy  atomic.Bool // of probes every seventh is lost
	probes atomic.Int64
}

func newTunPort(at *space, name string) (*tunPort, error) {
	p := &tunPort{at: at, name: name, events: make(chan tun.Event, 4)}
	err := at.do(func() error {
		fd, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_CLOEXEC|unix.O_NONBLOCK, 0)
		if err != nil {
			return err
		}
		request, err := unix.NewIfreq(name)
		if err != nil {
			return err
		}
		request.SetUint16(unix.IFF_TUN | unix.IFF_NO_PI)
		if err := unix.IoctlIfreq(fd, unix.TUNSETIFF, request); err != nil {
			return fmt.Errorf("making %s: %w", name, err)
		}
		p.file = os.NewFile(uintptr(fd), name)
		return nil
	})
	return p, err
}

func (p *tunPort) File() *os.File           { return p.file }
func (p *tunPort) Name() (string, error)    { return p.name, nil }
func (p *tunPort) Events() <-chan tun.Event { return p.events }
func (p *tunPort) BatchSize() int           { return 1 }

func (p *tunPort) Read(bufs [][]byte, sizes []int, offset int) (int, error) {
	for {
		n, err := p.file.Read(bufs[0][offset:])
		if err == nil && p.dead.Load() {
			continue
		}
		sizes[0] = n
		return 1, err
	}
}

func (p *tunPort) Write(bufs [][]byte, offset int) (int, error) {
	for i, b := range bufs {
		if p.dead.Load() || isProbe(b[offset:]) && p.lossy.Load() && p.probes.Add(1)%7 == 0 {
			continue
		}
		if isProbe(b[offset:]) && p.slow.Load() {
			late := bytes.Clone(b[offset:])
			time.AfterFunc(lateness, func() { _, _ = p.file.Write(late) }) // an interface that is down takes nothing
			continue
		}
		if _, err := p.file.Write(b[offset:]); err != nil && !errors.Is(err, unix.EIO) { // EIO: the interface is down
			return i, err
		}
	}
	return len(bufs), nil
}

// probePort is where probes are answered (RFC 8762).
const probePort = 862

// lateness is how late probes are by a slow tunnel, each way.
const lateness = 400 * time.Millisecond

// isProbe reports whether a packet is a probe or its answer.
func isProbe(b []byte) bool {
	at := 0
	switch {
	case len(b) > 28 && b[0]>>4 == 4 && b[9] == unix.IPPROTO_UDP:
		at = int(b[0]&15) * 4
	case len(b) > 48 && b[0]>>4 == 6 && b[6] == unix.IPPROTO_UDP:
		at = 40
	default:
		return false
	}
	return len(b) >= at+4 && (binary.BigEndian.Uint16(b[at:]) == probePort || binary.BigEndian.Uint16(b[at+2:]) == probePort)
}

// resized tells the device that the interface has another MTU than before.
func (p *tunPort) resized() { p.events <- tun.EventMTUUpdate }

// MTU reads what the interface has: packets are padded up to it.
func (p *tunPort) MTU() (int, error) {
	mtu := 0
	err := p.at.do(func() error {
		fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
		if err != nil {
			return err
		}
		defer unix.Close(fd)
		request, err := unix.NewIfreq(p.name)
		if err != nil {
			return err
		}
		err = unix.IoctlIfreq(fd, unix.SIOCGIFMTU, request)
		mtu = int(request.Uint32())
		return err
	})
	return mtu, err
}

func (p *tunPort) Close() error {
	var err error
	p.once.Do(func() {
		close(p.events)
		err = p.file.Close()
	})
	return err
}

// A bind is the sockets of a device, in the namespace of its gateway, and one
// packet at a time, which keeps a device small.
type bind struct {
	at *space

	mu    sync.Mutex
	socks []*net.UDPConn // IPv4, IPv6
	mark  uint32
}

type endpoint netip.AddrPort

func (e endpoint) ClearSrc()           {}
func (e endpoint) SrcToString() string { return "" }
func (e endpoint) DstToString() string { return netip.AddrPort(e).String() }
func (e endpoint) DstToBytes() []byte  { b, _ := netip.AddrPort(e).MarshalBinary(); return b }
func (e endpoint) DstIP() netip.Addr   { return netip.AddrPort(e).Addr() }
func (e endpoint) SrcIP() netip.Addr   { return netip.Addr{} }

func (b *bind) BatchSize() int { return 1 }

func (b *bind) ParseEndpoint(s string) (conn.Endpoint, error) {
	a, err := netip.ParseAddrPort(s)
	return endpoint(a), err
}

func (b *bind) Open(port uint16) ([]conn.ReceiveFunc, uint16, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	var out []conn.ReceiveFunc
	for _, network := range []string{"udp4", "udp6"} {
		var sock *net.UDPConn
		err := b.at.do(func() error {
			c, err := net.ListenUDP(network, &net.UDPAddr{Port: int(port)})
			if err == nil {
				sock, port = c, uint16(c.LocalAddr().(*net.UDPAddr).Port)
			}
			return err
		})
		if err != nil {
			return nil, 0, err
		}
		b.socks = append(b.socks, sock)
		out = append(out, func(packets [][]byte, sizes []int, eps []conn.Endpoint) (int, error) {
			n, from, err := sock.ReadFromUDPAddrPort(packets[0])
			if err != nil {
				return 0, err
			}
			sizes[0], eps[0] = n, endpoint(netip.AddrPortFrom(from.Addr().Unmap(), from.Port()))
			return 1, nil
		})
	}
	return out, port, b.setMark()
}

func (b *bind) Close() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, s := range b.socks {
		s.Close()
	}
	b.socks = nil
	return nil
}

func (b *bind) SetMark(mark uint32) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.mark = mark
	return b.setMark()
}

func (b *bind) setMark() error {
	for _, s := range b.socks {
		raw, err := s.SyscallConn()
		if err != nil {
			return err
		}
		var failed error
		if err := raw.Control(func(fd uintptr) {
			failed = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_MARK, int(b.mark))
		}); err != nil || failed != nil {
			return errors.Join(err, failed)
		}
	}
	return nil
}

func (b *bind) Send(bufs [][]byte, ep conn.Endpoint) error {
	b.mu.Lock()
	socks := b.socks
	b.mu.Unlock()
	if len(socks) < 2 {
		return net.ErrClosed
	}
	to := netip.AddrPort(ep.(endpoint))
	sock := socks[0]
	if to.Addr().Is6() {
		sock = socks[1]
	}
	for _, buf := range bufs {
		if _, err := sock.WriteToUDPAddrPort(buf, to); err != nil {
			return err
		}
	}
	return nil
}
