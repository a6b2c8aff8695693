package agent

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"wideknot/core/gateway"
	"wideknot/core/words"
	"wideknot/internal/gateway/stamp"
)

// A Flow is one that a plane knows. Beyond are the addresses to which its packets are routed, there
// and back, as translation leaves them.
type Flow struct {
	gateway.Flow
	Beyond [2]netip.Addr
}

// Sessions tells what is open by a tunnel, and ends it where that is asked for: what is told is what
// was open before.
func (a *Agent) Sessions(ctx context.Context, o *gateway.SessionsOrder) (out *gateway.Sessions, err error) {
	if err := o.Check(); err != nil {
		return nil, err
	}
	err = a.do(ctx, func() error {
		out, err = a.sessions(o)
		return err
	})
	return out, err
}

func (a *Agent) sessions(o *gateway.SessionsOrder) (*gateway.Sessions, error) {
	if a.running == nil {
		return nil, fmt.Errorf("there is no tunnel %s", o.Interface)
	}
	t := a.running.Config.Tunnel(o.Interface)
	switch {
	case t == nil:
		return nil, fmt.Errorf("there is no tunnel %s", o.Interface)
	case t.WireGuard == nil:
		return nil, fmt.Errorf("%s has no keys of WireGuard", o.Interface)
	}
	is, err := a.plane.Inspect(t)
	if err != nil {
		return nil, err
	}
	out := &gateway.Sessions{}
	for _, p := range is.Peers {
		one := gateway.KeySession{Key: p.Key, Endpoint: p.Endpoint, BytesIn: gateway.Counter(p.In), BytesOut: gateway.Counter(p.Out)}
		if !p.Handshake.IsZero() {
			one.HandshakeS = max(1, int(time.Since(p.Handshake).Seconds()))
		}
		out.Keys = append(out.Keys, one)
	}
	all, err := a.plane.Flows()
	if err != nil {
		out.Words = err.Error()
	}
	near, surrounded := a.near()
	if err == nil && surrounded != nil {
		err, all, out.Words = surrounded, nil, surrounded.Error()
	}
	passing := a.passing(o.Interface, near, all)
	told := slices.CompactFunc(slices.Clone(passing), func(x, y Flow) bool { return x.Protocol == y.Protocol && x.From == y.From && x.To == y.To }) // echoes have no ports
	for i := range told[:min(len(told), gateway.MaxFlows)] {
		out.Flows = append(out.Flows, told[i].Flow)
	}
	out.More = len(told) - len(out.Flows)
	switch o.Reset {
	case gateway.ResetFlows:
		if err != nil {
			return nil, err
		}
		if out.Ended, err = a.plane.Forget(passing); err != nil {
			return nil, err
		}
		a.event(SessionsReset, o.Interface, "%s forgotten of those by %s, as somebody asked", words.Many(out.Ended, "flow was", "flows were"), o.Interface)
	case gateway.ResetKeys:
		if err := a.plane.Rekey(t); err != nil {
			return nil, err
		}
		a.event(SessionsReset, o.Interface, "keys are agreed anew with the far end of %s, as somebody asked", o.Interface)
	}
	return out, nil
}

// near are the prefixes that are left by no tunnel, as they are beside the gateway.
func (a *Agent) near() (out []netip.Prefix, err error) {
	devices, behind, err := a.plane.Surroundings()
	for i := range devices {
		out = append(out, devices[i].Addresses...)
	}
	for i := range behind {
		out = append(out, behind[i].Prefix)
	}
	return out, err
}

// begun counts the flows that hosts began and that leave by a tunnel; of planes that tell none
// there are none.
func (a *Agent) begun(c *gateway.Config, hosts []netip.Addr) (out []gateway.Begun) {
	near, err := a.near()
	if err != nil || len(hosts) == 0 {
		return nil
	}
	all, err := a.plane.Flows()
	if err != nil {
		return nil
	}
	lookup := c.Lookup(near)
	for _, host := range hosts {
		one := gateway.Begun{Host: host}
		for i := range all {
			if f := &all[i]; f.From.Addr() == host && lookup.To(f.Beyond[0]) != nil {
				one.Flows++
			}
		}
		if one.Flows > 0 {
			out = append(out, one)
		}
	}
	return out
}

// udp is the protocol's number by IP.
const udp = 17

// passing picks the flows whose packets leave by a tunnel, one way or the other, in an order that
// stays. A flow of ways that share the load is of each of their tunnels.
func (a *Agent) passing(name string, near []netip.Prefix, all []Flow) []Flow {
	c := a.running.Config
	lookup := c.Lookup(near)
	uses := make(map[*gateway.Way]bool, len(c.Ways))
	for i := range c.Ways {
		if group := a.choice.Groups[i]; group > 0 && group <= len(c.Ways[i].Groups) {
			uses[&c.Ways[i]] = slices.ContainsFunc(c.Ways[i].Groups[group-1].Members, func(m gateway.Member) bool { return m.Interface == name })
		}
	}
	out := slices.DeleteFunc(all, func(f Flow) bool {
		if f.Protocol == udp && (f.From.Port() == stamp.Port || f.To.Port() == stamp.Port) {
			return true // probes
		}
		return !slices.ContainsFunc(f.Beyond[:], func(to netip.Addr) bool { return uses[lookup.To(to)] })
	})
	slices.SortFunc(out, func(x, y Flow) int {
		if n := x.From.Compare(y.From); n != 0 {
			return n
		}
		if n := x.To.Compare(y.To); n != 0 {
			return n
		}
		return x.Protocol - y.Protocol
	})
	return out
}
