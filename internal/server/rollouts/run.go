package rollouts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"wideknot/core/rollout"
	"wideknot/core/words"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
	"wideknot/internal/server/turns"
)

// Phases of a round.
const (
	Bringing = "bringing"
	Proving  = "proving" // by what gateways report of themselves
	Asking   = "asking"  // by echoes between them
	Soaking  = "soaking"
)

// How long what may take.
const (
	turnEvery   = 300 * time.Millisecond
	proveWithin = 30 * time.Second  // until tunnels that are to be alive are said to be dead
	backWithin  = 8 * time.Second   // the same on the way back, where going on is better
	awayBefore  = 5 * time.Second   // one whose line had ended before it was asked
	awayAfter   = 40 * time.Second  // a gateway that tries something calls anew, after 30 s at the latest
	bringWithin = 240 * time.Second // a trial and its going back
)

// mostAtOnce is how many gateways try something at one time.
const mostAtOnce = 64

// A Runner goes on with rollouts.
type Runner struct {
	*Office
	Name string // of this server
	Log  *slog.Logger

	networks map[uint64]*network // of rollouts that it goes on with
}

// network is what gateways of a rollout are at each stage, for what is expected of them.
type network struct {
	*rollout.Network
	plan     *Stored
	at       int // round that Expected is of
	expected []rollout.Expected
}

// Run goes on with rollouts until the context ends.
func (r *Runner) Run(ctx context.Context) {
	r.networks = map[uint64]*network{}
	ctx = identity.WithActor(ctx, identity.Actor{Name: "server"})
	turns.Take(ctx, turnEvery, r.Log, "going on with rollouts", r.turn)
}

func (r *Runner) turn(ctx context.Context) error {
	var rows []store.Rollout
	err := r.Store.InTransaction(ctx, func(tx *store.Tx) (err error) {
		rows, err = tx.LeaseRollouts(r.Name)
		return err
	})
	if err != nil {
		return err
	}
	for id := range r.networks {
		if !slices.ContainsFunc(rows, func(row store.Rollout) bool { return row.ID == id }) {
			delete(r.networks, id)
		}
	}
	for _, row := range rows {
		err = errors.Join(err, r.advance(ctx, row.ID, row.EstateID))
	}
	return err
}

// A turn is one look at a rollout, and what is done next. All of it is one transaction: who is
// killed in it did nothing.
type turn struct {
	r       *Runner
	ctx     context.Context
	tx      *store.Tx
	row     *store.Rollout
	network *network
	plan    *Stored
	s       agreed
	live    []store.LiveGateway
	now     time.Time
	changed []string // columns
}

func (r *Runner) advance(ctx context.Context, id, estate uint64) error {
	n, err := r.network(ctx, id, estate)
	if err != nil {
		return err
	}
	return r.Store.InTransaction(ctx, func(tx *store.Tx) error {
		row, err := tx.LeasedRollout(id, r.Name)
		if errors.Is(err, store.ErrNotFound) {
			return nil // another server goes on with it, or it has ended
		}
		if err != nil {
			return err
		}
		t := &turn{r: r, ctx: ctx, tx: tx, row: &row, network: n, plan: n.plan}
		if err := json.Unmarshal([]byte(row.Settings), &t.s); err != nil {
			return err
		}
		if t.live, err = tx.LiveGateways(estate); err != nil {
			return err
		}
		if t.now, err = tx.Now(); err != nil {
			return err
		}
		if err := t.step(); err != nil {
			return err
		}
		if len(t.changed) == 0 {
			return nil
		}
		return tx.SaveRollout(&row, t.changed...)
	})
}

