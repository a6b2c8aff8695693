// Package agent keeps a gateway: it makes it what its configuration says, watches its
// tunnels, lets traffic move between them, tries new configurations and goes back
// unless they are confirmed, and keeps a journal. What it drives is a Plane.
package agent

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"sync"
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
	// Resolvers are name servers that links are asked for; nil reads those of the machine.
	Resolvers func() []netip.Addr
	// Outside lists STUN servers that tell by which address the gateway is seen; nil for none.
	Outside func() []netip.AddrPort
	// Now tells the time that the gateway reports; nil asks the machine's clock.
	Now func() time.Time
	// Light leaves out what only one agent of a machine may have: threads that answer in time.
	Light bool
	// Crowd is of one that begins at the same moment as many others, whose tunnels carry nothing
	// yet: of two ends, the one that does not decide lets the other shake hands first.
	Crowd bool
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
	applied chan struct{} // a configuration is there that was not
	done    chan struct{} // Run ended

	running  *Version      // nil where nothing was applied
	wanted   *Version      // what could not be applied, and is tried again; nil where nothing is
	trial    *Trial        // what running is, until it is confirmed
	ends     time.Duration // by the boot clock: when the trial does
	last     Outcome
	choice   Choice
	made     *gateway.Config // see spread
	keeping  map[int]int
	spreadOf *gateway.Config
	noted    []string            // tunnels that the state folder says are dead
	broken   string              // why the last applying failed; empty where it did not
	links    map[string]*circuit // by WAN link
	line     gateway.LineState
	told     map[string]bool // notes that were told already
	sampler  *sampler

	echoing  sync.Mutex // held while echoes are asked for
	looking  sync.Mutex // held while tunnels are looked at
	benching sync.Mutex // held while a tunnel is loaded
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
	if s.Now == nil {
		s.Now = time.Now
	}
	if s.Resolvers == nil {
		s.Resolvers = nameServers
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
		Settings: s, plane: plane, store: st, journal: journal, asked: make(chan func()), applied: make(chan struct{}, 1), done: make(chan struct{}),
		links: map[string]*circuit{}, told: map[string]bool{}, sampler: newSampler(),
	}
	a.prober = newProber(s.Log, a.event)
	a.prober.crowd = s.Crowd
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
	if err := a.prober.start(ctx, a.plane, a.Light); err != nil {
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
	go a.circuits(ctx)
	go a.leads(ctx)
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
				a.sample()
			}
			if turn%20 == 0 && a.wanted != nil {
				a.again()
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
		a.noted = dead
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
		a.finish(Outcome{tried.Token, WentBack, "the agent began anew while it was being tried"})
		if err := a.store.drop(trial); err != nil {
			a.event(Trouble, "state", "the trial cannot be dropped: %v", err)
		}
		a.event(WentBack, tried.Token, "the agent began anew while %s was being tried: back to what was confirmed", tried.Version.name())
	}
	switch {
	case kept != nil:
		a.wanted = &kept.Version
		a.again()
	case tried != nil:
		if err := a.plane.Remove(); err != nil {
			a.event(Trouble, "remove", "what was tried could not be taken away: %v", err)
		}
	default:
		a.event(Started, "", "nothing was applied here yet")
	}
}

// again applies what is wanted and could not be applied before. What is in the way is said
// once.
func (a *Agent) again() {
	before := a.broken
	if err := a.apply(nil, a.wanted); err != nil {
		if a.broken = err.Error(); a.broken != before {
			a.event(Trouble, "apply", "%s could not be applied; it is tried again: %v", a.wanted.name(), err)
		}
		return
	}
	a.event(Started, "", "keeps %s", a.wanted.name())
	a.wanted = nil
	if err := a.store.drop(trial); err != nil {
		a.event(Trouble, "state", "the trial cannot be dropped: %v", err)
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
	made := a.spread(v.Config)
	choice := a.decide(made)
	notes, err := a.plane.Apply(was, made, secrets, &choice)
	a.tell(notes)
	a.broken = ""
	if err != nil {
		a.broken = err.Error()
		return err
	}
	a.running, a.choice = v, choice
	if was != nil && was.PublicKey != v.Config.PublicKey {
		a.knock(v.Config, time.Now(), nil)
	}
	a.see()
	select {
	case a.applied <- struct{}{}:
	default:
	}
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
		a.running, a.wanted, a.trial, a.choice, a.broken = nil, nil, nil, Choice{}, ""
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
