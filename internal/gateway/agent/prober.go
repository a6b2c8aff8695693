package agent

import (
	"container/heap"
	"context"
	"log/slog"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/stamp"
)

// A prober probes all tunnels, answers the probes of far ends, and knows which tunnels
// live. Its clock is the machine's.
type prober struct {
	log     *slog.Logger
	changed chan struct{} // something lives that did not, or the other way round
	events  func(kind, about, format string, values ...any)

	mu       sync.Mutex // held from before a packet is read until it is judged
	watched  map[string]*watched
	byNumber map[uint16]*watched
	byIndex  map[int]*watched // nil until interfaces were seen
	queue    wheel
	conns    map[bool]stamp.Conn // by whether it is of IPv4
	wake     chan struct{}
	boot     time.Duration       // between the boot clock and the monotonic one
	remember map[string]bool     // tunnels that were dead when the agent ended
	crowd    bool                // none was taken yet, see Settings
	carrying map[netip.Addr]bool // of this gateway's addresses: whether their device does
	told     []*told             // overlays whose hubs tell, in the configuration's order
	tellAt   time.Time           // when news is told; zero where there is none
	toldLast time.Time
}

// A watched tunnel.
type watched struct {
	tunnel    *gateway.Tunnel
	near, far netip.Addr
	index     int  // of the interface, 0 while it is not up
	seen      bool // index says how it is; not so while it is being made
	up        bool
	life      life
	quality   quality
	gauge     gauge
	decides   bool // this end says whether it keeps to its limits
	beyond    bool // it does not
	sizer     sizer
	toldSize  int // that was told last
	session   stamp.Session
	next      time.Time // when the next probe leaves
	at        time.Time // when it is looked at next
	place     int       // in the queue
	farDead   bool      // what the far end said last, and when
	farSaid   time.Time
	disagrees time.Time // since when the two ends differ
	told      bool      // that they do
	heldUntil time.Time // for a drill: until then its probes are as good as lost, or it is taken for
	heldAs    gateway.HoldAs
	farHeldAs gateway.HoldAs // the same, as the far end says with its probes
	worse     int            // answers that were taken for slow
	drilled   bool           // it was held, and has not been well since
}

// probes reports whether the tunnel is probed.
func (w *watched) probes() bool { return w.tunnel.Probe != nil && w.near.IsValid() && w.far.IsValid() }

// alive is what traffic goes by: the interface is up, its probes are answered, and the
// far end does not say that its own are not. Were each end to go by its own probes
// alone, one that holds a flapping tunnel down would get answers by it for minutes.
func (w *watched) alive(now time.Time) bool {
	return w.up && !w.life.dead && !w.farSaysDead(now)
}

// farSaysDead reports whether the far end said so lately.
func (w *watched) farSaysDead(now time.Time) bool {
	return w.farDead && w.probes() && now.Sub(w.farSaid) < detection(w.tunnel.Probe)
}

// A wheel is the tunnels by when they are looked at next.
type wheel []*watched

func (q wheel) Len() int           { return len(q) }
func (q wheel) Less(i, j int) bool { return q[i].at.Before(q[j].at) }
func (q wheel) Swap(i, j int) {
	q[i], q[j] = q[j], q[i]
	q[i].place, q[j].place = i, j
}
func (q *wheel) Push(x any) {
	w := x.(*watched)
	w.place = len(*q)
	*q = append(*q, w)
}
func (q *wheel) Pop() any {
	last := (*q)[len(*q)-1]
	*q = (*q)[:len(*q)-1]
	return last
}

func newProber(log *slog.Logger, events func(kind, about, format string, values ...any)) *prober {
	return &prober{
		log: log, events: events, changed: make(chan struct{}, 1), wake: make(chan struct{}, 1),
		watched: map[string]*watched{}, byNumber: map[uint16]*watched{}, conns: map[bool]stamp.Conn{},
		boot: bootLead(), remember: map[string]bool{},
	}
}

// bootLead is by how much the clock that goes on while the machine sleeps is ahead of
// the one that does not.
func bootLead() time.Duration {
	var boot, mono unix.Timespec
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &boot) != nil || unix.ClockGettime(unix.CLOCK_MONOTONIC, &mono) != nil {
		return 0
	}
	return time.Duration(boot.Nano() - mono.Nano())
}

// start opens the sockets; they end with the context.
func (p *prober) start(ctx context.Context, plane Plane, light bool) error {
	for _, four := range []bool{true, false} {
		conn, err := plane.Listen(ctx, four, 0, gateway.ProbeMark)
		if err != nil {
			if !four {
				p.log.Warn("no probes over IPv6", "reason", err)
				continue
			}
			return err
		}
		p.conns[four] = conn
		context.AfterFunc(ctx, func() { _ = conn.Close() })
		go p.receive(conn)
		answers, err := plane.Listen(ctx, four, stamp.Port, gateway.ProbeMark)
		if err != nil {
			return err
		}
		reflector := &stamp.Reflector{Short: shortTLV, Knows: func(kind uint8) bool { return kind == ourTLV || kind == shortTLV }, Heard: p.heard, Refuse: p.refuses}
		go func() {
			if !light {
				realtime()
			}
			if err := reflector.Serve(ctx, answers); err != nil {
				p.events(Trouble, "probes", "probes of far ends are no longer answered: %v", err)
			}
		}()
	}
	go p.run(ctx)
	return nil
}

