package agent

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"sync"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/line"
)

// Look looks closely at tunnels: how their devices are, and what arrives by the links.
func (a *Agent) Look(ctx context.Context, l *gateway.Look) (*gateway.Looked, error) {
	if err := l.Check(); err != nil {
		return nil, err
	}
	if !a.looking.TryLock() {
		return nil, line.ErrAsking
	}
	defer a.looking.Unlock()
	began := time.Now()
	var c *gateway.Config
	before := map[string]Inside{}
	err := a.do(ctx, func() (err error) {
		if a.running == nil {
			return nil
		}
		c = a.running.Config
		before, err = a.inspect(c, l)
		return err
	})
	if err != nil || c == nil {
		return &gateway.Looked{}, err
	}
	out := &gateway.Looked{}
	if l.For > 0 {
		if out.Arrivals, err = a.overhear(ctx, c, l); err != nil {
			return nil, err
		}
	}
	err = a.do(ctx, func() error {
		if a.running == nil || a.running.Config != c {
			return nil // it is another one meanwhile: what was looked at is gone
		}
		return a.seen(c, l, before, out)
	})
	if err != nil {
		return nil, err
	}
	for i := range out.Tunnels {
		out.Tunnels[i].Resolved = a.resolved(ctx, c.Tunnel(out.Tunnels[i].Interface))
	}
	out.Arrivals = out.Arrivals[:min(len(out.Arrivals), gateway.MaxArrivals)]
	out.For = int(time.Since(began).Milliseconds())
	return out, nil
}

// overhear counts what arrives, while far ends are called and the links are asked by themselves.
func (a *Agent) overhear(ctx context.Context, c *gateway.Config, l *gateway.Look) ([]gateway.Arrived, error) {
	hearing, done := context.WithTimeout(ctx, time.Duration(l.For)*time.Millisecond)
	defer done()
	var all sync.WaitGroup
	defer all.Wait()
	if l.Knock {
		all.Go(func() { a.knockSoon(hearing, c, l) })
	}
	for i := range c.Links {
		if link := &c.Links[i]; link.Device != "" {
			all.Go(func() { a.askNames(hearing, link); a.askOutside(hearing, link) })
		}
	}
	return a.plane.Overhear(hearing, c.Links)
}

// seen reads tunnels, links and devices, for the owner.
func (a *Agent) seen(c *gateway.Config, l *gateway.Look, before map[string]Inside, out *gateway.Looked) error {
	secrets, err := ReadSecrets(a.Keys, c)
	if err != nil {
		return err
	}
	after, err := a.inspect(c, l)
	if err != nil {
		return err
	}
	for _, name := range l.Interfaces {
		if t := c.Tunnel(name); t != nil {
			out.Tunnels = append(out.Tunnels, compared(c, t, secrets.Shared[name], before[name], after[name]))
		}
	}
	r, err := a.plane.Read(c)
	if err != nil {
		return err
	}
	out.Links = a.linkStates(c, r)
	out.Begun = a.begun(c, l.Hosts)
	carrying, err := a.plane.Carrying()
	for at, carries := range carrying {
		if !carries {
			out.Silent = append(out.Silent, at.Unmap().WithZone(""))
		}
	}
	slices.SortFunc(out.Silent, netip.Addr.Compare)
	out.Silent = out.Silent[:min(len(out.Silent), gateway.MaxArrivals)]
	return err
}

// knockAfter is how late far ends are called: the one at the other end may begin to look a
// little later than this one.
const knockAfter = 300 * time.Millisecond

// knockSoon calls the far ends of tunnels.
func (a *Agent) knockSoon(ctx context.Context, c *gateway.Config, l *gateway.Look) {
	select {
	case <-time.After(knockAfter):
	case <-ctx.Done():
		return
	}
	_ = a.do(ctx, func() error { // what cannot be called is told by what is heard
		for _, name := range l.Interfaces {
			if t := c.Tunnel(name); t != nil && t.WireGuard != nil && a.running != nil && a.running.Config == c {
				_ = a.plane.Knock(t)
			}
		}
		return nil
	})
}

func (a *Agent) inspect(c *gateway.Config, l *gateway.Look) (map[string]Inside, error) {
	out := map[string]Inside{}
	for _, name := range l.Interfaces {
		t := c.Tunnel(name)
		if t == nil || t.WireGuard == nil {
			continue
		}
		var err error
		if out[name], err = a.plane.Inspect(t); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// compared says how a tunnel's device is, beside what it is to be.
func compared(c *gateway.Config, t *gateway.Tunnel, shared [32]byte, before, after Inside) gateway.LookedTunnel {
	out := gateway.LookedTunnel{Interface: t.Interface, Missing: !after.Present && t.WireGuard != nil, Port: after.Port}
	if !after.Present {
		return out
	}
	out.PublicKey, _ = publicKey(after.Private) // 32 octets are a key
	allowed := map[netip.Prefix]bool{}
	was := map[string]Peer{}
	for _, p := range before.Peers {
		was[p.Key] = p
	}
	for _, p := range after.Peers[:min(len(after.Peers), 8)] {
		out.Peers = append(out.Peers, p.Key)
		out.OtherSecret = out.OtherSecret || p.Shared != shared
		out.Shook = out.Shook || p.Handshake.After(was[p.Key].Handshake)
		out.BytesIn += gateway.Counter(p.In - min(p.In, was[p.Key].In))
		out.BytesOut += gateway.Counter(p.Out - min(p.Out, was[p.Key].Out))
		if p.Endpoint.IsValid() {
			out.Endpoint = p.Endpoint
		}
		for _, prefix := range p.Allowed {
			allowed[prefix] = true
		}
	}
	for _, p := range c.Allowed(t.WireGuard) {
		if !allowed[p] && len(out.Lacks) < gateway.MaxLacks {
			out.Lacks = append(out.Lacks, p)
		}
	}
	return out
}

// resolved asks where the name of a tunnel's endpoint leads now; nowhere for one without.
func (a *Agent) resolved(ctx context.Context, t *gateway.Tunnel) (out []netip.AddrPort) {
	if t == nil || t.WireGuard == nil || t.WireGuard.Endpoint == "" {
		return nil
	}
	if _, err := netip.ParseAddrPort(t.WireGuard.Endpoint); err == nil {
		return nil
	}
	host, port, err := net.SplitHostPort(t.WireGuard.Endpoint)
	if err != nil {
		return nil
	}
	number, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return nil
	}
	asking, done := context.WithTimeout(ctx, echoWithin)
	defer done()
	found, _ := a.Resolve(asking, host) // none is told as none
	for _, at := range found[:min(len(found), 16)] {
		out = append(out, netip.AddrPortFrom(at.Unmap().WithZone(""), uint16(number)))
	}
	return out
}