// network makes what the gateways of a rollout are at each stage, once.
func (r *Runner) network(ctx context.Context, id, estate uint64) (*network, error) {
	if n := r.networks[id]; n != nil {
		return n, nil
	}
	var row store.Rollout
	var e store.Estate
	err := r.Store.Snapshot(ctx, func(tx *store.Tx) (err error) {
		if row, err = tx.ActiveRollout(estate, false); err != nil {
			return err
		}
		e, err = tx.EstateByID(estate)
		return err
	})
	if err != nil {
		return nil, err
	}
	plan := &Stored{}
	if err := json.Unmarshal([]byte(row.Plan), plan); err != nil {
		return nil, err
	}
	gateways, _, err := r.Desk.RolloutGateways(ctx, e.Key, row.ReleaseNo, plan.Bases)
	if err != nil {
		return nil, err
	}
	n := &network{Network: rollout.NewNetwork(gateways), plan: plan, at: -2}
	r.networks[id] = n
	return n, nil
}

// expect lists what is to be seen after a number of rounds.
func (n *network) expect(rounds int) []rollout.Expected {
	if n.at != rounds {
		n.at, n.expected = rounds, n.Expect(n.Before(&n.plan.Plan, rounds))
	}
	return n.expected
}

func (t *turn) set(columns ...string) { t.changed = append(t.changed, columns...) }

func (t *turn) note(format string, values ...any) error {
	return t.tx.NoteRollout(t.row.ID, t.now, fmt.Sprintf(format, values...))
}

func (t *turn) phase(phase string) {
	t.row.Phase, t.row.Since = phase, t.now
	t.set("phase", "since")
}

// stop lets the rollout wait for a person, as something is worse than predicted.
func (t *turn) stop(format string, values ...any) error {
	t.row.State, t.row.Words = Stopped, fmt.Sprintf(format, values...)
	t.set("state", "words")
	return t.note("it stops: %s", t.row.Words)
}

func (t *turn) wait(format string, values ...any) error {
	t.row.State, t.row.Words = Waiting, fmt.Sprintf(format, values...)
	t.set("state", "words")
	return t.note("it waits: %s", t.row.Words)
}

// step does what is next.
func (t *turn) step() error {
	if t.row.State != Running && t.row.State != Back {
		return nil
	}
	if t.row.Round < 0 || t.row.Round >= len(t.plan.Rounds) {
		return t.end()
	}
	switch t.row.Phase {
	case "":
		return t.begin()
	case Bringing:
		return t.bringing()
	case Proving:
		if t.row.State == Back {
			return t.proving(backWithin)
		}
		return t.proving(proveWithin)
	case Asking:
		return t.echoing()
	default:
		if t.row.State == Back || t.now.Sub(t.row.Since) >= time.Duration(t.s.Soak)*time.Second {
			return t.next()
		}
		return t.proving(0)
	}
}

// round is the present one, with the sites that it brings and where.
func (t *turn) round() (sites []string, to func(site string) rollout.Stage) {
	round := &t.plan.Rounds[t.row.Round]
	to = func(string) rollout.Stage { return round.Stage }
	if t.row.State == Back {
		before := t.network.Before(&t.plan.Plan, t.row.Round)
		to = func(site string) rollout.Stage { return t.network.Of(before, site) }
	}
	return round.Sites, to
}

// begin says what the gateways of a round are to be.
func (t *turn) begin() error {
	sites, to := t.round()
	name := t.plan.Rounds[t.row.Round].Name
	if t.row.State == Running {
		if !t.s.within(t.now) {
			if words := fmt.Sprintf("rounds begin from %s to %s UTC only", t.s.From, t.s.To); t.row.Words != words {
				t.row.Words = words
				t.set("words")
			}
			return nil
		}
		if away := t.behind(); len(away) > 0 && t.plan.TwoSteps && t.plan.Rounds[t.row.Round].Stage == rollout.New && !t.s.Without {
			return t.wait("%s may still use what would be taken away now, and cannot be brought on: away", sitesText(away))
		}
	}
	var first []*store.LiveGateway
	for _, g := range t.of(sites) {
		if s := stateOf(g); !t.asked(g, to) || s == "failed" || s == "went-back" {
			first = append(first, g)
		}
	}
	if err := t.ask(first[:min(len(first), mostAtOnce)], to); err != nil {
		return err
	}
	t.row.Words = ""
	t.set("words")
	t.phase(Bringing)
	if t.row.State == Back {
		return t.note("round %d, %s, is taken back: %s", t.row.Round+1, name, sitesText(sites))
	}
	return t.note("round %d, %s, begins: %s", t.row.Round+1, name, sitesText(sites))
}

