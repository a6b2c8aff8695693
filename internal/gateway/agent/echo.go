package agent

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/line"
)

// How echoes are asked for.
const (
	echoesAtOnce = 8
	echoWithin   = time.Second
	echoTries    = 2  // of a size that is asked for
	mostSilent   = 2  // hops that say nothing, in a row: what is behind them is not asked for
	echoHops     = 64 // of a question that is to arrive

	sessionLasts = 180 * time.Second       // after a handshake: the REJECT_AFTER_TIME of WireGuard
	wakeWithin   = 1500 * time.Millisecond // for handshakes of tunnels without a session
)

// Echo asks for echoes from addresses of this gateway, and waits for how they end.
func (a *Agent) Echo(ctx context.Context, list []gateway.Echo) ([]gateway.Echoed, error) {
	if err := gateway.CheckEchoes(list); err != nil {
		return nil, err
	}
	if !a.echoing.TryLock() {
		return nil, line.ErrAsking
	}
	defer a.echoing.Unlock()
	a.wake(ctx)
	out := make([]gateway.Echoed, len(list))
	var all sync.WaitGroup
	turns := make(chan struct{}, echoesAtOnce)
	for i := range list {
		turns <- struct{}{}
		all.Go(func() {
			defer func() { <-turns }()
			out[i] = a.echo(ctx, &list[i])
		})
	}
	all.Wait()
	return out, ctx.Err()
}

// wake lets tunnels have sessions before anything is asked by them: gateways ask each other at the
// same moment, and where both ends of a tunnel begin by what they have to send, their calls cross and
// are lost, again and again where the way is long.
func (a *Agent) wake(ctx context.Context) {
	since := time.Now().Add(-sessionLasts)
	asleep := func(knock bool) (some bool) {
		_ = a.do(ctx, func() error {
			if a.running == nil {
				return nil
			}
			c := a.running.Config
			r, err := a.plane.Read(c)
			if err != nil {
				return err
			}
			for i := range c.Tunnels {
				t := &c.Tunnels[i]
				some = some || t.WireGuard != nil && !r.Tunnels[t.Interface].Handshake.After(since)
			}
			if some && knock {
				a.knock(c, since, r.Tunnels)
			}
			return nil
		})
		return some
	}
	for until, some := time.Now().Add(wakeWithin), asleep(true); some && time.Now().Before(until) && ctx.Err() == nil; some = asleep(false) {
		time.Sleep(100 * time.Millisecond)
	}
}

// echo asks for one: of its size first, and of a small one where that gets no answer.
func (a *Agent) echo(ctx context.Context, e *gateway.Echo) gateway.Echoed {
	out := gateway.Echoed{From: e.From, To: e.To}
	sizes, tries := []int{gateway.SmallEcho}, 1
	if e.Size > gateway.SmallEcho {
		sizes, tries = []int{e.Size, gateway.SmallEcho}, echoTries
	}
	for _, size := range sizes {
		for try := 0; try < tries && out.Answered == 0 && ctx.Err() == nil; try++ {
			began := time.Now()
			heard, err := a.hear(ctx, e.From, e.To, size, echoHops)
			switch {
			case err != nil:
				out.Words = err.Error()
			case heard.Reply:
				out.Answered, out.RoundTrip = size, int(time.Since(began).Microseconds())
			case heard.Words != "":
				out.Words = heard.Words + ", by " + heard.By.String()
			}
			if out.Answered == 0 {
				out.Missed++
			}
		}
	}
	if out.Answered == sizes[0] {
		out.Words = ""
	}
	out.Words = out.Words[:min(len(out.Words), 200)]
	if e.Hops {
		out.Hops = a.hops(ctx, e)
	}
	return out
}

// hops asks who passes a question on, by questions that live as long as to get there. Where
// nothing is heard any more the list ends with those that say nothing.
func (a *Agent) hops(ctx context.Context, e *gateway.Echo) (out []netip.Addr) {
	silent := 0
	for live := 1; live <= gateway.MaxEchoHops && silent < mostSilent && ctx.Err() == nil; live++ {
		heard, err := a.hear(ctx, e.From, e.To, gateway.SmallEcho, live)
		switch {
		case err == nil && heard.Spent:
			out, silent = append(out, heard.By), 0
		case err == nil && heard.By.IsValid(): // it got there, or no further
			return out
		default:
			unspecified := netip.IPv6Unspecified()
			if e.From.Is4() {
				unspecified = netip.IPv4Unspecified()
			}
			out, silent = append(out, unspecified), silent+1
		}
	}
	return out
}

func (a *Agent) hear(ctx context.Context, from, to netip.Addr, size, hops int) (Heard, error) {
	asking, done := context.WithTimeout(ctx, echoWithin)
	defer done()
	heard, err := a.plane.Echo(asking, from, to, size, hops)
	if err != nil && asking.Err() != nil {
		return Heard{}, nil // silence is no failure
	}
	return heard, err
}
