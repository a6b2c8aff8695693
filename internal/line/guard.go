package line

import (
	"cmp"
	"net"
	"net/netip"
	"sync"
	"time"
)

// What strangers may hold of a port that gateways call: connections which have not proved
// yet who they are. From one address only some, so that it cannot keep others out; in all so
// many that a newcomer takes the place of who has waited longest.
const (
	mostUnproved    = 2048
	mostFromAddress = 64
	proveWithin     = 10 * time.Second
	longestVisit    = 10 * time.Minute // of who asks for a certificate, or the program
)

// A Guard counts connections that have not proved who they are.
type Guard struct {
	Within time.Duration // how long one may take; zero is proveWithin

	mu    sync.Mutex
	order []*unproved // as they came
	from  map[netip.Prefix]int
}

type unproved struct {
	conn  net.Conn
	from  netip.Prefix
	timer *time.Timer
	ended bool
}

// Enter takes a connection, or closes it and reports false. Proved is called once it is
// known who is there, or it ended.
func (g *Guard) Enter(conn net.Conn) (proved func(), ok bool) {
	from := sourceOf(conn)
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.from == nil {
		g.from = map[netip.Prefix]int{}
	}
	if g.from[from] >= mostFromAddress {
		_ = conn.Close()
		return nil, false
	}
	if len(g.order) >= mostUnproved {
		longest := g.order[0]
		g.leave(longest)
		_ = longest.conn.Close()
	}
	u := &unproved{conn: conn, from: from}
	u.timer = time.AfterFunc(cmp.Or(g.Within, proveWithin), func() {
		g.mu.Lock()
		late := !u.ended
		g.leave(u)
		g.mu.Unlock()
		if late {
			_ = conn.Close()
		}
	})
	g.from[from]++
	g.order = append(g.order, u)
	return func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		g.leave(u)
	}, true
}

// leave forgets a connection, under the lock.
func (g *Guard) leave(u *unproved) {
	if u.ended {
		return
	}
	u.ended = true
	u.timer.Stop()
	if g.from[u.from]--; g.from[u.from] == 0 {
		delete(g.from, u.from)
	}
	for i, other := range g.order {
		if other == u {
			g.order = append(g.order[:i], g.order[i+1:]...)
			return
		}
	}
}

// sourceOf is where a connection comes from: an address, or a /64 of IPv6.
func sourceOf(conn net.Conn) netip.Prefix {
	tcp, ok := conn.RemoteAddr().(*net.TCPAddr)
	if !ok {
		return netip.Prefix{}
	}
	at := tcp.AddrPort().Addr().Unmap().WithZone("")
	bits := at.BitLen()
	if at.Is6() {
		bits = 64
	}
	return netip.PrefixFrom(at, bits).Masked()
}

// Guarded lets the connections of a listener count as unproved for as long as they last,
// which is longestVisit at most: who asks there never proves more.
func Guarded(listen net.Listener) net.Listener { return &guarded{listen, Guard{Within: longestVisit}} }

type guarded struct {
	net.Listener
	guard Guard
}

// Accept returns the next connection that may be held.
func (l *guarded) Accept() (net.Conn, error) {
	for {
		conn, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if proved, ok := l.guard.Enter(conn); ok {
			return &guardedConn{Conn: conn, proved: proved}, nil
		}
	}
}

type guardedConn struct {
	net.Conn
	proved func()
}

// Close lets the next in.
func (c *guardedConn) Close() error {
	c.proved()
	return c.Conn.Close()
}
