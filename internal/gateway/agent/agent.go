// Package agent keeps a gateway: it makes it what its configuration says, watches its
// tunnels, lets traffic move between them, tries new configurations and goes back
// unless they are confirmed, and keeps a journal. What it drives is a Plane.
package agent

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"wideknot/core/gateway"
)

// Settings say where an agent keeps things.
type Settings struct {
	State string // folder: what must outlive a reboot
	Keys  string // folder of secrets, see ReadSecrets
	Log   *slog.Logger
	// Resolve asks for the addresses of a name; nil asks the machine's resolver.
	Resolve func(ctx context.Context, name string) ([]netip.Addr, error)
}

// An Agent keeps one gateway. One goroutine, Run's, owns all that it holds; others ask
// by do.
type Agent struct {
	Settings
	plane   Plane
	store   *store
	journal *Journal
	prober  *prober
	asked   chan func()
	done    chan struct{} // Run ended

	running *Version      // nil where nothing was applied
	trial   *Trial        // what running is, until it is confirmed
	ends    time.Duration // by the boot clock: when the trial does
	last    Outcome
	choice  Choice
	broken  string // why the last applying failed; empty where it did not
	linkUp  map[string]linkSeen
	told    map[string]bool // notes that were told already
}

type linkSeen struct {
	nextHop bool
	since   time.Time
}

// New opens an agent's state.
func New(plane Plane, s Settings) (*Agent, error) {
	if s.Log == nil {
		s.Log = slog.New(slog.DiscardHandler)
	}
	if s.Resolve == nil {
		s.Resolve = func(ctx context.Context, name string) ([]netip.Addr, error) {
			return net.DefaultResolver.LookupNetIP(ctx, "ip", name)
		}
	}
	st, err := openStore(s.State)
	if err != nil {
		return nil, err
	}
	journal, err := OpenJournal(s.State)
	if err != nil {
		return nil, err
	}
	a := &Agent{
		Settings: s, plane: plane, store: st, journal: journal, asked: make(chan func()), done: make(chan struct{}),
		linkUp: map[string]linkSeen{}, told: map[string]bool{},
	}
	a.prober = newProber(s.Log, a.event)
	return a, nil
}

// Close lets go of the journal.
func (a *Agent) Close() error { return a.journal.Close() }

func (a *Agent) event(kind, about, format string, values ...any) {
	e := a.journal.Write(kind, about, format, values...)
	a.Log.Info(e.Words, "kind", kind, "about", about)
}

