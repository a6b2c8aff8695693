package stamp

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// A UDP is a socket of one address family that tells of each packet by which
// interface, to which address, with which TTL and when it came.
type UDP struct {
	conn *net.UDPConn
	raw  syscall.RawConn
	four bool
}

// Listen opens a socket on a port, 0 for any. A mark of 0 is none; it needs
// CAP_NET_ADMIN.
func Listen(ctx context.Context, four bool, port, mark int) (*UDP, error) {
	network, address := "udp6", netip.IPv6Unspecified()
	if four {
		network, address = "udp4", netip.IPv4Unspecified()
	}
	config := net.ListenConfig{Control: func(_, _ string, raw syscall.RawConn) error {
		var failed error
		err := raw.Control(func(fd uintptr) { failed = options(int(fd), four, mark) })
		return errors.Join(err, failed)
	}}
	conn, err := config.ListenPacket(ctx, network, netip.AddrPortFrom(address, uint16(port)).String())
	if err != nil {
		return nil, fmt.Errorf("a socket for test packets: %w", err)
	}
	u := &UDP{conn: conn.(*net.UDPConn), four: four}
	if u.raw, err = u.conn.SyscallConn(); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return u, nil
}

// options asks for what is to be told of packets.
func options(fd int, four bool, mark int) error {
	type option struct{ level, name, value int }
	list := []option{{unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1}}
	if four {
		list = append(list, option{unix.IPPROTO_IP, unix.IP_PKTINFO, 1}, option{unix.IPPROTO_IP, unix.IP_RECVTTL, 1},
			option{unix.IPPROTO_IP, unix.IP_MTU_DISCOVER, unix.IP_PMTUDISC_PROBE}, option{unix.IPPROTO_IP, unix.IP_TTL, MaxTTL})
	} else {
		list = append(list, option{unix.IPPROTO_IPV6, unix.IPV6_RECVPKTINFO, 1}, option{unix.IPPROTO_IPV6, unix.IPV6_RECVHOPLIMIT, 1},
			option{unix.IPPROTO_IPV6, unix.IPV6_MTU_DISCOVER, unix.IPV6_PMTUDISC_PROBE}, option{unix.IPPROTO_IPV6, unix.IPV6_UNICAST_HOPS, MaxTTL})
	}
	if mark != 0 {
		list = append(list, option{unix.SOL_SOCKET, unix.SO_MARK, mark})
	}
	for _, o := range list {
		if err := unix.SetsockoptInt(fd, o.level, o.name, o.value); err != nil {
			return fmt.Errorf("setting socket option %d: %w", o.name, err)
		}
	}
	return nil
}

// Port is the one that the socket has.
func (u *UDP) Port() int { return u.conn.LocalAddr().(*net.UDPAddr).Port }

// Close ends the socket, and whoever waits for it.
func (u *UDP) Close() error { return u.conn.Close() }

// Wait returns when there is something to read.
func (u *UDP) Wait() error {
	return u.raw.Read(func(fd uintptr) bool {
		var one [1]byte
		_, _, err := unix.Recvfrom(int(fd), one[:], unix.MSG_PEEK|unix.MSG_DONTWAIT)
		return err != unix.EAGAIN
	})
}

// Read takes a packet that is there. Errors that others' answers caused, such as an
// unreachable port, are passed over.
func (u *UDP) Read(b []byte) (n int, m Meta, ok bool) {
	var room [256]byte
	_ = u.raw.Control(func(fd uintptr) {
		for tries := 0; tries < 64; tries++ {
			size, control, _, from, err := unix.Recvmsg(int(fd), b, room[:], unix.MSG_DONTWAIT)
			if err == unix.EAGAIN || err == unix.EBADF {
				return
			}
			if err != nil {
				continue
			}
			n, m, ok = size, metaOf(room[:control]), true
			switch a := from.(type) {
			case *unix.SockaddrInet4:
				m.Far = netip.AddrPortFrom(netip.AddrFrom4(a.Addr), uint16(a.Port))
			case *unix.SockaddrInet6:
				m.Far = netip.AddrPortFrom(netip.AddrFrom16(a.Addr), uint16(a.Port))
			}
			return
		}
	})
	return n, m, ok
}

func metaOf(control []byte) (m Meta) {
	messages, _ := unix.ParseSocketControlMessage(control) // what it holds is the kernel's
	for i := range messages {
		data := messages[i].Data
		switch header := messages[i].Header; {
		case header.Level == unix.SOL_SOCKET && header.Type == unix.SO_TIMESTAMPNS && len(data) >= int(unsafe.Sizeof(unix.Timespec{})):
			m.At = time.Unix((*unix.Timespec)(unsafe.Pointer(&data[0])).Unix())
		case header.Level == unix.IPPROTO_IP && header.Type == unix.IP_PKTINFO && len(data) >= unix.SizeofInet4Pktinfo:
			info := (*unix.Inet4Pktinfo)(unsafe.Pointer(&data[0]))
			m.Interface, m.Near = int(info.Ifindex), netip.AddrFrom4(info.Addr)
		case header.Level == unix.IPPROTO_IPV6 && header.Type == unix.IPV6_PKTINFO && len(data) >= unix.SizeofInet6Pktinfo:
			info := (*unix.Inet6Pktinfo)(unsafe.Pointer(&data[0]))
			m.Interface, m.Near = int(info.Ifindex), netip.AddrFrom16(info.Addr)
		case len(data) >= 4 && (header.Level == unix.IPPROTO_IP && header.Type == unix.IP_TTL || header.Level == unix.IPPROTO_IPV6 && header.Type == unix.IPV6_HOPLIMIT):
			m.TTL = int(binary.NativeEndian.Uint32(data))
		}
	}
	if m.At.IsZero() {
		m.At = time.Now()
	}
	return m
}

// Write sends a packet.
func (u *UDP) Write(b []byte, m Meta) error {
	var control []byte
	switch {
	case u.four:
		info := unix.Inet4Pktinfo{Ifindex: int32(m.Interface)}
		if m.Near.Is4() {
			info.Spec_dst = m.Near.As4()
		}
		control = unix.PktInfo4(&info)
	case m.Near.IsValid() || m.Interface != 0:
		info := unix.Inet6Pktinfo{Ifindex: uint32(m.Interface)}
		if m.Near.IsValid() {
			info.Addr = m.Near.As16()
		}
		control = unix.PktInfo6(&info)
	}
	_, _, err := u.conn.WriteMsgUDPAddrPort(b, control, m.Far)
	return err
}
