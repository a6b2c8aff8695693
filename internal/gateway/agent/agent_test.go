package agent

import (
	"context"
	"encoding/base64"
	"errors"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/stamp"
)

// keysIn makes a folder with a private key.
func keysIn(t *testing.T) string {
	t.Helper()
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, "private.key"), []byte(base64.StdEncoding.EncodeToString(make([]byte, 32))), 0o600); err != nil {
		t.Fatal(err)
	}
	return folder
}

// A running agent, until the test ends or stop is called.
type running struct {
	*Agent
	stop func()
}

func run(t *testing.T, p *tray, state, keys string) *running {
	t.Helper()
	a, err := New(p, Settings{State: state, Keys: keys, Resolve: func(context.Context, string) ([]netip.Addr, error) {
		return []netip.Addr{netip.MustParseAddr("192.0.2.99")}, nil
	}, Resolvers: func() []netip.Addr { return []netip.Addr{netip.MustParseAddr("198.51.100.53")} }})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan struct{}), make(chan error, 1)
	go func() { ended <- a.Run(ctx, func() { close(ready) }, func() {}) }()
	<-ready
	r := &running{Agent: a}
	stopped := false
	r.stop = func() {
		if stopped {
			return
		}
		stopped = true
		cancel()
		if err := <-ended; err != nil {
			t.Error(err)
		}
		_ = a.Close()
	}
	t.Cleanup(r.stop)
	return r
}

func (r *running) kinds(t *testing.T) (out []string) {
	t.Helper()
	events, _, err := r.journal.After(0, 0)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range events {
		out = append(out, e.Kind)
	}
	return out
}

// pair brings two agents up that are joined by two tunnels.
func pair(t *testing.T, interval int) (n *testNet, a, b *running, planeA, planeB *tray) {
	t.Helper()
	n = newTestNet()
	configA, configB := twoEnds(interval)
	planeA, planeB = newTray(n), newTray(n)
	n.own(planeA, configA)
	n.own(planeB, configB)
	a, b = run(t, planeA, t.TempDir(), keysIn(t)), run(t, planeB, t.TempDir(), keysIn(t))
	for _, one := range []struct {
		r *running
		c *gateway.Config
	}{{a, configA}, {b, configB}} {
		if err := one.r.Try(t.Context(), one.c, 17, "", 0); err != nil {
			t.Fatal(err)
		}
	}
	return n, a, b, planeA, planeB
}

var (
	xOfA = netip.MustParseAddr("10.0.0.0")
	xOfB = netip.MustParseAddr("10.0.0.1")
)

// A tunnel that dies is left by both ends, and taken again when it is back.
func TestBothEndsMove(t *testing.T) { synctest.Test(t, bothEndsMove) }

func bothEndsMove(t *testing.T) {
	n, a, _, planeA, planeB := pair(t, 20)
	if planeA.by(gateway.FirstWay) != "x" || planeB.by(gateway.FirstWay) != "x" {
		t.Fatalf("at first by %s and %s", planeA.by(gateway.FirstWay), planeB.by(gateway.FirstWay))
	}
	n.lose(func(from, to netip.Addr) bool { return from == xOfA || to == xOfA })
	eventually(t, "both move to y", func() bool { return planeA.by(gateway.FirstWay) == "y" && planeB.by(gateway.FirstWay) == "y" })
	lines, err := a.Why(t.Context(), netip.MustParsePrefix("10.9.0.7/32"))
	if err != nil || len(lines) != 3 || lines[0] != "10.9.0.0/24 goes by y" || !strings.Contains(lines[1], "1. x: dead") || !strings.HasPrefix(lines[2], "  * 2. y: alive") {
		t.Errorf("why: %q, %v", lines, err)
	}
	n.lose(nil)
	eventually(t, "both are back at x", func() bool { return planeA.by(gateway.FirstWay) == "x" && planeB.by(gateway.FirstWay) == "x" })
	if kinds := a.kinds(t); !slices.Contains(kinds, TunnelDead) || !slices.Contains(kinds, TunnelBack) || !slices.Contains(kinds, WayMoved) {
		t.Errorf("the journal has %v", kinds)
	}
	s, err := a.State(t.Context())
	if err != nil || s.Release != 17 || len(s.Tunnels) != 2 || s.Tunnels[1].Answered == 0 || s.Tunnels[1].LatencyUs > 20_000 {
		t.Errorf("state %+v, %v", s, err)
	}
	text, err := gateway.WriteState(s)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := gateway.ParseState(text); err != nil {
		t.Errorf("the state cannot be read: %v", err)
	}
}

// Which tunnels are dead is remembered for the next start as soon as it is known, be traffic moved
// by it or not.
func TestTheDeadAreRemembered(t *testing.T) { synctest.Test(t, theDeadAreRemembered) }

