package memory

import (
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.zx2c4.com/wireguard/conn"
	"golang.zx2c4.com/wireguard/device"
	"golang.zx2c4.com/wireguard/tun"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/agent"
)

// Packets that wait at a device, in each direction.
const queued = 128

// A tunnel is a WireGuard device in user space: its tun is the machine's forwarder, its
// bind the machine's WAN links.
type tunnel struct {
	m     *Machine
	is    gateway.Tunnel
	index int
	wire  *device.Device
	port  uint16
	uses  [32]byte // private key
	leads string   // of the far end's keys: that whose peer has the allowed prefixes

	out   chan Packet // that are to be encrypted
	in    chan datagram
	ended chan struct{}
	deaf  chan struct{} // ends the present receiving; nil where there is none
	mtu   atomic.Int32

	mu    sync.Mutex
	event chan tun.Event // tells the device of another MTU; closed with the tunnel
	over  bool           // it is closed
}

type datagram struct {
	from netip.AddrPort
	text []byte
}

// open makes a tunnel's device.
func (m *Machine) open(t *gateway.Tunnel) *tunnel {
	m.next++
	out := &tunnel{m: m, is: *t, index: m.next, port: uint16(t.WireGuard.Port), out: make(chan Packet, queued), in: make(chan datagram, queued), ended: make(chan struct{}), event: make(chan tun.Event, 2)}
	out.mtu.Store(int32(t.MTU))
	out.wire = device.NewDevice((*tunSide)(out), (*bindSide)(out), device.NewLogger(device.LogLevelSilent, ""))
	return out
}

func (t *tunnel) end() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if !t.over {
		t.over = true
		close(t.ended)
		close(t.event)
	}
}

// resize gives the device another MTU.
func (t *tunnel) resize(mtu int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.mtu.Swap(int32(mtu)) == int32(mtu) || t.over {
		return
	}
	select {
	case t.event <- tun.EventMTUUpdate:
	default: // it is told already
	}
}

// close takes the device away.
func (t *tunnel) close() {
	t.end()
	t.wire.Close()
}

// send lets the device encrypt a packet; where too many wait it is lost, as in any queue.
func (t *tunnel) send(p Packet) {
	select {
	case t.out <- p:
	default:
	}
}

// hexed is a key as devices are told of it.
func hexed(text string) string {
	raw, _ := base64.StdEncoding.DecodeString(text) // it was checked with the configuration
	return hex.EncodeToString(raw)
}

// configure sets what is new of a device: key, port, peers.
func (t *tunnel) configure(c *gateway.Config, is *gateway.Tunnel, secrets *agent.Secrets, was *gateway.Tunnel) error {
	w := is.WireGuard
	var b strings.Builder
	if was == nil || t.uses != secrets.Private {
		t.uses = secrets.Private
		fmt.Fprintf(&b, "private_key=%x\n", secrets.Private)
	}
	if was == nil || was.WireGuard.Port != w.Port {
		fmt.Fprintf(&b, "listen_port=%d\n", w.Port)
	}
	var before []string
	if was != nil {
		before = was.WireGuard.Keys()
	}
	for _, key := range before {
		if !slices.Contains(w.Keys(), key) {
			fmt.Fprintf(&b, "public_key=%s\nremove=true\n", hexed(key))
		}
	}
	if !slices.Contains(w.Keys(), t.leads) || !slices.Contains(before, t.leads) {
		t.leads = w.PublicKey
	}
	for _, key := range w.Keys() {
		fmt.Fprintf(&b, "public_key=%s\npreshared_key=%x\npersistent_keepalive_interval=%d\nreplace_allowed_ips=true\n", hexed(key), secrets.Shared[is.Interface], t.keepalive(w, key))
		if key == t.leads {
			allow(&b, c.Allowed(w))
		}
		if at, err := netip.ParseAddrPort(w.Endpoint); err == nil && (!slices.Contains(before, key) || was.WireGuard.Endpoint != w.Endpoint) {
			fmt.Fprintf(&b, "endpoint=%s\n", at)
		}
	}
	if err := t.wire.IpcSet(b.String()); err != nil {
		return fmt.Errorf("setting %s: %w", is.Interface, err)
	}
	return t.wire.Up()
}

