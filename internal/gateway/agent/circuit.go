package agent

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/dns/dnsmessage"

	"wideknot/core/gateway"
)

// A WAN link is asked by itself, whatever its tunnels do: its next hop by nextHops; here
// whether a name service answers by it, and how large packets pass to a far end.
const (
	circuitEvery = 10 * time.Second
	circuitSize  = 5 * time.Minute
	answerWithin = 2 * time.Second
	mostServers  = 3
	largest      = 1500 // bytes, unless the tunnels need more
)

// Room that a tunnel takes besides the packet in it, in bytes: the header of IP and UDP,
// and WireGuard's.
const (
	outside4 = 20 + 8 + 32
	outside6 = 40 + 8 + 32
)

// circuit is what is known of a WAN link.
type circuit struct {
	up, asked    bool       // the next hop answers; it was asked
	names, named bool       // a name service answers; it was asked
	size         int        // the largest packet that passed, 0 where nothing is known
	outside      netip.Addr // by which others see it; invalid where nobody told
	sizeNext     time.Time
}

// circuits watches the WAN links besides their next hops.
func (a *Agent) circuits(ctx context.Context) {
	for {
		var list []gateway.Link
		far := map[string]netip.Addr{}
		need := map[string]int{}
		_ = a.do(ctx, func() error { // an agent that ends has none
			if a.running == nil {
				return nil
			}
			c := a.running.Config
			list = c.Links
			r, err := a.plane.Read(c)
			if err != nil {
				return err
			}
			alive, _ := a.prober.alive()
			for i := range c.Tunnels {
				t := &c.Tunnels[i]
				at := r.Tunnels[t.Interface].Endpoint.Addr().Unmap()
				if !at.IsValid() || !alive[t.Interface] || t.WireGuard == nil {
					continue
				}
				if !far[t.Link].IsValid() {
					far[t.Link] = at
				}
				if at.Is4() == far[t.Link].Is4() {
					need[t.Link] = max(need[t.Link], t.MTU+overhead(at))
				}
			}
			return nil
		})
		for i := range list {
			if l := &list[i]; l.Device != "" {
				a.askNames(ctx, l)
				a.askOutside(ctx, l)
				if at := far[l.Key]; at.IsValid() {
					a.sizeCircuit(ctx, l, at, need[l.Key])
				}
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(circuitEvery):
		}
	}
}

func overhead(far netip.Addr) int {
	if far.Is4() {
		return outside4
	}
	return outside6
}

// circuit returns what is known of a link, for the owner.
func (a *Agent) circuit(l *gateway.Link) *circuit {
	k := a.links[l.Key]
	if k == nil {
		k = &circuit{}
		a.links[l.Key] = k
	}
	return k
}

// askNames asks the machine's name servers by a link; one answer is enough.
func (a *Agent) askNames(ctx context.Context, l *gateway.Link) {
	servers := a.Resolvers()
	if len(servers) == 0 {
		return
	}
	var trouble error
	for _, server := range servers[:min(len(servers), mostServers)] {
		if trouble = a.query(ctx, l, server); trouble == nil {
			break
		}
	}
	_ = a.do(ctx, func() error {
		k := a.circuit(l)
		was, known := k.names, k.named
		k.names, k.named = trouble == nil, true
		switch {
		case k.names && known && !was:
			a.event(LinksMoved, l.Key, "a name service answers by WAN link %s again", l.Key)
		case !k.names && (was || !known):
			a.event(LinksMoved, l.Key, "no name service answers by WAN link %s: %v", l.Key, trouble)
		}
		return nil
	})
}

// askOutside asks by which address the link is seen from outside.
func (a *Agent) askOutside(ctx context.Context, l *gateway.Link) {
	if a.Outside == nil {
		return
	}
	for _, server := range a.Outside() {
		seen, err := a.seenBy(ctx, l, server)
		if err != nil {
			continue
		}
		_ = a.do(ctx, func() error {
			k := a.circuit(l)
			if k.outside.IsValid() && k.outside != seen.Addr() {
				a.event(LinksMoved, l.Key, "WAN link %s is seen from outside as %v; it was %v", l.Key, seen.Addr(), k.outside)
			}
			k.outside = seen.Addr()
			return nil
		})
		return
	}
}

// query asks one server for the root's name servers, which each has. Any answer to the
// question proves the way there and back.
func (a *Agent) query(ctx context.Context, l *gateway.Link, server netip.Addr) error {
	asking, cancel := context.WithTimeout(ctx, answerWithin)
	defer cancel()
	conn, err := a.plane.Dial(asking, l, netip.AddrPortFrom(server, 53))
	if err != nil {
		return err
	}
	defer conn.Close()
	id := uint16(time.Now().UnixNano())
	question := dnsmessage.Message{
		Header:    dnsmessage.Header{ID: id, RecursionDesired: true},
		Questions: []dnsmessage.Question{{Name: dnsmessage.MustNewName("."), Type: dnsmessage.TypeNS, Class: dnsmessage.ClassINET}},
	}
	text, err := question.Pack()
	if err != nil {
		return err
	}
	if err := conn.SetDeadline(time.Now().Add(answerWithin)); err != nil {
		return err
	}
	if _, err := conn.Write(text); err != nil {
		return err
	}
	room := make([]byte, 4096)
	for {
		n, err := conn.Read(room)
		if err != nil {
			return fmt.Errorf("%v: %w", server, err)
		}
		var parser dnsmessage.Parser
		if head, err := parser.Start(room[:n]); err == nil && head.Response && head.ID == id {
			return nil
		}
	}
}

// sizeCircuit measures how large a packet passes outside the tunnels, by echoes that
// nothing may cut up, and says where that is less than the tunnels need.
func (a *Agent) sizeCircuit(ctx context.Context, l *gateway.Link, far netip.Addr, need int) {
	due := false
	_ = a.do(ctx, func() error {
		due = !time.Now().Before(a.circuit(l).sizeNext)
		return nil
	})
	if !due {
		return
	}
	echo := func(size int) bool {
		asking, cancel := context.WithTimeout(ctx, nextHopWithin)
		defer cancel()
		return a.plane.Ping(asking, l, far, size) == nil
	}
	found := 0
	if echo(0) { // else nothing is known: it may answer no echo
		var s sizer
		s.begin(max(largest, need))
		for s.size > 0 && ctx.Err() == nil {
			if echo(s.size) {
				s.answered()
			} else {
				s.missed()
			}
		}
		if found = s.found; found < need && echo(need) { // what is found goes in steps
			found = need
		}
	}
	_ = a.do(ctx, func() error {
		k := a.circuit(l)
		was := k.size
		k.size, k.sizeNext = found, time.Now().Add(circuitSize)
		switch {
		case found == 0 || found == was:
		case found < need:
			a.event(PathMTU, l.Key, "WAN link %s takes packets of %d bytes at most to %v; its tunnels need %d", l.Key, found, far, need)
		case was != 0 && was < need:
			a.event(PathMTU, l.Key, "WAN link %s takes packets of %d bytes again, as its tunnels need", l.Key, found)
		}
		return nil
	})
}

// nameServers reads those of the machine, but for what runs on it: that would ask by any
// link.
func nameServers() []netip.Addr {
	file, err := os.Open("/etc/resolv.conf")
	if err != nil {
		return nil
	}
	defer file.Close()
	return readServers(file)
}

// readServers reads resolv.conf (5).
func readServers(r io.Reader) (out []netip.Addr) {
	lines := bufio.NewScanner(io.LimitReader(r, 64<<10))
	for lines.Scan() {
		words := strings.Fields(lines.Text())
		if len(words) < 2 || words[0] != "nameserver" {
			continue
		}
		at, err := netip.ParseAddr(words[1])
		if err == nil && !at.IsLoopback() && !slices.Contains(out, at) {
			out = append(out, at)
		}
	}
	return out
}
