package watch

import (
	"context"
	"errors"
	"log/slog"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/core/rollout"
	"wideknot/internal/fleet"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/rollouts"
)

// release puts an edit of a site in force.
func (w *works) release(site string, edit func(*estate.Site)) uint64 {
	w.t.Helper()
	ctx := context.Background()
	at := desk.At(w.key, desk.First)
	view, err := w.desk.View(ctx, at.Place)
	if err != nil {
		w.t.Fatal(err)
	}
	changed := *view.Estate.Clone().Site(site)
	edit(&changed)
	if _, err := w.desk.SaveSite(ctx, at, site, changed); err != nil {
		w.t.Fatal(err)
	}
	out, err := w.desk.Release(ctx, at, "an edit", "it was asked for")
	if err != nil {
		w.t.Fatal(err)
	}
	return out.Number
}

// goOn lets a server go on with rollouts until the test ends or what it returns is called.
func (w *works) goOn(name string) (kill func()) {
	r := &rollouts.Runner{Office: rollouts.New(w.db, w.desk), Name: name, Log: slog.New(slog.DiscardHandler)}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		r.Run(ctx)
		close(ended)
	}()
	kill = func() {
		stop()
		<-ended
	}
	w.t.Cleanup(kill)
	return kill
}

func (w *works) rollout(number uint64) *rollouts.RolloutDetail {
	w.t.Helper()
	d, err := rollouts.New(w.db, w.desk).Get(context.Background(), w.key, number)
	if err != nil {
		w.t.Fatal(err)
	}
	return d
}

// until waits until a rollout is as it should be.
func (w *works) until(number uint64, what string, within time.Duration, is func(*rollouts.RolloutDetail) bool) *rollouts.RolloutDetail {
	w.t.Helper()
	for until := time.Now().Add(within); ; time.Sleep(50 * time.Millisecond) {
		d := w.rollout(number)
		if is(d) {
			return d
		}
		if time.Now().After(until) {
			w.t.Fatalf("rollout %d is not %s within %v: %s %s, round %d %s: %+v, %+v", number, what, within, d.State, d.Words, d.Round, d.Phase, d.Gateways, d.Notes)
		}
	}
}

func in(state string) func(*rollouts.RolloutDetail) bool {
	return func(d *rollouts.RolloutDetail) bool { return d.State == state }
}

// A release goes to the gateways round by round, in the order that was planned, whichever
// server goes on with it and however often that is killed; and it is taken back by the same
// rounds.
func TestARolloutGoesOnWhoeverIsKilled(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 1)
	w.stand()
	w.eventually("release 1 confirmed everywhere", 20*time.Second, w.allConfirmed(1))
	office := rollouts.New(w.db, w.desk)
	ctx := context.Background()
	number := w.release(w.estate.Sites[0].Key, func(s *estate.Site) { s.Links[0].MTU = 1400 })
	if _, err := office.Start(ctx, w.key, rollouts.Order{Release: number}); err != nil {
		t.Fatal(err)
	}
	if _, err := office.Start(ctx, w.key, rollouts.Order{Release: number}); !errors.Is(err, rollouts.ErrActive) {
		t.Errorf("a second rollout beside the first: %v", err)
	}
	if _, err := w.desk.Bring(ctx, w.key, 1, nil); !errors.Is(err, desk.ErrRolling) {
		t.Errorf("bringing gateways elsewhere beside a rollout: %v", err)
	}
	random := rand.New(rand.NewPCG(7, 7))
	killed := 0
	for name := 'a'; ; name++ {
		kill := w.goOn("runner-" + string(name))
		time.Sleep(time.Duration(500+random.IntN(8000)) * time.Millisecond) // another takes over after 5 s
		if w.rollout(1).State != rollouts.Running {
			break
		}
		kill()
		if killed++; killed > 20 {
			t.Fatalf("it does not end: %+v", w.rollout(1))
		}
	}
	d := w.until(1, "done", time.Second, in(rollouts.Done))
	w.eventually("release 2 confirmed everywhere", 5*time.Second, w.allConfirmed(number))
	begun := 0
	for _, n := range d.Notes {
		if strings.Contains(n.Words, ", begins: ") {
			begun++
		}
	}
	if begun != len(d.Plan.Rounds) || len(d.Plan.Rounds) < 2 || d.Proof.Missing != 0 || d.Proof.Alive == 0 {
		t.Errorf("%d rounds of %d begun, proof %+v, %d killed: %+v", begun, len(d.Plan.Rounds), d.Proof, killed, d.Notes)
	}
	if e := d.Proof.Echoes; e == nil || e.Of != 12 || e.Asked != 12 || e.As != 12 || !slices.Equal(e.Grid, []string{".aaa", "a.aa", "aa.a", "aaa."}) {
		t.Errorf("from LAN to LAN: %+v", e)
	}
	w.backFromTheMiddle(office)
}