// keepalive is how often the far end is called by a key, in seconds: never by one by which it has
// not come yet, as two handshakes that cross on their way are both lost.
func (t *tunnel) keepalive(w *gateway.WireGuard, key string) int {
	if key != t.leads {
		return 0
	}
	return w.Keepalive
}

// knock calls the far end by each of its keys at once. Where it was not told where the far end
// is, that is where it was heard last.
func (t *tunnel) knock() error {
	var b strings.Builder
	at := t.read().Endpoint
	for _, key := range t.is.WireGuard.Keys() {
		fmt.Fprintf(&b, "public_key=%s\nupdate_only=true\npersistent_keepalive_interval=0\n", hexed(key))
		if t.is.WireGuard.Endpoint == "" && at.IsValid() {
			fmt.Fprintf(&b, "endpoint=%s\n", at)
		}
		fmt.Fprintf(&b, "public_key=%s\nupdate_only=true\npersistent_keepalive_interval=1\n", hexed(key))
		fmt.Fprintf(&b, "public_key=%s\nupdate_only=true\npersistent_keepalive_interval=%d\n", hexed(key), t.keepalive(t.is.WireGuard, key))
	}
	return t.wire.IpcSet(b.String())
}

func allow(b *strings.Builder, prefixes []netip.Prefix) {
	for _, p := range prefixes {
		fmt.Fprintf(b, "allowed_ip=%s\n", p)
	}
}

// lead lets the peer that shook hands last have the allowed prefixes.
func (t *tunnel) lead(c *gateway.Config) (moved bool, err error) {
	text, err := t.wire.IpcGet()
	if err != nil {
		return false, err
	}
	last, at, seconds, key := t.leads, int64(0), int64(0), ""
	for line := range strings.Lines(text) {
		name, value, _ := strings.Cut(strings.TrimSpace(line), "=")
		n, _ := strconv.ParseInt(value, 10, 64)
		switch name {
		case "public_key":
			for _, k := range t.is.WireGuard.Keys() {
				if hexed(k) == value {
					key = k
				}
			}
		case "last_handshake_time_sec":
			seconds = n
		case "last_handshake_time_nsec":
			if n += seconds * 1e9; n > at {
				at, last = n, key
			}
		}
	}
	if at == 0 || last == t.leads {
		return false, nil
	}
	var b strings.Builder
	fmt.Fprintf(&b, "public_key=%s\nupdate_only=true\nreplace_allowed_ips=true\n", hexed(last))
	allow(&b, c.Allowed(t.is.WireGuard))
	t.leads = last
	for _, key := range t.is.WireGuard.Keys() {
		fmt.Fprintf(&b, "public_key=%s\nupdate_only=true\npersistent_keepalive_interval=%d\n", hexed(key), t.keepalive(t.is.WireGuard, key))
	}
	return true, t.wire.IpcSet(b.String())
}

// call tells the device where its far end is, and lets it call at once: keepalive that is
// turned on does.
func (t *tunnel) call(to netip.AddrPort) error {
	set := ""
	for _, key := range t.is.WireGuard.Keys() {
		set += fmt.Sprintf("public_key=%s\nupdate_only=true\nendpoint=%s\n", hexed(key), to)
		if n := t.keepalive(t.is.WireGuard, key); n > 0 {
			set += fmt.Sprintf("persistent_keepalive_interval=0\npublic_key=%s\nupdate_only=true\npersistent_keepalive_interval=%d\n", hexed(key), n)
		}
	}
	return t.wire.IpcSet(set)
}

// read tells how the device is.
func (t *tunnel) read() agent.Device {
	out := agent.Device{Present: true, Up: true}
	leads, seconds := false, int64(0) // of the peer whose lines are read
	text, err := t.wire.IpcGet()
	if err != nil {
		return out
	}
	for line := range strings.Lines(text) {
		name, value, _ := strings.Cut(strings.TrimSpace(line), "=")
		n, _ := strconv.ParseUint(value, 10, 64)
		switch name {
		case "public_key":
			leads = value == hexed(t.leads)
		case "rx_bytes":
			out.In += n
		case "tx_bytes":
			out.Out += n
		case "last_handshake_time_sec":
			seconds = int64(n)
		case "last_handshake_time_nsec":
			if at := time.Unix(seconds, int64(n)); seconds > 0 && at.After(out.Handshake) {
				out.Handshake = at
			}
		case "endpoint":
			if leads {
				out.Endpoint, _ = netip.ParseAddrPort(value)
			}
		}
	}
	return out
}

