package agent

import (
	"context"
	"net"
	"net/netip"
	"strconv"
	"time"

	"wideknot/core/gateway"
)

// names asks for the addresses of far ends that are known by name: once a configuration
// is applied, and again while nothing is heard from them.
func (a *Agent) names(ctx context.Context) {
	for {
		for _, t := range a.silent(ctx) {
			host, port, err := net.SplitHostPort(t.WireGuard.Endpoint)
			if err != nil {
				continue
			}
			number, _ := strconv.ParseUint(port, 10, 16)
			asking, cancel := context.WithTimeout(ctx, 5*time.Second)
			found, err := a.Resolve(asking, host)
			cancel()
			if err != nil || len(found) == 0 {
				a.Log.Warn("a far end's name is not known", "name", host, "interface", t.Interface, "reason", err)
				continue
			}
			err = a.do(ctx, func() error { return a.plane.Call(t, netip.AddrPortFrom(found[0].Unmap(), uint16(number))) })
			if err != nil {
				a.Log.Warn("a far end cannot be called", "interface", t.Interface, "reason", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-a.applied:
		case <-time.After(askAgain):
		}
	}
}

// Names are asked again each askAgain where nothing was heard for silence: a device
// that has something to say shakes hands every two minutes.
const (
	askAgain = 5 * time.Second
	silence  = 150 * time.Second
)

// silent lists tunnels whose far end is known by name and not heard.
func (a *Agent) silent(ctx context.Context) (out []*gateway.Tunnel) {
	_ = a.do(ctx, func() error { // an agent that ends has none
		if a.running == nil {
			return nil
		}
		var named []*gateway.Tunnel
		for i := range a.running.Config.Tunnels {
			t := &a.running.Config.Tunnels[i]
			if t.WireGuard == nil || t.WireGuard.Endpoint == "" {
				continue
			}
			if _, err := netip.ParseAddrPort(t.WireGuard.Endpoint); err != nil {
				named = append(named, t)
			}
		}
		if len(named) == 0 {
			return nil
		}
		r, err := a.plane.Read(a.running.Config)
		if err != nil {
			return err
		}
		alive, _ := a.prober.alive()
		for _, t := range named {
			if d := r.Tunnels[t.Interface]; time.Since(d.Handshake) > silence || !alive[t.Interface] {
				out = append(out, t)
			}
		}
		return nil
	})
	return out
}

// Next hops of WAN links are asked each second whether they live.
const (
	nextHopEvery  = time.Second
	nextHopWithin = 800 * time.Millisecond
)

// nextHops watches the WAN links by themselves.
func (a *Agent) nextHops(ctx context.Context) {
	for {
		var list []gateway.Link
		_ = a.do(ctx, func() error {
			if a.running != nil {
				list = a.running.Config.Links
			}
			return nil
		})
		began := time.Now()
		for i := range list {
			l := &list[i]
			if l.Device == "" || len(l.NextHops) == 0 {
				continue
			}
			asking, cancel := context.WithTimeout(ctx, nextHopWithin)
			err := a.plane.Ping(asking, l, l.NextHops[0], 0)
			cancel()
			_ = a.do(ctx, func() error { a.linkIs(l, err == nil); return nil })
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(max(nextHopEvery-time.Since(began), nextHopEvery/10)):
		}
	}
}

// linkIs takes what a link's next hop answered.
func (a *Agent) linkIs(l *gateway.Link, up bool) {
	k := a.circuit(l)
	was, known := k.up, k.asked
	if known && was == up {
		return
	}
	k.up, k.asked = up, true
	switch {
	case up && known:
		a.event(LinksMoved, l.Key, "the next hop %v of WAN link %s answers again", l.NextHops[0], l.Key)
	case !up:
		a.event(LinksMoved, l.Key, "the next hop %v of WAN link %s does not answer", l.NextHops[0], l.Key)
	}
}
