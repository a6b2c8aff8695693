package kernel

import (
	"context"
	"encoding/binary"
	"fmt"
	"net/netip"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"
)

// Ping sends one echo by a device and waits for its answer as long as the context lets it.
func (p *Plane) Ping(ctx context.Context, device string, to netip.Addr) error {
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
	if err := unix.BindToDevice(fd, device); err != nil {
		return fmt.Errorf("an echo by %s: %w", device, err)
	}
	number := uint32(time.Now().UnixNano())
	message := icmp.Message{Type: kind, Body: &icmp.Echo{ID: int(number >> 16), Seq: int(number & 0xffff), Data: []byte("wideknot")}}
	text, err := message.Marshal(nil)
	if err != nil {
		return err
	}
	var address unix.Sockaddr = &unix.SockaddrInet6{Addr: to.As16()}
	if to.Is4() {
		address = &unix.SockaddrInet4{Addr: to.As4()}
	}
	if err := unix.Sendto(fd, text, 0, address); err != nil {
		return fmt.Errorf("an echo by %s: %w", device, err)
	}
	room := make([]byte, 1500)
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
