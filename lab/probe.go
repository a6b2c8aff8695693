package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"
)

// A probe is one question from a host to an address, and what became of it.
type probe struct {
	from, to netip.Addr
	site     int // where it starts
	protocol string
	port     int
	size     int // of the whole packet, 0 for small; such packets are not to be cut up

	number   uint64
	asked    atomic.Bool // it arrived
	seenFrom atomic.Value
	answered atomic.Bool
	tooBig   int // what the host learned of the way's MTU
}

// A field is all that answers, and the probes under way.
type field struct {
	w      *world
	next   uint64
	mu     sync.Mutex
	probes map[uint64]*probe
	socks  []io.Closer
	busy   sync.WaitGroup
}

// The ports on which hosts answer.
var openPorts = []int{7, 443, 8080}

// newField lets all hosts, and some addresses of the internet, answer.
func newField(w *world) (*field, error) {
	f := &field{w: w, probes: map[uint64]*probe{}}
	at := append([]*space{w.between["internet"]}, w.hosts...)
	for _, s := range at {
		for _, port := range openPorts {
			var door net.Listener
			if err := s.do(func() (err error) {
				door, err = net.Listen("tcp", fmt.Sprintf(":%d", port))
				return err
			}); err != nil {
				return f, fmt.Errorf("listening at %s: %w", s.name, err)
			}
			f.socks = append(f.socks, door)
			f.busy.Go(func() { open(door) })
			for _, network := range []string{"udp4", "udp6"} {
				var sock *net.UDPConn
				if err := s.do(func() (err error) {
					sock, err = net.ListenUDP(network, &net.UDPAddr{Port: port})
					return err
				}); err != nil {
					return f, fmt.Errorf("answering at %s: %w", s.name, err)
				}
				f.socks = append(f.socks, sock)
				f.busy.Go(func() { f.answer(sock, network == "udp4") })
			}
		}
	}
	return f, nil
}

func (f *field) close() {
	for _, s := range f.socks {
		s.Close()
	}
	f.busy.Wait()
}

// open lets everybody in, and out again.
func open(door net.Listener) {
	for {
		c, err := door.Accept()
		if err != nil {
			return
		}
		c.Close()
	}
}

// answer sends back what asks, from the address that was asked.
func (f *field) answer(sock *net.UDPConn, v4 bool) {
	p4, p6 := ipv4.NewPacketConn(sock), ipv6.NewPacketConn(sock)
	if v4 {
		_ = p4.SetControlMessage(ipv4.FlagDst, true)
	} else {
		_ = p6.SetControlMessage(ipv6.FlagDst, true)
	}
	room := make([]byte, 2048)
	for {
		var n int
		var from net.Addr
		var err error
		var local net.IP
		if v4 {
			var about *ipv4.ControlMessage
			n, about, from, err = p4.ReadFrom(room)
			if about != nil {
				local = about.Dst
			}
		} else {
			var about *ipv6.ControlMessage
			n, about, from, err = p6.ReadFrom(room)
			if about != nil {
				local = about.Dst
			}
		}
		if errors.Is(err, net.ErrClosed) {
			return
		}
		number, kind, ok := read(room[:max(n, 0)])
		if err != nil || !ok || kind != 'Q' {
			continue
		}
		f.mu.Lock()
		p := f.probes[number]
		f.mu.Unlock()
		if p != nil {
			source, _ := netip.AddrFromSlice(from.(*net.UDPAddr).IP)
			p.seenFrom.Store(source.Unmap())
			p.asked.Store(true)
		}
		back := payload(number, 'R', 0)
		if v4 {
			_, _ = p4.WriteTo(back, &ipv4.ControlMessage{Src: local}, from)
		} else {
			_, _ = p6.WriteTo(back, &ipv6.ControlMessage{Src: local}, from)
		}
	}
}

// send asks all questions at once and waits until each is answered or the time
// is up. What was asked before is asked anew.
func (f *field) send(probes []*probe, wait time.Duration) error {
	bySite := map[int][]*probe{}
	for _, p := range probes {
		bySite[p.site] = append(bySite[p.site], p)
	}
	ctx, cancel := context.WithTimeout(context.Background(), wait)
	defer cancel()
	var group sync.WaitGroup
	var failed error
	for site, list := range bySite {
		err := f.w.hosts[site].do(func() error {
			for _, p := range list {
				p.asked.Store(false)
				p.answered.Store(false)
				if p.protocol != "udp" {
					group.Go(func() { _ = f.w.hosts[site].do(func() error { return p.knock(ctx) }) })
					continue
				}
				sock, err := p.dial()
				if err != nil {
					return fmt.Errorf("asking %s from %s: %w", p.to, p.from, err)
				}
				f.mu.Lock()
				delete(f.probes, p.number) // what was asked before and comes late counts for nothing
				f.next++
				p.number = f.next
				f.probes[p.number] = p
				f.mu.Unlock()
				group.Go(func() { p.ask(ctx, sock) })
			}
			return nil
		})
		failed = errors.Join(failed, err)
	}
	group.Wait()
	return failed
}

