package agent

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/stamp"
	"wideknot/internal/line"
)

// How a tunnel is loaded: for so long at each of so many rates, and a pause after each, so that
// probes get through and what is on the way arrives.
const (
	benchSteps = 4
	benchFor   = 1500 * time.Millisecond
	benchPause = 700 * time.Millisecond
	benchTick  = 2 * time.Millisecond
	benchBurst = 20 * time.Millisecond // what is sent at once by a gateway that was held up; the rest is not made up for
	benchWaits = 10 * time.Second      // for a tunnel that is dead
	benchEnds  = 3                     // small packets after each step: their answers tell how many arrived
	benchStops = 10.0                  // loss in hundredths, beyond which higher rates tell nothing more
)

// shortTLV asks a reflector of ours for an answer without what the packet was padded with.
const shortTLV = stamp.FirstPrivate + 1

// benching marks the session of packets that load a tunnel.
const benching = sizing | announcing

// Bench loads a tunnel towards its far end. The packets are test packets (RFC 8762) that the far
// end's reflector counts.
func (a *Agent) Bench(ctx context.Context, b *gateway.Bench) (*gateway.Benched, error) {
	if err := b.Check(); err != nil {
		return nil, err
	}
	if !a.benching.TryLock() {
		return nil, line.ErrAsking
	}
	defer a.benching.Unlock()
	k := &bench{}
	err := a.ready(ctx, b.Interface, k)
	for until := time.Now().Add(benchWaits); errors.Is(err, errDead) && time.Now().Before(until); err = a.ready(ctx, b.Interface, k) {
		k.rest(ctx) // what was sent the other way may have killed it
	}
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	if k.conn, err = a.plane.Listen(ctx, k.to.Near.Is4(), 0, gateway.ProbeMark); err != nil {
		return nil, err
	}
	var hearing sync.WaitGroup
	defer hearing.Wait()
	defer func() { _ = k.conn.Close() }()
	hearing.Go(k.hear)
	a.event(Benched, b.Interface, "%s is loaded with up to %d kbit/s, as somebody asked", b.Interface, b.Kbps)
	out := &gateway.Benched{Size: k.size, Steps: []gateway.BenchStep{}}
	for i := 1; i <= benchSteps && ctx.Err() == nil; i++ {
		one := k.step(ctx, b.Kbps*i/benchSteps)
		if out.Steps = append(out.Steps, one); one.LossPercent() > benchStops {
			break
		}
	}
	return out, ctx.Err()
}

// errDead is of a tunnel that may be back soon.
var errDead = errors.New("is dead")

// ready finds the tunnel, and how it is probed.
func (a *Agent) ready(ctx context.Context, name string, k *bench) error {
	return a.do(ctx, func() error {
		now, err := time.Now(), fmt.Errorf("there is no tunnel %s", name)
		a.prober.each(func(w *watched) {
			switch {
			case w.tunnel.Interface != name:
			case !w.probes():
				err = fmt.Errorf("%s has no probes, so its far end counts nothing", name)
			case !w.alive(now) || w.index == 0:
				err = fmt.Errorf("%s %w", name, errDead)
			default:
				err = nil
				k.to = stamp.Meta{Far: netip.AddrPortFrom(w.far, stamp.Port), Near: w.near, Interface: w.index}
				k.session, k.size = w.session.ID|benching, w.tunnel.MTU
				if w.sizer.found > 0 {
					k.size = min(k.size, w.sizer.found)
				}
			}
		})
		return err
	})
}

// A bench is one tunnel being loaded.
type bench struct {
	conn    stamp.Conn
	to      stamp.Meta
	session uint16
	size    int // of packets, headers included

	mu      sync.Mutex
	first   uint32 // sequence number of the first packet of the step
	next    uint32
	sent    []time.Time // of the step
	answers int
	trips   time.Duration
	before  time.Duration
	differ  time.Duration
	most    time.Duration
	counted uint32          // by the reflector, all in all
	began   stamp.Timestamp // when the first of the step came to the reflector, by its clock
	ended   stamp.Timestamp // and the last
}