// tunSide is a tunnel as its device reads and writes packets.
type tunSide tunnel

func (t *tunSide) File() *os.File           { return nil }
func (t *tunSide) MTU() (int, error)        { return int(t.mtu.Load()), nil }
func (t *tunSide) Name() (string, error)    { return t.is.Interface, nil }
func (t *tunSide) Events() <-chan tun.Event { return t.event }
func (t *tunSide) BatchSize() int           { return 1 }

// Close ends the device's reading.
func (t *tunSide) Close() error {
	(*tunnel)(t).end()
	return nil
}

// Read takes a packet that is to be encrypted.
func (t *tunSide) Read(bufs [][]byte, sizes []int, offset int) (int, error) {
	select {
	case p := <-t.out:
		sizes[0] = copy(bufs[0][offset:], p)
		return 1, nil
	case <-t.ended:
		return 0, os.ErrClosed
	}
}

// Write takes packets that were decrypted.
func (t *tunSide) Write(bufs [][]byte, offset int) (int, error) {
	for _, b := range bufs {
		p := append(Packet(nil), b[offset:]...)
		t.m.mu.Lock()
		var do action
		if t.m.tunnels[t.is.Interface] == (*tunnel)(t) {
			do = t.m.arrive(t.is.Interface, p, time.Now())
		}
		t.m.mu.Unlock()
		do.run()
	}
	return len(bufs), nil
}

// bindSide is a tunnel as its device sends and receives datagrams.
type bindSide tunnel

// endpoint is where a far end is.
type endpoint netip.AddrPort

func (e *endpoint) ClearSrc()           {}
func (e *endpoint) SrcToString() string { return "" }
func (e *endpoint) DstToString() string { return netip.AddrPort(*e).String() }
func (e *endpoint) DstToBytes() []byte {
	text, _ := netip.AddrPort(*e).MarshalBinary() // never fails
	return text
}
func (e *endpoint) DstIP() netip.Addr { return netip.AddrPort(*e).Addr() }
func (e *endpoint) SrcIP() netip.Addr { return netip.Addr{} }

// Open begins to receive.
func (t *bindSide) Open(port uint16) ([]conn.ReceiveFunc, uint16, error) {
	ended := make(chan struct{})
	t.m.mu.Lock()
	t.port, t.deaf = port, ended
	t.m.byPort[port] = (*tunnel)(t)
	t.m.mu.Unlock()
	return []conn.ReceiveFunc{func(bufs [][]byte, sizes []int, eps []conn.Endpoint) (int, error) {
		select {
		case d := <-t.in:
			sizes[0] = copy(bufs[0], d.text)
			from := endpoint(d.from)
			eps[0] = &from
			return 1, nil
		case <-ended:
			return 0, net.ErrClosed
		}
	}}, port, nil
}

// Close ends receiving.
func (t *bindSide) Close() error {
	t.m.mu.Lock()
	defer t.m.mu.Unlock()
	if t.deaf != nil {
		close(t.deaf)
		t.deaf = nil
	}
	if t.m.byPort[t.port] == (*tunnel)(t) {
		delete(t.m.byPort, t.port)
	}
	return nil
}

func (t *bindSide) SetMark(uint32) error { return nil } // the tunnel's own configuration has it
func (t *bindSide) BatchSize() int       { return 1 }

// ParseEndpoint reads ADDRESS:PORT.
func (t *bindSide) ParseEndpoint(s string) (conn.Endpoint, error) {
	at, err := netip.ParseAddrPort(s)
	e := endpoint(at)
	return &e, err
}

// Send sends datagrams by the tunnel's link.
func (t *bindSide) Send(bufs [][]byte, ep conn.Endpoint) error {
	to, ok := ep.(*endpoint)
	if !ok {
		return errors.New("an endpoint of another bind")
	}
	for _, b := range bufs {
		t.m.mu.Lock()
		do := t.m.outward(t.is.Link, netip.AddrPortFrom(netip.Addr{}, t.port), netip.AddrPort(*to), b)
		t.m.mu.Unlock()
		do.run()
	}
	return nil
}
