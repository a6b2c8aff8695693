package kernel

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"syscall"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/agent"
)

// Ping sends one echo by a WAN link and waits for its answer as long as the context lets
// it. With a size the packet has so many bytes, and nothing may cut it up.
func (p *Plane) Ping(ctx context.Context, l *gateway.Link, to netip.Addr, size int) error {
	fd, err := rawEcho(to.Is4())
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	if err := byLink(fd, l, to.Is4(), size > 0); err != nil {
		return fmt.Errorf("an echo by %s: %w", l.Device, err)
	}
	for {
		heard, err := exchange(ctx, fd, to, size)
		if err != nil || heard.Reply {
			return err
		}
	}
}

// Echo sends one question for an echo from an address of this gateway.
func (p *Plane) Echo(ctx context.Context, from, to netip.Addr, size, hops int) (agent.Heard, error) {
	fd, err := rawEcho(to.Is4())
	if err != nil {
		return agent.Heard{}, err
	}
	defer unix.Close(fd)
	if from.Is4() {
		err = errors.Join(unix.Bind(fd, &unix.SockaddrInet4{Addr: from.As4()}), unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_TTL, hops),
			unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_MTU_DISCOVER, unix.IP_PMTUDISC_PROBE))
	} else {
		err = errors.Join(unix.Bind(fd, &unix.SockaddrInet6{Addr: from.As16()}), unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_UNICAST_HOPS, hops),
			unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_MTU_DISCOVER, unix.IPV6_PMTUDISC_PROBE))
	}
	if err != nil {
		return agent.Heard{}, fmt.Errorf("an echo from %v: %w", from, err)
	}
	return exchange(ctx, fd, to, size)
}

// rawEcho opens a socket for questions for echoes.
func rawEcho(four bool) (int, error) {
	family, protocol := unix.AF_INET6, unix.IPPROTO_ICMPV6
	if four {
		family, protocol = unix.AF_INET, unix.IPPROTO_ICMP
	}
	fd, err := unix.Socket(family, unix.SOCK_RAW|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, protocol)
	if err != nil {
		return 0, fmt.Errorf("an echo: %w", err)
	}
	return fd, nil
}

// exchange sends a question and waits for its answer, or for what is said against it.
func exchange(ctx context.Context, fd int, to netip.Addr, size int) (agent.Heard, error) {
	var kind icmp.Type = ipv6.ICMPTypeEchoRequest
	var address unix.Sockaddr = &unix.SockaddrInet6{Addr: to.As16()}
	if to.Is4() {
		kind, address = ipv4.ICMPTypeEcho, &unix.SockaddrInet4{Addr: to.As4()}
	}
	number := uint32(time.Now().UnixNano())
	data := []byte("wideknot")
	if headers := 28; size > 0 {
		if to.Is6() {
			headers = 48
		}
		data = append(data, make([]byte, max(0, size-headers-len(data)))...)
	}
	message := icmp.Message{Type: kind, Body: &icmp.Echo{ID: int(number >> 16), Seq: int(number & 0xffff), Data: data}}
	text, err := message.Marshal(nil)
	if err != nil {
		return agent.Heard{}, err
	}
	if err := unix.Sendto(fd, text, 0, address); err != nil {
		return agent.Heard{}, fmt.Errorf("an echo to %v: %w", to, err)
	}
	room := make([]byte, 1<<16)
	for {
		left := time.Until(deadline(ctx))
		if left <= 0 {
			return agent.Heard{}, context.DeadlineExceeded
		}
		if _, err := unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}, int(left.Milliseconds())+1); err != nil && err != unix.EINTR {
			return agent.Heard{}, err
		}
		n, from, err := unix.Recvfrom(fd, room, unix.MSG_DONTWAIT)
		if err != nil {
			continue
		}
		if heard, ours := hear(room[:n], to.Is4(), number); ours {
			switch a := from.(type) {
			case *unix.SockaddrInet4:
				heard.By = netip.AddrFrom4(a.Addr)
			case *unix.SockaddrInet6:
				heard.By = netip.AddrFrom16(a.Addr)
			}
			return heard, nil
		}
	}
}

// hear reads what came: ours is false for what is not about the question of a number.
func hear(packet []byte, four bool, number uint32) (heard agent.Heard, ours bool) {
	strip := func() bool { // IP's header
		size := 40
		if four && len(packet) > 0 {
			size = int(packet[0]&15) * 4
		}
		if len(packet) < size+8 {
			return false
		}
		packet = packet[size:]
		return true
	}
	if four && !strip() || len(packet) < 8 { // without one where of IPv6
		return heard, false
	}
	of := func(four4, six icmp.Type) byte {
		if four {
			return typeNumber(four4)
		}
		return typeNumber(six)
	}
	kind, code := packet[0], packet[1]
	if kind == of(ipv4.ICMPTypeEchoReply, ipv6.ICMPTypeEchoReply) {
		return agent.Heard{Reply: true}, binary.BigEndian.Uint32(packet[4:]) == number
	}
	switch kind {
	case of(ipv4.ICMPTypeTimeExceeded, ipv6.ICMPTypeTimeExceeded):
		heard.Spent = true
	case of(ipv4.ICMPTypeDestinationUnreachable, ipv6.ICMPTypeDestinationUnreachable), of(ipv4.ICMPTypeDestinationUnreachable, ipv6.ICMPTypePacketTooBig):
		heard.Words = "unreachable"
		if four && code == 4 || !four && kind == typeNumber(ipv6.ICMPTypePacketTooBig) {
			heard.Words = "too big"
		}
	default:
		return heard, false
	}
	packet = packet[8:]
	if !strip() {
		return heard, false
	}
	return heard, packet[0] == of(ipv4.ICMPTypeEcho, ipv6.ICMPTypeEchoRequest) && binary.BigEndian.Uint32(packet[4:]) == number
}

// byLink lets a socket send by a WAN link: by its device and its table.
func byLink(fd int, l *gateway.Link, four, whole bool) error {
	if err := unix.BindToDevice(fd, l.Device); err != nil {
		return err
	}
	if l.Mark != 0 {
		if err := unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_MARK, l.Mark); err != nil {
			return err
		}
	}
	switch {
	case !whole:
		return nil
	case four:
		return unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_MTU_DISCOVER, unix.IP_PMTUDISC_PROBE)
	default:
		return unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_MTU_DISCOVER, unix.IPV6_PMTUDISC_PROBE)
	}
}

// Dial sends UDP to an address beyond a WAN link.
func (p *Plane) Dial(ctx context.Context, l *gateway.Link, to netip.AddrPort) (net.Conn, error) {
	d := net.Dialer{Control: func(_, _ string, c syscall.RawConn) error {
		var trouble error
		err := c.Control(func(fd uintptr) { trouble = byLink(int(fd), l, to.Addr().Is4(), false) })
		return errors.Join(err, trouble)
	}}
	return d.DialContext(ctx, "udp", to.String())
}

func typeNumber(t icmp.Type) byte {
	if v, ok := t.(ipv4.ICMPType); ok {
		return byte(v)
	}
	return byte(t.(ipv6.ICMPType))
}

// deadline is the context's, a second from now where it has none.
func deadline(ctx context.Context) time.Time {
	if at, ok := ctx.Deadline(); ok {
		return at
	}
	return time.Now().Add(time.Second)
}