// of lists the gateways of some sites.
func (t *turn) of(sites []string) (out []*store.LiveGateway) {
	in := make(map[string]bool, len(sites))
	for _, site := range sites {
		in[site] = true
	}
	for i := range t.live {
		if in[t.live[i].Site] {
			out = append(out, &t.live[i])
		}
	}
	return out
}

// asked reports whether a gateway was told already what it is to be in the round.
func (t *turn) asked(g *store.LiveGateway, to func(site string) rollout.Stage) bool {
	return g.Wanted == t.row.ReleaseNo && g.Stage == int(to(g.Site))
}

// ask says what gateways are to be.
func (t *turn) ask(list []*store.LiveGateway, to func(site string) rollout.Stage) error {
	by := map[[2]uint64][]string{} // by base and stage
	for _, g := range list {
		key := [2]uint64{t.plan.Bases[g.Site], uint64(to(g.Site))}
		by[key] = append(by[key], g.Site)
	}
	for key, sites := range by {
		if err := t.tx.WantAt(t.row.EstateID, sites, t.row.ReleaseNo, key[0], int(key[1])); err != nil {
			return err
		}
	}
	return nil
}

// behind lists gateways that are away and have not confirmed what they are to be.
func (t *turn) behind() (out []string) {
	for i := range t.live {
		if g := &t.live[i]; t.plan.Bases[g.Site] > 0 && !g.Up && g.BarredAt == nil && g.Attempt != g.ConfirmedAttempt {
			out = append(out, g.Site)
		}
	}
	return out
}

// bringing waits until the gateways of a round confirmed it. Each that does makes room for
// another one to be asked.
func (t *turn) bringing() error {
	sites, to := t.round()
	var busy, away []string
	var next []*store.LiveGateway
	for _, g := range t.of(sites) {
		if !t.asked(g, to) {
			next = append(next, g)
			continue
		}
		switch stateOf(g) {
		case "confirmed":
		case "went-back":
			return t.stop("%s went back: %s", g.Site, g.Words)
		case "failed":
			return t.stop("%s: %s", g.Site, g.Words)
		case "away":
			if t.now.Sub(t.row.Since) < awayBefore || t.mayReturn(g) {
				busy = append(busy, g.Site)
			} else {
				away = append(away, g.Site)
			}
		default:
			busy = append(busy, g.Site)
		}
	}
	if room := mostAtOnce - len(busy); len(next) > 0 && room > 0 {
		t.phase(Bringing) // the time that others have begins anew
		return t.ask(next[:min(len(next), room)], to)
	}
	switch {
	case len(busy) > 0 && t.now.Sub(t.row.Since) > bringWithin:
		return t.stop("%s did not confirm in time", sitesText(busy))
	case len(busy) > 0 || len(next) > 0:
		return nil
	case len(away) > t.s.Away && t.row.State == Running:
		return t.stop("%s away, and %d may be: %s", words.Many(len(away), "gateway is", "gateways are"), t.s.Away, sitesText(away))
	}
	t.phase(Proving)
	if len(away) > 0 {
		return t.note("%s are away: they are brought on when they are back", sitesText(away))
	}
	return nil
}

