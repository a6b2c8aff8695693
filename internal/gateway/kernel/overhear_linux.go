package kernel

import (
	"context"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"wideknot/core/gateway"
)

// Overhear counts the datagrams that arrive by the devices of WAN links: a packet socket hears
// them before any filter does.
func (p *Plane) Overhear(ctx context.Context, links []gateway.Link) (out []gateway.Arrived, err error) {
	var devices []int
	for i := range links {
		if d, err := net.InterfaceByName(links[i].Device); err == nil {
			devices = append(devices, d.Index)
		}
	}
	all := uint16(unix.ETH_P_ALL)
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, int(all<<8|all>>8))
	if err != nil {
		return nil, fmt.Errorf("listening to what arrives: %w", err)
	}
	defer unix.Close(fd)
	count := map[gateway.Arrived]int{}
	room := make([]byte, 2048) // the beginning tells
	for ctx.Err() == nil {
		wait := max(1, min(100, int(time.Until(deadline(ctx)).Milliseconds())))
		if n, err := unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}, wait); n <= 0 {
			if err != nil && err != unix.EINTR {
				return nil, err
			}
			continue
		}
		n, from, err := unix.Recvfrom(fd, room, unix.MSG_DONTWAIT)
		at, ok := from.(*unix.SockaddrLinklayer)
		if err != nil || !ok || at.Pkttype == unix.PACKET_OUTGOING || !slices.Contains(devices, at.Ifindex) {
			continue
		}
		if a, ok := arrived(room[:n]); ok && (len(count) < gateway.MaxArrivals || count[a] > 0) {
			count[a]++
		}
	}
	for a, n := range count {
		a.Count = n
		out = append(out, a)
	}
	return out, nil
}

// arrived reads a UDP datagram in an IP packet; of fragments the first.
func arrived(p []byte) (out gateway.Arrived, ok bool) {
	var src netip.Addr
	var udp []byte
	switch {
	case len(p) >= 20 && p[0]>>4 == 4 && p[9] == unix.IPPROTO_UDP && binary.BigEndian.Uint16(p[6:])&0x1fff == 0:
		if head := int(p[0]&15) * 4; head >= 20 && len(p) > head {
			src, udp = netip.AddrFrom4([4]byte(p[12:16])), p[head:]
		}
	case len(p) >= 40 && p[0]>>4 == 6 && p[6] == unix.IPPROTO_UDP:
		src, udp = netip.AddrFrom16([16]byte(p[8:24])), p[40:]
	}
	if len(udp) < 8 {
		return out, false
	}
	size := min(max(int(binary.BigEndian.Uint16(udp[4:])), 8), len(udp))
	return gateway.Arrived{
		Port: int(binary.BigEndian.Uint16(udp[2:])), From: netip.AddrPortFrom(src, binary.BigEndian.Uint16(udp)), Message: gateway.MessageOf(udp[8:size]),
	}, true
}