// do lets the owner do something and waits for it.
func (a *Agent) do(ctx context.Context, f func() error) error {
	out := make(chan error, 1)
	select {
	case a.asked <- func() { out <- f() }:
		return <-out
	case <-a.done:
		return errors.New("the agent has ended")
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Run keeps the gateway until the context ends; what was made stays. Ready is called
// once the gateway is what it is to be, and Alive from then on, about once a second.
func (a *Agent) Run(ctx context.Context, ready, alive func()) error {
	defer close(a.done)
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	if time.Now().Year() < 2000 {
		a.event(Trouble, "clock", "the clock says %s: times in this journal are wrong until it is set", time.Now().UTC().Format(time.DateOnly))
	}
	if err := a.prober.start(ctx, a.plane); err != nil {
		return fmt.Errorf("probing: %w", err)
	}
	changes, err := a.plane.Changes(ctx)
	if err != nil {
		return err
	}
	a.start()
	ready()
	go a.names(ctx)
	go a.nextHops(ctx)
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	for turn := 0; ; {
		select {
		case <-ctx.Done():
			return nil
		case f := <-a.asked:
			f()
		case <-a.prober.changed:
			a.move()
		case <-changes:
			a.mend()
		case <-tick.C:
			if turn++; turn%4 == 0 {
				alive()
			}
			a.expire()
		}
	}
}

// start makes it so: whatever was tried when the agent ended goes back to what was
// confirmed.
func (a *Agent) start() {
	if err := a.store.recall("outcome", &a.last); err != nil {
		a.event(Trouble, "state", "how the last trial ended cannot be read: %v", err)
	}
	var dead []string
	if err := a.store.recall("dead", &dead); err == nil {
		for _, name := range dead {
			a.prober.remember[name] = true
		}
	}
	tried, err := a.store.read(trial)
	if err != nil {
		a.event(Trouble, "state", "%v", err)
	}
	kept, err := a.store.read(confirmed)
	if err != nil {
		a.event(Trouble, "state", "%v: the gateway keeps what it has", err)
		return
	}
	if tried != nil {
		a.finish(tried.Token, WentBack)
		if err := a.store.drop(trial); err != nil {
			a.event(Trouble, "state", "the trial cannot be dropped: %v", err)
		}
		a.event(WentBack, tried.Token, "the agent began anew while %s was being tried: back to what was confirmed", tried.Version.name())
	}
	switch {
	case kept != nil:
		if err := a.apply(nil, &kept.Version); err != nil {
			a.event(Trouble, "apply", "%s could not be applied: %v", kept.Version.name(), err)
		}
		a.event(Started, "", "keeps %s", kept.Version.name())
	case tried != nil:
		if err := a.plane.Remove(); err != nil {
			a.event(Trouble, "remove", "what was tried could not be taken away: %v", err)
		}
	default:
		a.event(Started, "", "nothing was applied here yet")
	}
}

// name says which version it is.
func (v *Version) name() string {
	if v.Release > 0 {
		return fmt.Sprintf("release %d (%.16s)", v.Release, v.Digest)
	}
	return fmt.Sprintf("%.16s", v.Digest)
}

// apply makes the gateway what a version says. Where that fails it is what it is; the
// caller goes back or says so.
func (a *Agent) apply(was *gateway.Config, v *Version) error {
	secrets, err := ReadSecrets(a.Keys, v.Config)
	if err != nil {
		return err
	}
	a.prober.watch(v.Config)
	choice := a.decide(v.Config)
	notes, err := a.plane.Apply(was, v.Config, secrets, &choice)
	a.tell(notes)
	a.broken = ""
	if err != nil {
		a.broken = err.Error()
		return err
	}
	a.running, a.choice = v, choice
	a.see()
	return nil
}

// see looks which interfaces are up, and moves ways accordingly.
func (a *Agent) see() {
	up, err := a.plane.Interfaces()
	if err != nil {
		a.event(Trouble, "links", "interfaces cannot be read: %v", err)
		return
	}
	carrying, err := a.plane.Carrying()
	if err != nil {
		a.event(Trouble, "links", "addresses cannot be read: %v", err)
	}
	a.prober.links(up, carrying)
	a.move()
}

// tell writes notes once.
func (a *Agent) tell(notes []string) {
	for _, n := range notes {
		if !a.told[n] {
			a.event(Trouble, "links", "%s", n)
		}
	}
	a.told = map[string]bool{}
	for _, n := range notes {
		a.told[n] = true
	}
}

// move lets ways go by the tunnels that live.
func (a *Agent) move() {
	if a.running == nil {
		return
	}
	choice := a.decide(a.running.Config)
	uses, steers := moved(a.choice.Uses, choice.Uses), steered(a.running.Config, a.choice.Steers, choice.Steers)
	if len(uses)+len(steers) == 0 {
		return
	}
	if err := a.plane.Use(a.running.Config, uses, steers); err != nil {
		notes, err := a.plane.Mend(a.running.Config, &choice)
		a.tell(notes)
		if err != nil {
			a.event(Trouble, "ways", "a way could not be moved: %v", err)
			return
		}
	}
	a.tellMoved(&choice)
	a.tellSteered(steers, &choice)
	a.choice = choice
	if err := a.store.jot("dead", a.prober.dead()); err != nil {
		a.Log.Warn("the state folder takes nothing", "reason", err)
	}
}

// decide chooses by what lives and what was told.
func (a *Agent) decide(c *gateway.Config) Choice {
	alive := a.prober.alive()
	return decide(c, func(name string) bool { return alive[name] }, a.prober.firsts())
}

// tellSteered writes which prefixes were moved by what hubs tell: a few, or else how many.
func (a *Agent) tellSteered(steers map[Place]int, choice *Choice) {
	by := map[int]string{}
	for i := range choice.Uses {
		by[choice.Uses[i].Way] = goes(choice.Uses[i].Members)
	}
	const few = 4
	said := 0
	for place, way := range steers {
		if said++; said > few {
			a.event(Steered, "", "%d more prefixes move with them", len(steers)-few)
			return
		}
		a.event(Steered, place.Prefix.String(), "%v %s, by what hubs tell", place.Prefix, by[way])
	}
}

// tellMoved writes which ways go by another group: each of a few, or else how many.
func (a *Agent) tellMoved(choice *Choice) {
	uses := choice.Uses
	var list []int
	for i := range choice.Groups {
		if i < len(a.choice.Groups) && choice.Groups[i] != a.choice.Groups[i] {
			list = append(list, i)
		}
	}
	const few = 4
	for _, i := range list[:min(len(list), few)] {
		a.event(WayMoved, strconv.Itoa(uses[i].Way), "the way by %s %s", a.running.Config.Ways[i].Words(), goes(uses[i].Members))
	}
	if more := len(list) - few; more > 0 {
		a.event(WayMoved, "", "%d more ways move with them", more)
	}
}

func goes(members []gateway.Member) string {
	if len(members) == 0 {
		return "is dead: what would go by it is discarded"
	}
	names := make([]string, len(members))
	for i, m := range members {
		names[i] = m.Interface
	}
	return "goes by " + strings.Join(names, " + ")
}

// mend brings back what went with a link, and makes interfaces anew that are gone. One
// that somebody set down stays down.
func (a *Agent) mend() {
	if a.running == nil {
		return
	}
	notes, err := a.plane.Mend(a.running.Config, &a.choice)
	a.tell(notes)
	if err == nil && a.gone() {
		err = a.apply(a.running.Config, a.running)
	}
	if err != nil {
		a.event(Trouble, "links", "what went with a link could not all be brought back: %v", err)
	}
	a.see()
}

// gone reports whether an interface of the configuration is not there at all.
func (a *Agent) gone() bool {
	r, err := a.plane.Read(a.running.Config)
	return err == nil && slices.ContainsFunc(a.running.Config.Tunnels, func(t gateway.Tunnel) bool { return !r.Tunnels[t.Interface].Present })
}

// ErrBusy is of a second trial while one goes on.
var ErrBusy = errors.New("a configuration is being tried: confirm it or go back first")

// ErrToken is of a token that is not the trial's.
var ErrToken = errors.New("nothing of that name is being tried")

// Try applies a configuration for a time; it goes back unless Confirm follows. With 0
// seconds it is confirmed at once. The same token again is answered alike. Where it
// cannot be applied, all is as before, and the error says why.
func (a *Agent) Try(ctx context.Context, c *gateway.Config, release int, token string, seconds int) error {
	if err := c.Check(); err != nil {
		return err
	}
	if token == "" {
		room := make([]byte, 6)
		_, _ = rand.Read(room)
		token = hex.EncodeToString(room)
	}
	return a.do(ctx, func() error { return a.try(&Trial{Version{release, c.Digest(), c}, token, seconds}) })
}

func (a *Agent) try(t *Trial) error {
	if a.trial != nil {
		if a.trial.Token == t.Token && a.trial.Digest == t.Digest {
			return nil
		}
		return ErrBusy
	}
	refuse := func(err error) error {
		a.event(Refused, t.Token, "%s was refused: %v", t.Version.name(), err)
		return err
	}
	if err := a.plane.Check(t.Config); err != nil {
		return refuse(err)
	}
	if _, err := ReadSecrets(a.Keys, t.Config); err != nil {
		return refuse(err)
	}
	if err := a.store.write(trial, t); err != nil {
		return refuse(err)
	}
	var was *gateway.Config
	if a.running != nil {
		was = a.running.Config
	}
	before := a.running
	if err := a.apply(was, &t.Version); err != nil {
		a.running = before
		return errors.Join(refuse(err), a.back(t, "it could not be applied"))
	}
	a.trial, a.ends = t, bootClock()+time.Duration(t.Seconds)*time.Second
	if t.Seconds == 0 {
		return a.confirm(t.Token)
	}
	a.event(Applied, t.Token, "%s is tried for %d s", t.Version.name(), t.Seconds)
	return nil
}

// Confirm keeps what is being tried. An empty token confirms any; one that was
// confirmed is answered alike.
func (a *Agent) Confirm(ctx context.Context, token string) error {
	return a.do(ctx, func() error { return a.confirm(token) })
}

func (a *Agent) confirm(token string) error {
	if a.trial == nil && token != "" && a.last == (Outcome{token, Confirmed}) {
		return nil
	}
	if a.trial == nil || token != "" && token != a.trial.Token {
		return ErrToken
	}
	if err := a.store.promote(a.trial); err != nil {
		return err
	}
	t := a.trial
	a.trial = nil
	a.finish(t.Token, Confirmed)
	a.event(Confirmed, t.Token, "%s is kept", t.Version.name())
	return nil
}

// Back ends a trial or, where there is none, goes back to the former configuration. An
// empty token means any trial.
func (a *Agent) Back(ctx context.Context, token string) error {
	return a.do(ctx, func() error {
		switch {
		case a.trial != nil && (token == "" || token == a.trial.Token):
			return a.back(a.trial, "it was asked for")
		case token != "" && a.last == (Outcome{token, WentBack}):
			return nil
		case a.trial != nil || token != "":
			return ErrToken
		}
		t, err := a.store.read(former)
		if err != nil {
			return err
		}
		if t == nil {
			return errors.New("there is nothing to go back to")
		}
		t.Token, t.Seconds = "", 0
		return a.try(t)
	})
}

// expire ends a trial whose time is over, by the clock that goes on while the machine
// sleeps.
func (a *Agent) expire() {
	if a.trial != nil && bootClock() >= a.ends {
		_ = a.back(a.trial, "nobody confirmed it in time") // what failed is in the journal
	}
}

// back applies what was confirmed before a trial.
func (a *Agent) back(t *Trial, why string) error {
	a.trial = nil
	kept, err := a.store.read(confirmed)
	if err != nil {
		a.event(Trouble, "state", "%v: the gateway keeps what it has", err)
		return err
	}
	if kept != nil {
		err = a.apply(t.Config, &kept.Version)
	} else {
		err = a.plane.Remove()
		a.running, a.choice = nil, Choice{}
		a.prober.watch(&gateway.Config{})
	}
	if err != nil {
		a.event(Trouble, "apply", "going back failed; the next start tries again: %v", err)
		return err
	}
	if err := a.store.drop(trial); err != nil {
		return err
	}
	a.finish(t.Token, WentBack)
	a.event(WentBack, t.Token, "%s is no longer tried, as %s", t.Version.name(), why)
	return nil
}

// finish keeps how a trial ended.
func (a *Agent) finish(token, how string) {
	a.last = Outcome{token, how}
	if err := a.store.note("outcome", a.last); err != nil {
		a.event(Trouble, "state", "how the trial ended cannot be kept: %v", err)
	}
}

// Check says what keeps a configuration from being applied; nothing is changed.
func (a *Agent) Check(ctx context.Context, c *gateway.Config) error {
	if err := c.Check(); err != nil {
		return err
	}
	return a.do(ctx, func() error {
		_, err := ReadSecrets(a.Keys, c)
		return errors.Join(a.plane.Check(c), err)
	})
}

// Remove takes everything of ours away, and forgets what was kept.
func (a *Agent) Remove(ctx context.Context) error {
	return a.do(ctx, func() error {
		if err := a.plane.Remove(); err != nil {
			return err
		}
		a.running, a.trial, a.choice = nil, nil, Choice{}
		a.prober.watch(&gateway.Config{})
		var err error
		for _, name := range []string{confirmed, former, trial, "outcome", "dead"} {
			err = errors.Join(err, a.store.drop(name))
		}
		a.event(Applied, "", "everything that was made here is gone")
		return err
	})
}

// Forgive lets tunnels that came and went come back without further waiting.
func (a *Agent) Forgive(ctx context.Context) error {
	return a.do(ctx, func() error {
		a.prober.each(func(w *watched) { w.life.forgive() })
		return nil
	})
}

// names asks for the addresses of far ends that are known by name: at first, and
// again while nothing is heard from them.
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
		alive := a.prober.alive()
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
			_, err := a.plane.Ping(asking, l.Device, l.NextHops[0])
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
	was, known := a.linkUp[l.Key]
	if known && was.nextHop == up {
		return
	}
	a.linkUp[l.Key] = linkSeen{up, time.Now()}
	switch {
	case up && known:
		a.event(LinksMoved, l.Key, "the next hop %v of WAN link %s answers again", l.NextHops[0], l.Key)
	case !up:
		a.event(LinksMoved, l.Key, "the next hop %v of WAN link %s does not answer", l.NextHops[0], l.Key)
	}
}