func theDeadAreRemembered(t *testing.T) {
	n, a, _, planeA, _ := pair(t, 20)
	remembered := func() (out []string) {
		if err := a.store.recall("dead", &out); err != nil {
			t.Fatal(err)
		}
		return out
	}
	n.lose(func(from, to netip.Addr) bool { return from != xOfA && to != xOfA })
	eventually(t, "that y is dead is kept", func() bool { return slices.Equal(remembered(), []string{"y"}) })
	n.lose(nil)
	eventually(t, "and that it is back", func() bool { return len(remembered()) == 0 })
	if planeA.by(gateway.FirstWay) != "x" {
		t.Errorf("traffic goes by %s", planeA.by(gateway.FirstWay))
	}
}

// Whatever is lost one way only, the two ends do not send by different tunnels: who
// sees it tells the other.
func TestLossOneWayMovesBoth(t *testing.T) { synctest.Test(t, lossOneWayMovesBoth) }

func lossOneWayMovesBoth(t *testing.T) {
	for _, from := range []netip.Addr{xOfA, xOfB} {
		n, _, _, planeA, planeB := pair(t, 20)
		n.lose(func(f, _ netip.Addr) bool { return f == from })
		eventually(t, "both move to y", func() bool { return planeA.by(gateway.FirstWay) == "y" && planeB.by(gateway.FirstWay) == "y" })
	}
}

// One end holds a tunnel down that flapped; the other does not send by it meanwhile.
func TestEndsAgreeWhileOneHolds(t *testing.T) { synctest.Test(t, endsAgreeWhileOneHolds) }

func endsAgreeWhileOneHolds(t *testing.T) {
	_, a, b, planeA, planeB := pair(t, 20)
	a.prober.each(func(w *watched) {
		if w.tunnel.Interface == "x" {
			w.life = life{dead: true, heldUntil: time.Now().Add(time.Hour)}
		}
	})
	a.prober.signal(a.prober.changed)
	eventually(t, "both use y", func() bool { return planeA.by(gateway.FirstWay) == "y" && planeB.by(gateway.FirstWay) == "y" })
	eventually(t, "the difference is told", func() bool { return slices.Contains(a.kinds(t), Disagree) || slices.Contains(b.kinds(t), Disagree) })
	if err := a.Forgive(t.Context()); err != nil {
		t.Fatal(err)
	}
	eventually(t, "both are back at x", func() bool { return planeA.by(gateway.FirstWay) == "x" && planeB.by(gateway.FirstWay) == "x" })
}

// Interfaces that are set down are left; those that are gone are made anew.
func TestInterfacesGoAndCome(t *testing.T) { synctest.Test(t, interfacesGoAndCome) }

func interfacesGoAndCome(t *testing.T) {
	_, _, _, planeA, _ := pair(t, 20)
	planeA.mu.Lock()
	planeA.down["x"] = true
	planeA.mu.Unlock()
	planeA.changes <- struct{}{}
	eventually(t, "it moves to y", func() bool { return planeA.by(gateway.FirstWay) == "y" })
	planeA.mu.Lock()
	planeA.gone["x"], planeA.down["x"] = true, false
	planeA.mu.Unlock()
	planeA.changes <- struct{}{}
	eventually(t, "it is made anew", func() bool {
		planeA.mu.Lock()
		defer planeA.mu.Unlock()
		return !planeA.gone["x"] && planeA.applying > 1
	})
}

// twoReleases are of one gateway.
func twoReleases() (first, second *gateway.Config) {
	first, _ = twoEnds(1000)
	second, _ = twoEnds(1000)
	second.Tunnels[0].MTU = 1300
	return first, second
}

