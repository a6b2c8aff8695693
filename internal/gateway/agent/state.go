package agent

import (
	"context"
	"net/netip"
	"time"

	"wideknot/core/gateway"
)

// State is what the gateway reports of itself.
func (a *Agent) State(ctx context.Context) (out *gateway.State, err error) {
	err = a.do(ctx, func() error {
		out, err = a.state()
		return err
	})
	return out, err
}

// moment writes a time; nothing for none.
func moment(t time.Time) gateway.Time {
	if t.IsZero() {
		return ""
	}
	return gateway.Time(t.UTC().Format(time.RFC3339))
}

func (a *Agent) state() (*gateway.State, error) {
	now := time.Now()
	out := &gateway.State{At: moment(a.Now()), Clock: gateway.ClockState{Synchronised: synchronised()}}
	out.Line = a.line
	out.Trial = gateway.TrialState{LastToken: a.last.Token, LastOutcome: a.last.How, LastReason: a.last.Why, Trouble: a.broken}
	if a.trial != nil {
		out.Trial.Token, out.Trial.Left = a.trial.Token, max(1, int((a.ends-bootClock()).Seconds()))
	}
	if a.running == nil {
		return out, nil
	}
	c := a.running.Config
	out.Site, out.Release, out.Digest = c.Site, a.running.Release, a.running.Digest
	r, err := a.plane.Read(c)
	if err != nil {
		return nil, err
	}
	out.Links = a.linkStates(c, r)
	a.prober.each(func(w *watched) {
		d := r.Tunnels[w.tunnel.Interface]
		one := gateway.TunnelState{
			Interface: w.tunnel.Interface, Up: w.alive(now), Since: moment(w.life.since),
			KeptOff: gateway.Counter(d.Kept), BytesIn: gateway.Counter(d.In), BytesOut: gateway.Counter(d.Out), Endpoint: d.Endpoint,
			Sent: gateway.Counter(w.quality.Sent), Answered: gateway.Counter(w.quality.Answered),
		}
		if !d.Handshake.IsZero() {
			one.HandshakeS = max(1, int(now.Sub(d.Handshake).Seconds()))
		}
		one.PathMTU, one.Beyond, one.Held = w.sizer.found, w.beyond, w.drilled && w.inDrill(now)
		if p := w.tunnel.Probe; p != nil && w.life.steadies(p, now) {
			one.SteadyIn = max(1, int(w.life.heldUntil.Sub(now).Seconds()))
		}
		latency, jitter := w.quality.latency()
		one.LatencyUs, one.JitterUs = int(latency.Microseconds()), int(jitter.Microseconds())
		one.LossOutPPM, one.LossBackPPM = w.quality.loss()
		out.Tunnels = append(out.Tunnels, one)
	})
	for i := range c.Ways {
		out.Ways = append(out.Ways, gateway.WayState{ID: c.Ways[i].ID, Group: a.choice.Groups[i]})
	}
	held := a.spread(c).Ways[len(c.Ways):]
	for i := range held {
		out.HeldWays = append(out.HeldWays, gateway.WayState{ID: held[i].ID, Group: a.choice.Groups[len(c.Ways)+i]})
	}
	out.Rules = r.Rules
	return out, nil
}

// linkStates tells of the WAN links by themselves.
func (a *Agent) linkStates(c *gateway.Config, r Reading) (out []gateway.LinkState) {
	for i := range c.Links {
		l := &c.Links[i]
		k := a.circuit(l)
		out = append(out, gateway.LinkState{Link: l.Key, Addresses: plain(r.Links[l.Key]), NextHopUp: k.up, NamesUp: k.names, PathMTU: k.size, SeenOutside: k.outside})
	}
	return out
}

// plain leaves out what a report has no form for.
func plain(list []netip.Addr) (out []netip.Addr) {
	for _, a := range list {
		if a = a.Unmap().WithZone(""); a.IsValid() {
			out = append(out, a)
		}
	}
	return out
}

// LineIs takes whether there is a line to a server, and to which.
func (a *Agent) LineIs(ctx context.Context, up bool, server string) {
	_ = a.do(ctx, func() error { // an agent that ends tells nobody
		a.line = gateway.LineState{Up: up, Since: moment(a.Now()), Server: server}
		kind, words := LineDown, "the line to %s is down"
		if up {
			kind, words = LineUp, "the line to %s is up"
		}
		a.event(kind, server, words, server)
		return nil
	})
}

// Running returns what the gateway is to be, on trial or confirmed; nil where nothing was
// applied.
func (a *Agent) Running(ctx context.Context) (out *gateway.Config, err error) {
	err = a.do(ctx, func() error {
		if a.running != nil {
			out = a.running.Config
		}
		return nil
	})
	return out, err
}

// Events returns those of the journal behind a sequence number, at most so many of the
// first, the journal's epoch, and a channel that closes with the next.
func (a *Agent) Events(after uint64, most int) (epoch string, events []Event, more <-chan struct{}, err error) {
	events, more, err = a.journal.After(after, most)
	return a.journal.epoch, events, more, err
}

// Standing is what an agent says of itself besides State.
type Standing struct {
	Site    string  `json:"site,omitempty"`
	Release int     `json:"release,omitempty"`
	Digest  string  `json:"digest,omitempty"`
	Trial   string  `json:"trial,omitempty"` // its token
	Left    int     `json:"seconds-left,omitempty"`
	Last    Outcome `json:"last,omitzero"`
	Broken  string  `json:"broken,omitempty"` // why the last applying failed
}

// Standing says what runs, and what is being tried.
func (a *Agent) Standing(ctx context.Context) (out Standing, err error) {
	err = a.do(ctx, func() error {
		out.Last, out.Broken = a.last, a.broken
		if a.running != nil {
			out.Site, out.Release, out.Digest = a.running.Config.Site, a.running.Release, a.running.Digest
		}
		if a.trial != nil {
			out.Trial, out.Left = a.trial.Token, int((a.ends - bootClock()).Seconds())
		}
		return nil
	})
	return out, err
}