// knock opens a TCP connection, or sends an echo request. That it was answered is
// all that is seen of it.
func (p *probe) knock(ctx context.Context) error {
	deadline, _ := ctx.Deadline()
	if p.protocol == "tcp" {
		d := net.Dialer{LocalAddr: net.TCPAddrFromAddrPort(netip.AddrPortFrom(p.from, 0)), Deadline: deadline}
		c, err := d.Dial("tcp", netip.AddrPortFrom(p.to, uint16(p.port)).String())
		if err != nil {
			return err
		}
		p.asked.Store(true)
		p.answered.Store(true)
		return c.Close()
	}
	network, kind, answer := "ip4:icmp", icmp.Type(ipv4.ICMPTypeEcho), icmp.Type(ipv4.ICMPTypeEchoReply)
	if p.from.Is6() {
		network, kind, answer = "ip6:ipv6-icmp", ipv6.ICMPTypeEchoRequest, ipv6.ICMPTypeEchoReply
	}
	c, err := icmp.ListenPacket(network, p.from.String())
	if err != nil {
		return err
	}
	defer c.Close()
	number := int(echoes.Add(1) & 0xffff)
	text, err := (&icmp.Message{Type: kind, Body: &icmp.Echo{ID: number, Seq: 1, Data: word}}).Marshal(nil)
	if err != nil {
		return err
	}
	if _, err := c.WriteTo(text, &net.IPAddr{IP: p.to.AsSlice()}); err != nil {
		return err
	}
	room := make([]byte, 1500)
	for {
		if err := c.SetReadDeadline(deadline); err != nil {
			return err
		}
		n, _, err := c.ReadFrom(room)
		if err != nil {
			return err
		}
		m, err := icmp.ParseMessage(answer.Protocol(), room[:n])
		if err != nil || m.Type != answer {
			continue
		}
		if echo, ok := m.Body.(*icmp.Echo); ok && echo.ID == number {
			p.asked.Store(true)
			p.answered.Store(true)
			return nil
		}
	}
}

var echoes atomic.Uint32 // numbers echo requests

// dial opens a socket for the probe in the namespace of the caller.
func (p *probe) dial() (*net.UDPConn, error) {
	d := net.Dialer{LocalAddr: net.UDPAddrFromAddrPort(netip.AddrPortFrom(p.from, 0)), Control: func(_, _ string, raw syscall.RawConn) error {
		if p.size == 0 {
			return nil
		}
		var failed error
		err := raw.Control(func(fd uintptr) {
			if p.from.Is4() {
				failed = unix.SetsockoptInt(int(fd), unix.IPPROTO_IP, unix.IP_MTU_DISCOVER, unix.IP_PMTUDISC_DO)
			} else {
				failed = unix.SetsockoptInt(int(fd), unix.IPPROTO_IPV6, unix.IPV6_MTU_DISCOVER, unix.IPV6_PMTUDISC_DO)
			}
		})
		return errors.Join(err, failed)
	}}
	c, err := d.Dial("udp", netip.AddrPortFrom(p.to, uint16(p.port)).String())
	if err != nil {
		return nil, err
	}
	return c.(*net.UDPConn), nil
}

// ask sends the question and reads the answer.
func (p *probe) ask(ctx context.Context, sock *net.UDPConn) {
	defer sock.Close()
	size := 0
	if p.size > 0 {
		headers := 28
		if p.from.Is6() {
			headers = 48
		}
		size = p.size - headers
	}
	_, _ = sock.Write(payload(p.number, 'Q', size))
	deadline, _ := ctx.Deadline()
	_ = sock.SetReadDeadline(deadline)
	room := make([]byte, 2048)
	for {
		n, err := sock.Read(room)
		if errors.Is(err, unix.ECONNREFUSED) {
			continue
		}
		if p.size > 0 {
			p.learn(sock)
		}
		if errors.Is(err, unix.EMSGSIZE) {
			return
		}
		if err != nil {
			return
		}
		if number, kind, ok := read(room[:n]); ok && kind == 'R' && number == p.number {
			p.answered.Store(true)
			return
		}
	}
}

// learn asks the host what it knows of the way's MTU.
func (p *probe) learn(sock *net.UDPConn) {
	raw, err := sock.SyscallConn()
	if err != nil {
		return
	}
	_ = raw.Control(func(fd uintptr) {
		level, name := unix.IPPROTO_IP, unix.IP_MTU
		if p.from.Is6() {
			level, name = unix.IPPROTO_IPV6, unix.IPV6_MTU
		}
		if n, err := unix.GetsockoptInt(int(fd), level, name); err == nil {
			p.tooBig = n
		}
	})
}