// backFromTheMiddle lets a person take the next release back after its first round.
func (w *works) backFromTheMiddle(office *rollouts.Office) {
	w.t.Helper()
	ctx := context.Background()
	number := w.release(w.estate.Sites[0].Key, func(s *estate.Site) { s.Links[0].MTU = 1420 })
	if _, err := office.Start(ctx, w.key, rollouts.Order{Release: number, Settings: rollouts.Settings{ByHand: true}}); err != nil {
		w.t.Fatal(err)
	}
	d := w.until(2, "waiting after its first round", 30*time.Second, in(rollouts.Waiting))
	if d.Round != 1 || !slices.ContainsFunc(d.Gateways, func(g rollouts.RolloutGateway) bool { return g.State == "waiting" }) {
		w.t.Errorf("it waits at round %d: %+v", d.Round, d.Gateways)
	}
	if _, err := office.Decide(ctx, w.key, 2, rollouts.Undo, false); err != nil {
		w.t.Fatal(err)
	}
	w.until(2, "taken back", 30*time.Second, in(rollouts.Undone))
	w.eventually("release 2 confirmed everywhere", 10*time.Second, w.allConfirmed(number-1))
	if _, err := office.Decide(ctx, w.key, 2, rollouts.GoOn, false); !errors.Is(err, rollouts.ErrState) {
		w.t.Errorf("going on with what was taken back: %v", err)
	}
}

// What is worse than predicted stops a rollout and is named; what is away counts; once it is
// whole again a person lets it go on.
func TestAFaultStopsARollout(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 1)
	world := w.stand()
	w.goOn("runner")
	w.eventually("release 1 confirmed everywhere", 20*time.Second, w.allConfirmed(1))
	office := rollouts.New(w.db, w.desk)
	ctx := context.Background()
	number := w.release(w.estate.Sites[0].Key, func(s *estate.Site) { s.Links[0].MTU = 1400 })
	plan, err := office.Plan(ctx, w.key, rollouts.Order{Release: number})
	if err != nil {
		t.Fatal(err)
	}
	site := plan.Rounds[len(plan.Rounds)-1].Sites[0]
	if err := world.Do(fleet.Change{Do: "cut", Site: site}); err != nil {
		t.Fatal(err)
	}
	w.eventually("away", 15*time.Second, func(rows map[string]desk.GatewayRow) bool { return !rows[site].Up })
	if _, err := office.Start(ctx, w.key, rollouts.Order{Release: number}); err != nil {
		t.Fatal(err)
	}
	d := w.until(1, "stopped", 90*time.Second, in(rollouts.Stopped))
	if !strings.Contains(d.Words, site) {
		t.Errorf("it stops and says %q, not naming %s", d.Words, site)
	}
	if err := world.Do(fleet.Change{Do: "restore", Site: site}); err != nil {
		t.Fatal(err)
	}
	w.eventually("there again", 40*time.Second, func(rows map[string]desk.GatewayRow) bool { return rows[site].Up })
	for tries := 0; w.rollout(1).State != rollouts.Done; tries++ {
		if w.rollout(1).State == rollouts.Stopped {
			if _, err := office.Decide(ctx, w.key, 1, rollouts.GoOn, false); err != nil {
				t.Fatal(err)
			}
		}
		if time.Sleep(500 * time.Millisecond); tries > 200 {
			t.Fatalf("it does not end: %+v", w.rollout(1))
		}
	}
	w.eventually("release 2 confirmed everywhere", 5*time.Second, w.allConfirmed(number))
}