// proving compares what gateways report with what is expected after the round, for a time.
func (t *turn) proving(within time.Duration) error {
	states, err := t.tx.GatewayStates(t.row.EstateID)
	if err != nil {
		return err
	}
	done := t.row.Round + 1
	if t.row.State == Back {
		done = t.row.Round
	}
	since := t.row.Since
	if t.row.Phase == Soaking {
		since = since.Add(-time.Minute)
	}
	expected := t.network.expect(done)
	lasts := t.now.Sub(t.row.Since)
	if t.row.Phase == Proving && (lasts < settle(expected) || lasts < proveWithin && t.returning()) {
		return nil
	}
	proof, ready := prove(expected, t.plan, t.s.Accepted, t.live, states, since)
	if proof.Missing == 0 && (ready || lasts > proveWithin) {
		if t.row.Phase == Soaking {
			return nil
		}
		proof.At = &t.now
		t.row.Proof = text(proof)
		t.set("proof")
		if err := t.note("round %d is proven: %s alive, %s as expected", t.row.Round+1, words.Many(proof.Alive, "end of a tunnel is", "ends of tunnels are"), words.Many(proof.As, "way goes", "ways go")); err != nil {
			return err
		}
		if t.row.State == Back {
			return t.next()
		}
		t.phase(Asking)
		return nil
	}
	if lasts <= within {
		return nil
	}
	proof.At = &t.now
	t.row.Proof = text(proof)
	t.set("proof")
	if t.row.State == Back { // on the way back nothing is better than going on
		if err := t.note("after round %d was taken back %s not as expected; it goes on", t.row.Round+1, words.Many(proof.Missing, "thing is", "things are")); err != nil {
			return err
		}
		return t.next()
	}
	d := proof.Differ[0]
	return t.stop("%s not as expected; the first: %s of %s is to be %s, and is %s", words.Many(proof.Missing, "thing is", "things are"), d.What, d.Site, d.Expected, d.Seen)
}

// returning reports whether some gateway may call anew any moment: its line, or the server that
// had it, ended just now.
func (t *turn) returning() bool {
	return slices.ContainsFunc(t.live, func(g store.LiveGateway) bool {
		return !g.Up && t.plan.Bases[g.Site] > 0 && g.BarredAt == nil && t.mayReturn(&g)
	})
}

func (t *turn) mayReturn(g *store.LiveGateway) bool {
	heard := g.EndedAt
	if heard == nil {
		heard = g.StateAt
	}
	return heard != nil && t.now.Sub(*heard) < awayAfter
}

// proven lets the round be watched, or goes on.
func (t *turn) proven() error {
	if t.s.Soak == 0 {
		return t.next()
	}
	t.phase(Soaking)
	return nil
}

// settle is how long probes need to find out that a tunnel is dead.
func settle(expected []rollout.Expected) time.Duration {
	longest := 0
	for i := range expected {
		longest = max(longest, expected[i].Detect)
	}
	return time.Duration(longest)*time.Millisecond + 500*time.Millisecond
}

// next goes on to the next round, or to the one before.
func (t *turn) next() error {
	if t.row.State == Back {
		t.row.Round--
	} else {
		t.row.Round++
	}
	t.set("round")
	t.phase("")
	if t.row.State == Running && t.s.ByHand && t.row.Round < len(t.plan.Rounds) {
		return t.wait("round %d, %s, is next", t.row.Round+1, t.plan.Rounds[t.row.Round].Name)
	}
	return nil
}

// end says that all is done.
func (t *turn) end() error {
	words := fmt.Sprintf("release %d is where it was to be brought", t.row.ReleaseNo)
	state := Done
	if t.row.State == Back {
		state, words = Undone, "it is taken back wholly"
	}
	// Between releases nobody stays; most have the very configuration already.
	by := map[uint64][]string{}
	for i := range t.live {
		g := &t.live[i]
		to := t.row.ReleaseNo
		if state == Undone {
			to = t.plan.Bases[g.Site]
		}
		if t.plan.Bases[g.Site] > 0 && g.Wanted == t.row.ReleaseNo && (g.Stage != int(rollout.New) || to != g.Wanted) {
			by[to] = append(by[to], g.Site)
		}
	}
	for release, sites := range by {
		if err := t.tx.WantAt(t.row.EstateID, sites, release, 0, int(rollout.New)); err != nil {
			return err
		}
	}
	t.row.State, t.row.Words, t.row.Active, t.row.EndedAt, t.row.Phase = state, "", nil, &t.now, ""
	t.set("state", "words", "active", "ended_at", "phase")
	if err := t.note("%s", words); err != nil {
		return err
	}
	return identity.Record(t.ctx, t.tx, t.now, identity.Act{Action: "rollout." + state, Estate: t.row.EstateID, Object: fmt.Sprintf("rollout %d", t.row.Number), After: map[string]any{"release": t.row.ReleaseNo}})
}
