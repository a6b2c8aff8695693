package main

import (
	"bytes"
	"encoding/binary"
	"net"
	"sync"
	"sync/atomic"

	"golang.org/x/sys/unix"
)

// Packets of probes carry a word, the probe's number, and whether they ask or
// answer, so that they are known wherever they pass.
var word = []byte("knot-lab")

const probeSize = 8 + 8 + 1

// payload writes what a probe carries, filled up to a size.
func payload(number uint64, kind byte, size int) []byte {
	out := append(append([]byte{}, word...), make([]byte, max(size, probeSize)-len(word))...)
	binary.BigEndian.PutUint64(out[8:], number)
	out[16] = kind
	return out
}

// read finds the probe in a packet.
func read(packet []byte) (number uint64, kind byte, ok bool) {
	at := bytes.Index(packet, word)
	if at < 0 || len(packet) < at+probeSize {
		return 0, 0, false
	}
	return binary.BigEndian.Uint64(packet[at+8:]), packet[at+16], true
}

// A sighting is a probe's packet that leaves by a device.
type sighting struct {
	device string
	kind   byte
}

// A watch sees all packets of probes that leave gateways, by tunnel or not.
type watch struct {
	mu   sync.Mutex
	seen map[uint64]map[int][]sighting // probe → site → in order
	done atomic.Bool
	busy sync.WaitGroup
}

// watch begins to watch all gateways.
func (w *world) watch() (*watch, error) {
	out := &watch{seen: map[uint64]map[int][]sighting{}}
	for site, at := range w.gateways {
		fd := -1
		names := map[int]string{}
		err := at.do(func() error {
			var err error
			fd, err = unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, int(htons(unix.ETH_P_ALL)))
			if err != nil {
				return err
			}
			_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, 8<<20)
			devices, err := net.Interfaces()
			for _, d := range devices {
				names[d.Index] = d.Name
			}
			return err
		})
		if err != nil {
			return out, err
		}
		if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Usec: 100_000}); err != nil {
			return out, err
		}
		out.busy.Go(func() { out.look(fd, site, names) })
	}
	return out, nil
}

func htons(n uint16) uint16 { return n<<8 | n>>8 }

func (w *watch) look(fd, site int, names map[int]string) {
	defer unix.Close(fd)
	room := make([]byte, 2048)
	for !w.done.Load() {
		n, from, err := unix.Recvfrom(fd, room, 0)
		if err != nil {
			continue // nothing came for a while
		}
		at, ok := from.(*unix.SockaddrLinklayer)
		if !ok || at.Pkttype != unix.PACKET_OUTGOING || !isUDP(room[:n]) {
			continue
		}
		number, kind, ok := read(room[:n])
		if !ok {
			continue
		}
		w.mu.Lock()
		if w.seen[number] == nil {
			w.seen[number] = map[int][]sighting{}
		}
		w.seen[number][site] = append(w.seen[number][site], sighting{names[at.Ifindex], kind})
		w.mu.Unlock()
	}
}

// isUDP tells probes from the errors that quote them.
func isUDP(packet []byte) bool {
	switch {
	case len(packet) < 40:
		return false
	case packet[0]>>4 == 4:
		return packet[9] == unix.IPPROTO_UDP
	}
	return packet[6] == unix.IPPROTO_UDP
}

func (w *watch) close() {
	w.done.Store(true)
	w.busy.Wait()
}

// of lists by which devices the asking or answering packets of a probe left a
// site.
func (w *watch) of(number uint64, site int, kind byte) []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	var out []string
	for _, s := range w.seen[number][site] {
		if s.kind == kind {
			out = append(out, s.device)
		}
	}
	return out
}

// forget drops what is known of probes that are over.
func (w *watch) forget() {
	w.mu.Lock()
	defer w.mu.Unlock()
	clear(w.seen)
}