// A gateway that refuses a release stops the rollout, in its own words, and nothing of it
// stays anywhere once it is taken back.
func TestAGatewayThatRefusesStopsARollout(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 1)
	w.stand()
	w.goOn("runner")
	w.eventually("release 1 confirmed everywhere", 20*time.Second, w.allConfirmed(1))
	ctx := context.Background()
	at := desk.At(w.key, desk.First)
	view, err := w.desk.View(ctx, at.Place)
	if err != nil {
		t.Fatal(err)
	}
	overlay := view.Estate.Clone().Overlays[0]
	overlay.Transport = estate.IPsec // which no stand-in speaks
	if _, err := w.desk.SaveOverlay(ctx, at, overlay.Key, overlay); err != nil {
		t.Fatal(err)
	}
	out, err := w.desk.Release(ctx, at, "another transport", "to see it refused")
	if err != nil {
		t.Fatal(err)
	}
	office := rollouts.New(w.db, w.desk)
	if _, err := office.Start(ctx, w.key, rollouts.Order{Release: out.Number}); err != nil {
		t.Fatal(err)
	}
	d := w.until(1, "stopped", 30*time.Second, in(rollouts.Stopped))
	if d.Round != 0 || !strings.Contains(d.Words, "a stand-in has no IPsec") {
		t.Errorf("it stops at round %d and says %q", d.Round, d.Words)
	}
	if d.Plan.Cut == 0 {
		t.Error("another transport is planned to cut nobody")
	}
	if _, err := office.Decide(ctx, w.key, 1, rollouts.Undo, false); err != nil {
		t.Fatal(err)
	}
	w.until(1, "taken back", 30*time.Second, in(rollouts.Undone))
	w.eventually("release 1 confirmed everywhere", 10*time.Second, w.allConfirmed(1))
}