// watch takes the tunnels of a configuration; those that stay keep what is known of them.
func (p *prober) watch(c *gateway.Config) {
	p.mu.Lock()
	defer p.mu.Unlock()
	was := p.watched
	p.watched, p.byNumber, p.queue = make(map[string]*watched, len(c.Tunnels)), map[uint16]*watched{}, p.queue[:0]
	now := time.Now()
	probed, after := 0, 2
	if p.crowd { // they begin a second or two apart
		p.crowd, after = false, 4
	}
	for i := range c.Tunnels {
		t := &c.Tunnels[i]
		w := was[t.Interface]
		if w == nil || w.tunnel.Peer != t.Peer || w.tunnel.PeerLink != t.PeerLink {
			w = &watched{up: true, life: life{dead: p.remember[t.Interface] && t.Probe != nil}}
		}
		w.tunnel = t
		w.near, w.far = netip.Addr{}, netip.Addr{}
		if t.Probe != nil && t.Probe.Address.IsValid() {
			w.far = t.Probe.Address
			if at := slices.IndexFunc(t.Addresses, func(a netip.Prefix) bool { return a.Addr().Is4() == w.far.Is4() }); at >= 0 {
				w.near = t.Addresses[at].Addr()
			}
		}
		p.watched[t.Interface] = w
		w.decides = c.Site < t.Peer
		if !w.probes() {
			w.life, w.beyond = life{}, false
			continue
		}
		w.session.ID, w.session.Timeout = uint16(t.NextHop-gateway.Blackhole), time.Duration(t.Probe.Timeout)*time.Millisecond
		w.sizer.session.ID, w.sizer.session.Timeout = w.session.ID|sizing, w.session.Timeout
		p.byNumber[w.session.ID] = w
		// Spread over the interval, so that they do not all leave at once.
		if w.next.IsZero() {
			w.next = now.Add(intervals(t.Probe, probed%16) / 16)
			if !w.decides { // two ends that begin to shake hands at once wait for 5 s
				w.next = w.next.Add(intervals(t.Probe, after))
			}
		}
		probed++
		w.at = w.next
		p.queue = append(p.queue, w)
		w.place = len(p.queue) - 1
	}
	p.remember = map[string]bool{}
	p.tellings(c)
	p.retell(now)
	heap.Init(&p.queue)
	p.signal(p.wake)
}

// tellings takes the overlays whose hubs tell; of those that stay what was told is kept.
func (p *prober) tellings(c *gateway.Config) {
	toldBefore := p.told
	p.told = nil
	for i := range c.Tellings {
		o := newTold(&c.Tellings[i])
		for _, before := range toldBefore {
			if before.version == o.version && before.telling.Overlay == o.telling.Overlay {
				o.lists = before.lists
			}
		}
		p.told = append(p.told, o)
	}
}

// links says which interfaces are up, by their numbers, and of which addresses the device
// carries anything.
func (p *prober) links(up map[string]int, carrying map[netip.Addr]bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.carrying = carrying
	p.byIndex = make(map[int]*watched, len(p.watched))
	for name, w := range p.watched {
		index, there := up[name]
		if there != w.up {
			p.signal(p.changed)
		}
		w.up, w.index, w.seen = there, index, true
		p.byIndex[index] = w
	}
	p.retell(time.Now())
}