// hear takes answers until the socket is closed.
func (k *bench) hear() {
	room := make([]byte, stamp.MaxPacket)
	for k.conn.Wait() == nil {
		for {
			n, m, ok := k.conn.Read(room)
			if !ok {
				break
			}
			if r, err := stamp.ParseReflection(room[:n]); err == nil && r.Session == k.session && m.Far == k.to.Far {
				k.answered(&r, m.At)
			}
		}
	}
}

func (k *bench) answered(r *stamp.Reflection, at time.Time) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.counted = max(k.counted, r.Sequence+1)
	i := int(r.Sender.Sequence - k.first)
	if i < 0 || i >= len(k.sent) || k.sent[i].IsZero() {
		return
	}
	if k.began == 0 || r.Received.Since(k.began) < 0 {
		k.began = r.Received
	}
	if k.ended == 0 || r.Received.Since(k.ended) > 0 {
		k.ended = r.Received
	}
	trip := at.Sub(k.sent[i])
	if there := r.Timestamp.Since(r.Received); there > 0 && there < trip {
		trip -= there
	}
	if k.sent[i] = (time.Time{}); k.answers > 0 {
		k.differ += (trip - k.before).Abs()
	}
	k.answers, k.before = k.answers+1, trip
	k.trips, k.most = k.trips+trip, max(k.most, trip)
}

// send sends one packet of so many bytes in all.
func (k *bench) send(size int, counts bool) bool {
	headers := 28
	if k.to.Near.Is6() {
		headers = 48
	}
	k.mu.Lock()
	now := time.Now()
	p := stamp.Packet{Sequence: k.next, Timestamp: stamp.At(now), Session: k.session}
	k.next++
	if counts {
		k.sent = append(k.sent, now)
	}
	k.mu.Unlock()
	text := stamp.AppendTLV(p.Append(make([]byte, 0, size)), shortTLV, nil)
	return k.conn.Write(stamp.Pad(text, size-headers), k.to) == nil
}

// step loads the tunnel at one rate, and counts.
func (k *bench) step(ctx context.Context, kbps int) gateway.BenchStep {
	k.mu.Lock()
	k.first, k.sent, k.answers, k.trips, k.differ, k.most = k.next, nil, 0, 0, 0, 0
	k.began, k.ended = 0, 0
	already := k.counted
	k.mu.Unlock()
	began := time.Now()
	each := time.Duration(float64(k.size*8) / float64(kbps) * float64(time.Millisecond))
	tick := time.NewTicker(benchTick)
	defer tick.Stop()
	sent, due := 0, began
	for time.Since(began) < benchFor && ctx.Err() == nil {
		now := time.Now()
		if held := now.Add(-benchBurst); due.Before(held) {
			due = held // a burst would fill queues that the rate itself does not
		}
		for ; !due.After(now) && time.Since(began) < benchFor; due = due.Add(each) {
			k.send(k.size, true) // what cannot be sent does not arrive
			sent++
		}
		<-tick.C
	}
	took := time.Since(began)
	k.rest(ctx)
	for range benchEnds {
		k.send(128, false)
	}
	k.rest(ctx)
	k.mu.Lock()
	defer k.mu.Unlock()
	out := gateway.BenchStep{Milliseconds: int(took.Milliseconds()), Sent: sent, Back: k.answers, MaxLatencyUs: int(k.most.Microseconds())}
	out.There = min(sent, max(k.answers, int(k.counted-already)-benchEnds))
	// What queued on the way comes after the last was sent.
	out.Kbps, out.ThereKbps = k.rate(sent, took), k.rate(out.There, max(took, k.ended.Since(k.began)))
	if k.answers > 0 {
		out.LatencyUs, out.JitterUs = int((k.trips / time.Duration(k.answers)).Microseconds()), int((k.differ / time.Duration(max(1, k.answers-1))).Microseconds())
	}
	return out
}

// rate is of so many packets in a time, in kbit/s.
func (k *bench) rate(packets int, took time.Duration) int {
	return int(float64(packets*k.size*8) / took.Seconds() / 1000)
}

func (k *bench) rest(ctx context.Context) {
	select {
	case <-ctx.Done():
	case <-time.After(benchPause):
	}
}