// A link that takes less than the survey says is no trouble to probes, which are small. Echoes
// find it; a person may accept it, and the next rollout takes the place of one that waits.
func TestEchoesFindWhatProbesDoNot(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 1)
	world := w.stand()
	w.goOn("runner")
	w.eventually("release 1 confirmed everywhere", 20*time.Second, w.allConfirmed(1))
	narrow := 1300
	if err := world.Do(fleet.Change{Do: "like", Site: "tarn", Link: "fibre", MTU: &narrow}); err != nil {
		t.Fatal(err)
	}
	office := rollouts.New(w.db, w.desk)
	ctx := context.Background()
	number := w.release("weir", func(s *estate.Site) { s.Links[0].MTU = 1400 })
	if _, err := office.Start(ctx, w.key, rollouts.Order{Release: number}); err != nil {
		t.Fatal(err)
	}
	d := w.until(1, "stopped", 90*time.Second, in(rollouts.Stopped))
	if d.Phase != rollouts.Asking || d.Proof.Missing == 0 || !strings.Contains(d.Words, "tarn") || !strings.Contains(d.Proof.Differ[0].Seen, "answered with 84 bytes, not with") {
		t.Fatalf("it stops and says %q: %+v", d.Words, d.Proof)
	}
	if _, err := office.Start(ctx, w.key, rollouts.Order{Release: 1}); !errors.Is(err, rollouts.ErrActive) {
		t.Errorf("another one beside it: %v", err)
	}
	if _, err := office.Decide(ctx, w.key, 1, rollouts.Accept, false); err != nil {
		t.Fatal(err)
	}
	for tries := 0; w.rollout(1).State != rollouts.Done; tries++ { // other rounds may pass by tarn, too
		if w.rollout(1).State == rollouts.Stopped {
			if _, err := office.Decide(ctx, w.key, 1, rollouts.Accept, false); err != nil {
				t.Fatal(err)
			}
		}
		if time.Sleep(300 * time.Millisecond); tries > 200 {
			t.Fatalf("it does not end: %+v", w.rollout(1))
		}
	}
	next := w.release("weir", func(s *estate.Site) { s.Links[0].MTU = 1420 })
	if _, err := office.Start(ctx, w.key, rollouts.Order{Release: next, Settings: rollouts.Settings{ByHand: true}}); err != nil {
		t.Fatal(err)
	}
	if d = w.until(2, "waiting or stopped", 60*time.Second, func(d *rollouts.RolloutDetail) bool { return d.State != rollouts.Running }); d.State == rollouts.Stopped {
		if _, err := office.Decide(ctx, w.key, 2, rollouts.Accept, false); err != nil {
			t.Fatal(err)
		}
		w.until(2, "waiting", 60*time.Second, in(rollouts.Waiting))
	}
	_, err := office.Start(ctx, w.key, rollouts.Order{Release: number, Instead: true})
	between := slices.ContainsFunc(w.rollout(2).Gateways, func(g rollouts.RolloutGateway) bool { return g.Stage == "widened" || g.Stage == "sending" })
	if between != errors.Is(err, rollouts.ErrState) || !between && (err != nil || w.rollout(2).State != rollouts.Left) {
		t.Errorf("in the place of one that waits, gateways between: %v: %v", between, err)
	}
}

// All gateways make new keys, which come into the draft as one edit and are used once that is
// released and brought to them; nobody is cut.
func TestNewKeysForAll(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 1)
	w.stand()
	w.goOn("runner")
	w.eventually("release 1 confirmed everywhere", 20*time.Second, w.allConfirmed(1))
	ctx := context.Background()
	at := desk.At(w.key, desk.First)
	if _, _, err := w.desk.NewKeys(ctx, at, []string{"atlantis"}); err == nil {
		t.Error("a site that is not there has a new key")
	}
	view, keys, err := w.desk.NewKeys(ctx, at, nil)
	if err != nil || len(keys) != len(w.estate.Sites) {
		t.Fatalf("%+v, %v", keys, err)
	}
	for _, k := range keys {
		if site := view.Estate.Site(k.Site); k.PublicKey == "" || site.Gateway.PublicKey != k.PublicKey || w.estate.Site(k.Site).Gateway.PublicKey == k.PublicKey {
			t.Errorf("%+v, and the draft has %s", k, site.Gateway.PublicKey)
		}
	}
	_, offers, err := w.desk.Offers(ctx, at.Place, "tarn")
	if err != nil || offers[0].Offers[0].ID != "public-key" || offers[0].Offers[0].Differs {
		t.Errorf("what the gateway offers against its own new key: %+v, %v", offers, err)
	}
	out, err := w.desk.Release(ctx, at, "new keys", "the old ones are a year old")
	if err != nil {
		t.Fatal(err)
	}
	office := rollouts.New(w.db, w.desk)
	if _, err := office.Start(ctx, w.key, rollouts.Order{Release: out.Number}); err != nil {
		t.Fatal(err)
	}
	d := w.until(1, "done or stopped", 2*time.Minute, func(d *rollouts.RolloutDetail) bool { return d.State == rollouts.Done || d.State == rollouts.Stopped })
	if d.State != rollouts.Done || d.Plan.Cut > 0 || !d.Plan.TwoSteps || d.Proof.Echoes.As != 12 {
		t.Errorf("%s, %s; plan %+v, proof %+v", d.State, d.Words, d.Plan, d.Proof)
	}
	w.eventually("release 2 confirmed everywhere", 5*time.Second, w.allConfirmed(out.Number))
}

