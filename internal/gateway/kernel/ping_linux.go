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
)

// Ping sends one echo by a WAN link and waits for its answer as long as the context lets
// it. With a size the packet has so many bytes, and nothing may cut it up.
// Long as a system call is for each family.
func (p *Plane) Ping(ctx context.Context, l *gateway.Link, to netip.Addr, size int) error {
	family, protocol := unix.AF_INET6, unix.IPPROTO_ICMPV6
	var kind, answer icmp.Type = ipv6.ICMPTypeEchoRequest, ipv6.ICMPTypeEchoReply
	if to.Is4() {
		family, protocol, kind, answer = unix.AF_INET, unix.IPPROTO_ICMP, ipv4.ICMPTypeEcho, ipv4.ICMPTypeEchoReply
	}
	fd, err := unix.Socket(family, unix.SOCK_RAW|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, protocol)
	if err != nil {
		return fmt.Errorf("an echo: %w", err)
	}
	defer unix.Close(fd)
	if err := byLink(fd, l, to.Is4(), size > 0); err != nil {
		return fmt.Errorf("an echo by %s: %w", l.Device, err)
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
		return err
	}
	var address unix.Sockaddr = &unix.SockaddrInet6{Addr: to.As16()}
	if to.Is4() {
		address = &unix.SockaddrInet4{Addr: to.As4()}
	}
	if err := unix.Sendto(fd, text, 0, address); err != nil {
		return fmt.Errorf("an echo by %s: %w", l.Device, err)
	}
	room := make([]byte, 1<<16)
	for {
		left := time.Until(deadline(ctx))
		if left <= 0 {
			return context.DeadlineExceeded
		}
		if _, err := unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}, int(left.Milliseconds())+1); err != nil && err != unix.EINTR {
			return err
		}
		n, _, err := unix.Recvfrom(fd, room, unix.MSG_DONTWAIT)
		if err != nil {
			continue
		}
		packet := room[:n]
		if to.Is4() {
			if n < 20 {
				continue
			}
			packet = packet[min(n, int(packet[0]&15)*4):]
		}
		if len(packet) >= 8 && packet[0] == typeNumber(answer) && binary.BigEndian.Uint32(packet[4:]) == number {
			return nil
		}
	}
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