func (p *prober) signal(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// alive returns which tunnels carry traffic, and which of them keep to their limits.
func (p *prober) alive() (alive, within map[string]bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	alive, within = make(map[string]bool, len(p.watched)), make(map[string]bool, len(p.watched))
	for name, w := range p.watched {
		alive[name] = w.alive(now)
		within[name] = alive[name] && !w.beyond
	}
	return alive, within
}

// dead lists the tunnels that their probes say are dead.
func (p *prober) dead() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	var out []string
	for name, w := range p.watched {
		if w.life.dead {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// each calls f for every tunnel by name, while nothing changes.
func (p *prober) each(f func(w *watched)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(p.watched)) {
		f(p.watched[name])
	}
}

// receive judges answers as they come.
func (p *prober) receive(conn stamp.Conn) {
	room := make([]byte, stamp.MaxPacket)
	for conn.Wait() == nil {
		p.mu.Lock()
		p.drain(conn, room)
		p.mu.Unlock()
	}
}

// drain reads what is there.
func (p *prober) drain(conn stamp.Conn, room []byte) {
	for {
		n, m, ok := conn.Read(room)
		if !ok {
			return
		}
		r, err := stamp.ParseReflection(room[:n])
		if err != nil {
			continue
		}
		w := p.byNumber[r.Session&^sizing]
		if w == nil || w.held(time.Now()) || w.index != m.Interface || m.Far.Addr().Unmap() != w.far || m.Far.Port() != stamp.Port {
			continue
		}
		if r.Session&sizing != 0 {
			p.sized(w, &r, m.At)
			continue
		}
		if result, ok := w.session.Answer(&r, m.At); ok {
			if w.life.dead { // that nothing came through is known; it is not lost by chance
				result.Sent, result.LostOut, result.LostBack = 0, 0, 0
			}
			w.quality.answered(&result)
			w.gauge.answered(w.taken(result, time.Now()))
			if w.life.answer(w.tunnel.Probe, time.Now()) {
				w.gauge.forget() // what it was like before says nothing
				p.events(TunnelBack, w.tunnel.Interface, "%s to %s/%s is back: %d probes in a row were answered", w.tunnel.Interface, w.tunnel.Peer, w.tunnel.PeerLink, w.tunnel.Probe.Successes)
				p.signal(p.changed)
				p.retell(time.Now())
			}
		}
	}
}

// run sends and judges until the context ends.
func (p *prober) run(ctx context.Context) {
	timer := time.NewTimer(0)
	defer timer.Stop()
	room := make([]byte, stamp.MaxPacket)
	for {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		case <-p.wake:
		}
		p.mu.Lock()
		p.turn(room)
		next := time.Second
		if len(p.queue) > 0 {
			next = min(next, time.Until(p.queue[0].at))
		}
		if !p.tellAt.IsZero() {
			next = min(next, time.Until(p.tellAt))
		}
		p.mu.Unlock()
		timer.Reset(max(next, 0))
	}
}

// turn does what is due. Where it comes late by half a timeout, or the machine slept,
// what is out is void: neither a miss nor an answer.
func (p *prober) turn(room []byte) {
	now := time.Now()
	if lead := bootLead(); (lead - p.boot).Abs() > 100*time.Millisecond {
		p.boot = lead
		for _, w := range p.watched {
			w.void()
		}
	}
	for _, conn := range p.conns {
		p.drain(conn, room)
	}
	if !p.tellAt.IsZero() && !p.tellAt.After(now) {
		p.tellNow(now)
	}
	for len(p.queue) > 0 && !p.queue[0].at.After(now) {
		w := p.queue[0]
		if late := now.Sub(w.at); late > w.session.Timeout/2 {
			w.void()
		}
		p.look(w, now)
		heap.Fix(&p.queue, w.place)
	}
}

// void forgets what is out of a tunnel's probes.
func (w *watched) void() {
	w.session.Void()
	w.sizer.session.Void()
}

// look judges what is overdue of a tunnel, and sends its next probe when it is time.
func (p *prober) look(w *watched, now time.Time) {
	probe := w.tunnel.Probe
	if !w.heldUntil.IsZero() && !now.Before(w.heldUntil) {
		if w.heldAs == gateway.HoldDead {
			w.life.forgive() // that it was dead tells nothing of it
		}
		w.heldUntil, w.heldAs = time.Time{}, gateway.HoldDead
	}
	w.drilled = w.drilled && w.inDrill(now)
	for {
		if _, ok := w.session.Overdue(now); !ok {
			break
		}
		w.quality.missed()
		if w.life.miss(probe, now) {
			w.gauge.forget()
			words := ""
			if w.life.hold > 0 {
				words = "; it came and went, so it stays out for " + w.life.hold.String()
			}
			p.events(TunnelDead, w.tunnel.Interface, "%s to %s/%s is dead: %d probes in a row had no answer%s", w.tunnel.Interface, w.tunnel.Peer, w.tunnel.PeerLink, probe.Misses, words)
			p.signal(p.changed)
			p.retell(now)
		}
	}
	p.compare(w, now)
	p.gauge(w, now)
	if w.index != 0 && w.session.ID < sizing {
		p.measure(w, now)
	}
	if !w.next.After(now) {
		if w.index != 0 {
			p.send(w, w.session.Next(time.Now()))
		} else if w.seen && w.life.miss(probe, now) { // an interface that is not up answers nothing
			p.events(TunnelDead, w.tunnel.Interface, "%s to %s/%s is dead: its interface is not up", w.tunnel.Interface, w.tunnel.Peer, w.tunnel.PeerLink)
			p.signal(p.changed)
			p.retell(now)
		}
		if w.next = w.next.Add(intervals(probe, 1)); w.next.Before(now) {
			w.next = now.Add(intervals(probe, 1))
		}
	}
	w.at = w.next
	if due, any := w.session.Deadline(); any && due.Before(w.at) {
		w.at = due
	}
}