// What somebody set by hand at a gateway is taken into a draft as far as that has words for it;
// released, it is what the gateway runs already.
func TestDriftIsTakenIntoADraft(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 1)
	world := w.stand()
	w.eventually("release 1 confirmed everywhere", 20*time.Second, w.allConfirmed(1))
	ctx := context.Background()
	at := desk.At(w.key, desk.First)
	if _, _, err := w.desk.TakeDrift(ctx, at, "tarn"); err == nil {
		t.Error("nothing that was set by hand is taken")
	}
	a := world.Site("tarn").Agent
	runs, err := a.Running(ctx)
	if err != nil {
		t.Fatal(err)
	}
	byHand := *runs
	byHand.Tunnels = slices.Clone(runs.Tunnels)
	for i := range byHand.Tunnels {
		byHand.Tunnels[i].MTU -= 60
	}
	if err := a.Try(ctx, &byHand, 0, "by hand", 0); err != nil {
		t.Fatal(err)
	}
	w.eventually("tarn differs", 15*time.Second, func(rows map[string]desk.GatewayRow) bool { return rows["tarn"].Phase == "differs" })
	view, drift, err := w.desk.TakeDrift(ctx, at, "tarn")
	if err != nil || len(drift.Taken) != 1 || len(drift.Left) != 0 || view.Estate.Site("tarn").Links[0].MTU != 1440 {
		t.Fatalf("%+v, %v", drift, err)
	}
	out, err := w.desk.Release(ctx, at, "as set by hand", "it was measured there")
	if err != nil {
		t.Fatal(err)
	}
	w.goOn("runner")
	if _, err := rollouts.New(w.db, w.desk).Start(ctx, w.key, rollouts.Order{Release: out.Number}); err != nil {
		t.Fatal(err)
	}
	w.until(1, "done", 2*time.Minute, in(rollouts.Done))
	w.eventually("release 2 confirmed everywhere", 10*time.Second, w.allConfirmed(out.Number))
}

// Waves are a person's to choose; what cannot be is refused with its reason, and nothing begins.
func TestWavesOfAPerson(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 1)
	w.stand()
	w.eventually("release 1 confirmed everywhere", 20*time.Second, w.allConfirmed(1))
	office := rollouts.New(w.db, w.desk)
	ctx := context.Background()
	number := w.release(w.estate.Sites[0].Key, func(s *estate.Site) { s.Links[0].MTU = 1400 })
	var sites []string
	for i := range w.estate.Sites {
		sites = append(sites, w.estate.Sites[i].Key)
	}
	for _, c := range []struct {
		name  string
		waves []rollout.Wave
		wrong string
	}{
		{"a site is missing", []rollout.Wave{{Name: "some", Sites: sites[1:]}}, sites[0] + " changes, and is in no wave"},
		{"one is there twice", []rollout.Wave{{Name: "a", Sites: sites}, {Name: "b", Sites: sites[:1]}}, "in two waves"},
		{"one does not exist", []rollout.Wave{{Name: "a", Sites: append(slices.Clone(sites), "atlantis")}}, "atlantis, which is no site"},
	} {
		if _, err := office.Start(ctx, w.key, rollouts.Order{Release: number, Waves: c.waves}); err == nil || !strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	if list, err := office.List(ctx, w.key); err != nil || len(list) != 0 {
		t.Errorf("what began: %+v, %v", list, err)
	}
	plan, err := office.Plan(ctx, w.key, rollouts.Order{Release: number, Waves: []rollout.Wave{{Name: "all at once", Sites: sites}}})
	if err != nil || len(plan.Waves) != 1 {
		t.Errorf("all at once: %+v, %v", plan, err)
	}
}