// Every step of a trial, and what is there after a restart at that step.
func TestTrial(t *testing.T) {
	first, second := twoReleases()
	state, keys := t.TempDir(), keysIn(t)
	p := newTray(newTestNet())
	r := run(t, p, state, keys)
	ctx := t.Context()
	is := func(what string, c *gateway.Config) {
		t.Helper()
		p.mu.Lock()
		defer p.mu.Unlock()
		if c == nil && !p.removed || c != nil && (p.applied == nil || p.applied.Digest() != c.Digest()) {
			t.Errorf("%s: another configuration is there", what)
		}
	}
	restart := func() {
		r.stop()
		r = run(t, p, state, keys)
	}
	if err := r.Try(ctx, first, 1, "one", 60); err != nil {
		t.Fatal(err)
	}
	is("tried", first)
	if err := r.Try(ctx, first, 1, "one", 60); err != nil {
		t.Errorf("the same again: %v", err)
	}
	if err := r.Try(ctx, second, 2, "two", 60); !errors.Is(err, ErrBusy) {
		t.Errorf("a second trial: %v", err)
	}
	restart()
	is("restarted while the first of all was tried", nil)
	if s, _ := r.Standing(ctx); s.Last != (Outcome{"one", WentBack, "the agent began anew while it was being tried"}) || s.Trial != "" || s.Digest != "" {
		t.Errorf("after a restart: %+v", s)
	}
	if err := r.Confirm(ctx, "one"); !errors.Is(err, ErrToken) {
		t.Errorf("what went back is confirmed: %v", err)
	}

	for _, err := range []error{r.Try(ctx, first, 1, "one", 60), r.Confirm(ctx, "one"), r.Confirm(ctx, "one")} {
		if err != nil {
			t.Fatal(err)
		}
	}
	restart()
	is("restarted after it was confirmed", first)
	if err := r.Try(ctx, second, 2, "two", 60); err != nil {
		t.Fatal(err)
	}
	if err := r.Confirm(ctx, "other"); !errors.Is(err, ErrToken) {
		t.Errorf("another token confirms: %v", err)
	}
	if s, _ := r.Standing(ctx); s.Trial != "two" || s.Left < 50 || s.Release != 2 {
		t.Errorf("on trial: %+v", s)
	}
	for range 2 {
		if err := r.Back(ctx, "two"); err != nil {
			t.Errorf("back: %v", err)
		}
	}
	is("went back", first)
	if err := r.Try(ctx, second, 2, "three", 1); err != nil {
		t.Fatal(err)
	}
	is("tried for a second", second)
	eventually(t, "it goes back by itself", func() bool {
		s, _ := r.Standing(ctx)
		return s.Last == Outcome{"three", WentBack, "nobody confirmed it in time"}
	})
	is("the time was over", first)

	if err := r.Try(ctx, second, 2, "", 0); err != nil {
		t.Fatal(err)
	}
	is("applied for good", second)
	if err := r.Back(ctx, ""); err != nil {
		t.Fatal(err)
	}
	is("back to the one before", first)
	if s, _ := r.Standing(ctx); s.Release != 1 {
		t.Errorf("back at release %d", s.Release)
	}
	if err := r.Remove(ctx); err != nil {
		t.Fatal(err)
	}
	restart()
	if s, _ := r.Standing(ctx); s.Digest != "" {
		t.Errorf("after remove: %+v", s)
	}
	if left, _ := filepath.Glob(filepath.Join(state, "*.json")); len(left) > 1 { // the list of dead tunnels
		t.Errorf("remove leaves %v", left)
	}
}

// What cannot be applied changes nothing, and says why.
func TestRefusals(t *testing.T) {
	first, second := twoReleases()
	state, keys := t.TempDir(), keysIn(t)
	p := newTray(newTestNet())
	r := run(t, p, state, keys)
	ctx := t.Context()
	if err := r.Try(ctx, first, 1, "", 0); err != nil {
		t.Fatal(err)
	}
	has := func(what string, err error, words string) {
		t.Helper()
		if err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v", what, err)
		}
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.applied.Digest() != first.Digest() {
			t.Errorf("%s: the gateway is changed", what)
		}
	}
	p.refuses = errors.New("the name x is taken")
	has("a name is taken", r.Try(ctx, second, 2, "", 0), "x is taken")
	p.refuses = nil
	p.fails = func(c *gateway.Config) error {
		if c.Digest() == second.Digest() {
			return errors.New("the kernel says no")
		}
		return nil
	}
	has("the kernel says no", r.Try(ctx, second, 2, "", 60), "kernel says no")
	p.fails = nil
	wants := *second
	wants.Tunnels = slices.Clone(second.Tunnels)
	wireguard := *second.Tunnels[1].WireGuard
	wireguard.Preshared = true
	wants.Tunnels[1].WireGuard = &wireguard
	has("a key is missing", r.Try(ctx, &wants, 2, "", 0), "the pre-shared key of y")
	broken := *second
	broken.Site = "$(reboot)"
	has("a word that is none", r.Try(ctx, &broken, 2, "", 0), "no plain word")
	if os.Geteuid() != 0 { // root writes anywhere
		if err := os.Chmod(state, 0o500); err != nil {
			t.Fatal(err)
		}
		has("a folder that takes nothing", r.Try(ctx, second, 2, "", 0), "keeping trial.json")
		_ = os.Chmod(state, 0o700)
	}
	// A damaged file: the gateway keeps what it has.
	r.stop()
	if err := os.WriteFile(filepath.Join(state, "confirmed.json"), []byte(`{"digest":"12","configuration":{}}`), 0o600); err != nil {
		t.Fatal(err)
	}
	r = run(t, p, state, keys)
	has("a damaged state", errors.Join(func() error { _, err := r.store.read(confirmed); return err }()), "damaged")
	if kinds := r.kinds(t); kinds[len(kinds)-1] != Trouble {
		t.Errorf("the journal ends with %v", kinds)
	}
}

// Far ends known by name are asked for and called.
func TestNamesAreCalled(t *testing.T) { synctest.Test(t, namesAreCalled) }

func namesAreCalled(t *testing.T) {
	c, _ := twoEnds(1000)
	c.Tunnels[1].WireGuard.Endpoint = "far.example.net:51820"
	p := newTray(newTestNet())
	r := run(t, p, t.TempDir(), keysIn(t))
	if err := r.Try(t.Context(), c, 0, "", 0); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the name is called", func() bool {
		p.mu.Lock()
		defer p.mu.Unlock()
		return p.called["y"] == netip.MustParseAddrPort("192.0.2.99:51820")
	})
}

// A far end whose LAN is dead does not answer for its LAN's address, so what asks for
// that finds the tunnel of no use; what asks for the tunnel's far end does not.
func TestFarLANIsDead(t *testing.T) { synctest.Test(t, farLANIsDead) }

func farLANIsDead(t *testing.T) {
	n, a, b, planeA, planeB := pair(t, 20)
	lan := netip.MustParseAddr("10.9.0.1")
	planeB.mu.Lock()
	planeB.carrying = map[netip.Addr]bool{lan: false}
	planeB.mu.Unlock()
	planeB.changes <- struct{}{}
	n.mu.Lock()
	n.owner[lan] = end{planeB, 1}
	n.mu.Unlock()
	c, _ := twoEnds(20)
	probe := *c.Tunnels[0].Probe
	probe.Target, probe.Address = "far-lan", lan
	c.Tunnels[0].Probe = &probe
	if err := a.Try(t.Context(), c, 18, "", 0); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the tunnel to the dead LAN is left", func() bool { return planeA.by(gateway.FirstWay) == "y" })
	planeB.mu.Lock()
	planeB.carrying[lan] = true
	planeB.mu.Unlock()
	if err := b.do(t.Context(), func() error { b.see(); return nil }); err != nil {
		t.Fatal(err)
	}
	eventually(t, "it is used again", func() bool { return planeA.by(gateway.FirstWay) == "x" })
}

// Only the gateway at a tunnel's far end is answered and heard: not a host behind it that
// says the tunnel is dead, nor anybody outside the tunnels.
func TestOnlyTheFarGatewayIsHeard(t *testing.T) { synctest.Test(t, onlyTheFarGatewayIsHeard) }

func onlyTheFarGatewayIsHeard(t *testing.T) {
	n, a, _, planeA, _ := pair(t, 20)
	forged := stamp.AppendTLV((&stamp.Packet{Session: 1}).Append(nil), ourTLV, []byte{verdictVersion, saysDead})
	from := n.listen(planeA, 40001)
	says := func(ttl, index int) {
		t.Helper()
		n.mu.Lock()
		n.ttl, n.owner[netip.MustParseAddr("10.0.0.77")] = ttl, end{planeA, index}
		n.mu.Unlock()
		for range 20 {
			if err := from.Write(forged, stamp.Meta{Near: xOfB, Far: netip.MustParseAddrPort("10.0.0.77:862")}); err != nil {
				t.Fatal(err)
			}
			time.Sleep(time.Millisecond)
			a.prober.each(func(w *watched) {
				if w.farDead {
					t.Errorf("with TTL %d by interface %d somebody is believed that %s is dead", ttl, index, w.tunnel.Interface)
				}
			})
		}
	}
	says(64, 1)  // by the tunnel, from behind the far end
	says(255, 9) // by an interface that is no tunnel
}

// A gateway that could not be made what was confirmed, as something was in the way when
// the agent began, is made so when it is gone.
func TestStartIsTriedAgain(t *testing.T) {
	c, _ := twoEnds(1000)
	state, keys := t.TempDir(), keysIn(t)
	p := newTray(newTestNet())
	r := run(t, p, state, keys)
	if err := r.Try(t.Context(), c, 3, "", 0); err != nil {
		t.Fatal(err)
	}
	r.stop()
	p.applied, p.fails = nil, func(*gateway.Config) error { return errors.New("the port is taken") }
	r = run(t, p, state, keys)
	if s, err := r.Standing(t.Context()); err != nil || s.Digest != "" || !strings.Contains(s.Broken, "port is taken") {
		t.Errorf("%+v, %v", s, err)
	}
	p.mu.Lock()
	p.fails = nil
	p.mu.Unlock()
	if err := r.do(t.Context(), func() error { r.again(); return nil }); err != nil {
		t.Fatal(err)
	}
	if s, err := r.Standing(t.Context()); err != nil || s.Release != 3 || s.Broken != "" || p.applied == nil {
		t.Errorf("%+v, %v", s, err)
	}
}
