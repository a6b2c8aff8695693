// Package rollouts brings releases to gateways: in waves, by steps that were planned, proven
// one after the other, and back again. What is done is in the database, so that any server
// goes on with what another one began.
package rollouts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"wideknot/core/estate"
	"wideknot/core/rollout"
	"wideknot/core/words"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// Office takes orders for rollouts.
type Office struct {
	Store *store.Store
	Desk  *desk.Desk
	// Servers is where gateways call servers, as far as that is known as addresses.
	Servers []netip.Addr

	settle   time.Duration // how long a plan waits for gateways of the rollout before it
	planning chan struct{} // one is planned at a time
	last     struct {      // by who plans: who looks at a plan begins it next
		question string
		plan     Stored
	}
}

// New returns an office.
func New(s *store.Store, d *desk.Desk) *Office {
	return &Office{Store: s, Desk: d, settle: 5 * time.Second, planning: make(chan struct{}, 1)}
}

// Errors of orders.
var (
	ErrActive  = errors.New("a rollout of this estate is on its way; let it end, take it back, or let this one take its place, before another one begins")
	ErrNothing = errors.New("no gateway that joined has anything to change for that release")
	ErrState   = errors.New("the rollout is not where that can be done")
)

// States of a rollout.
const (
	Running = "running"
	Waiting = "waiting" // for a person
	Stopped = "stopped" // by itself: something is worse than predicted
	Back    = "back"    // taking itself back
	Done    = "done"
	Undone  = "undone" // taken back wholly
	Left    = "left"   // as far as it was: another one took its place
)

// Settings are how a rollout goes on.
type Settings struct {
	Soak    int    `json:"soak_s" minimum:"0" maximum:"86400" doc:"seconds that a round is watched before the next one begins"`
	ByHand  bool   `json:"by_hand" doc:"a person lets each round begin"`
	Away    int    `json:"away" minimum:"0" maximum:"10000" doc:"how many gateways may be away before it stops"`
	From    string `json:"from,omitempty" maxLength:"5" pattern:"^(([01][0-9]|2[0-3]):[0-5][0-9])?$" doc:"time of day, UTC, from which rounds may begin; empty for always"`
	To      string `json:"to,omitempty" maxLength:"5" pattern:"^(([01][0-9]|2[0-3]):[0-5][0-9])?$" doc:"time of day until which they may"`
	Without bool   `json:"without_away" doc:"what gateways that are away may still use is taken away all the same"`
}

// Stored is a plan as it is kept: with what each gateway kept when it began.
type Stored struct {
	rollout.Plan
	Bases map[string]uint64 `json:"bases"` // release by site, of gateways that joined
	Dead  []string          `json:"dead"`  // ends of tunnels that were dead then, SITE/INTERFACE
}

// agreed is how a rollout goes on, as it is kept: with what is not as expected and a person
// accepts, see Proof.Keys.
type agreed struct {
	Settings
	Accepted []string `json:"accepted,omitempty"`
}

// A Rollout is a rollout as lists show it.
type Rollout struct {
	Number  uint64     `json:"number"`
	Release uint64     `json:"release"`
	Author  string     `json:"author"`
	MadeAt  time.Time  `json:"made_at"`
	EndedAt *time.Time `json:"ended_at,omitempty"`
	State   string     `json:"state" enum:"running,waiting,stopped,back,done,undone,left"`
	Words   string     `json:"words" doc:"why it waits or stopped"`
	Round   int        `json:"round" doc:"from 0; the number of rounds once it is done, -1 once it is taken back"`
	Phase   string     `json:"phase" enum:",bringing,proving,asking,soaking"`
	Since   time.Time  `json:"since" doc:"when the phase began"`
	Settings
}

func viewOf(row *store.Rollout) Rollout {
	out := Rollout{
		Number: row.Number, Release: row.ReleaseNo, Author: row.Author, MadeAt: row.MadeAt, EndedAt: row.EndedAt, State: row.State, Words: row.Words,
		Round: row.Round, Phase: row.Phase, Since: row.Since,
	}
	_ = json.Unmarshal([]byte(row.Settings), &out.Settings) // ours
	return out
}

// A RolloutNote is one thing that happened in a rollout.
type RolloutNote struct {
	At    time.Time `json:"at"`
	Words string    `json:"words"`
}

// A RolloutGateway is a gateway in a rollout.
type RolloutGateway struct {
	Site  string `json:"site"`
	Stage string `json:"stage" enum:"old,widened,sending,new" doc:"that it is to be at"`
	State string `json:"state" enum:"waiting,bringing,confirmed,went-back,failed,away" doc:"of bringing it there"`
	Words string `json:"words,omitempty" doc:"the gateway's own"`
}

// A RolloutDetail is a rollout with its plan, its gateways and what happened.
type RolloutDetail struct {
	Rollout
	Plan     rollout.Plan     `json:"plan"`
	Gateways []RolloutGateway `json:"gateways"`
	Proof    Proof            `json:"proof"`
	Notes    []RolloutNote    `json:"notes"`
}

// Plan works out how a release would be brought to the gateways of an estate.
func (o *Office) Plan(ctx context.Context, estateKey string, order Order) (*Stored, error) {
	release, waves := order.Release, order.Waves
	row, err := o.idle(ctx, estateKey, order.Instead)
	if err != nil {
		return nil, err
	}
	keep, err := o.keeping(ctx, estateKey)
	if err != nil {
		return nil, err
	}
	select {
	case o.planning <- struct{}{}:
		defer func() { <-o.planning }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	question := text([]any{row, release, waves, keep})
	if o.last.question == question {
		again := o.last.plan
		return &again, nil
	}
	gateways, bases, err := o.Desk.RolloutGateways(ctx, estateKey, release, keep)
	if err != nil {
		return nil, err
	}
	plan, err := rollout.Make(gateways, waves)
	if err != nil {
		return nil, estate.Problems{{Path: "waves", Message: err.Error()}}
	}
	plan.Lines = rollout.Lines(gateways, o.Servers)
	o.last.question, o.last.plan = question, Stored{Plan: *plan, Bases: bases}
	again := o.last.plan
	return &again, nil
}

// keeping lists the release that each gateway keeps. Where the rollout before has just ended,
// gateways of which its last round changed nothing are yet to say that they keep its release:
// it waits for them.
func (o *Office) keeping(ctx context.Context, estateKey string) (map[string]uint64, error) {
	for until := time.Now().Add(o.settle); ; {
		keep, err := o.Desk.Keeping(ctx, estateKey)
		if !errors.Is(err, desk.ErrRolling) || time.Now().After(until) {
			return keep, err
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// idle refuses where a rollout is on its way already, and another one may not take its place.
// It returns the number of the estate.
func (o *Office) idle(ctx context.Context, estateKey string, instead bool) (id uint64, err error) {
	err = o.Store.Snapshot(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(estateKey, false)
		if err != nil {
			return err
		}
		id = e.ID
		row, err := tx.ActiveRollout(e.ID, false)
		switch {
		case errors.Is(err, store.ErrNotFound):
			return nil
		case err == nil && instead:
			return mayLeave(tx, &row)
		case err == nil:
			return ErrActive
		default:
			return err
		}
	})
	return id, err
}

// An Order is what is to be brought to gateways, and how.
type Order struct {
	Release uint64
	Waves   []rollout.Wave // nil for the usual ones
	Settings
	// Instead lets it take the place of one that waits or stopped, as far as that came.
	Instead bool
}

// Start begins to bring a release to gateways.
func (o *Office) Start(ctx context.Context, estateKey string, order Order) (Rollout, error) {
	release, s := order.Release, order.Settings
	plan, err := o.Plan(ctx, estateKey, order)
	if err != nil {
		return Rollout{}, err
	}
	var out Rollout
	err = o.Store.InTransaction(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(estateKey, true)
		if err != nil {
			return err
		}
		if err := leave(ctx, tx, e.ID, &order); err != nil {
			return err
		}
		changing, same, err := plan.part(tx, e.ID, release)
		if err != nil {
			return err
		}
		states, err := tx.GatewayStates(e.ID)
		if err != nil {
			return err
		}
		plan.Dead = deadEnds(states)
		now, err := tx.Now()
		if err != nil {
			return err
		}
		one := 1
		row := store.Rollout{
			EstateID: e.ID, ReleaseNo: release, Author: identity.ActorOf(ctx).Name, MadeAt: now, Active: &one, State: Running, Settings: text(s), Plan: text(plan), Since: now, Proof: "{}",
		}
		if err := tx.AddRollout(&row); err != nil {
			if errors.Is(err, store.ErrExists) {
				return ErrActive
			}
			return err
		}
		if len(same) > 0 { // of which nothing changes: they say that they keep it already
			if err := tx.WantAt(e.ID, same, release, 0, int(rollout.New)); err != nil {
				return err
			}
		}
		words := fmt.Sprintf("%s brings release %d to %s in %s", row.Author, release, words.Many(changing, "gateway", "gateways"), words.Many(len(plan.Rounds), "round", "rounds"))
		if err := tx.NoteRollout(row.ID, now, words); err != nil {
			return err
		}
		out = viewOf(&row)
		return identity.Record(ctx, tx, now, identity.Act{Action: "rollout.start", Estate: e.ID, Object: fmt.Sprintf("rollout %d", row.Number), After: map[string]any{"release": release, "settings": s, "gateways": changing, "rounds": len(plan.Rounds)}})
	})
	return out, err
}

// part tells how many gateways a plan changes, and which it brings to the release although
// nothing of them changes.
func (plan *Stored) part(tx *store.Tx, estate, release uint64) (changing int, same []string, err error) {
	in := map[string]bool{}
	for _, r := range plan.Rounds {
		for _, site := range r.Sites {
			in[site] = true
		}
	}
	live, err := tx.LiveGateways(estate)
	if err != nil {
		return 0, nil, err
	}
	for i := range live {
		g := &live[i]
		switch base := plan.Bases[g.Site]; {
		case base == 0 || g.BarredAt != nil:
		case g.Confirmed != base:
			return 0, nil, fmt.Errorf("%w: %s came to release %d while this was planned", ErrState, g.Site, g.Confirmed)
		case base != release && !in[g.Site]:
			same = append(same, g.Site)
		}
	}
	if len(in)+len(same) == 0 {
		return 0, nil, ErrNothing
	}
	return len(in), same, nil
}

// List lists the rollouts of an estate, newest first.
func (o *Office) List(ctx context.Context, estateKey string) ([]Rollout, error) {
	out := []Rollout{}
	err := o.Store.Snapshot(ctx, func(tx *store.Tx) error {
		out = out[:0]
		e, err := tx.Estate(estateKey, false)
		if err != nil {
			return err
		}
		rows, err := tx.Rollouts(e.ID)
		for i := range rows {
			out = append(out, viewOf(&rows[i]))
		}
		return err
	})
	return out, err
}

// Get returns one.
func (o *Office) Get(ctx context.Context, estateKey string, number uint64) (*RolloutDetail, error) {
	out := &RolloutDetail{}
	err := o.Store.Snapshot(ctx, func(tx *store.Tx) error {
		*out = RolloutDetail{Gateways: []RolloutGateway{}, Notes: []RolloutNote{}}
		e, err := tx.Estate(estateKey, false)
		if err != nil {
			return err
		}
		row, err := tx.Rollout(e.ID, number, false)
		if err != nil {
			return fmt.Errorf("rollout %d: %w", number, err)
		}
		var plan Stored
		if err := errors.Join(json.Unmarshal([]byte(row.Plan), &plan), json.Unmarshal([]byte(row.Proof), &out.Proof)); err != nil {
			return err
		}
		out.Rollout, out.Plan, out.Proof.Keys = viewOf(&row), plan.Plan, nil
		if out.Proof.Differ == nil { // nothing is proven yet
			out.Proof.Differ = []Unexpected{}
		}
		live, err := tx.LiveGateways(e.ID)
		if err != nil {
			return err
		}
		out.Gateways = parts(&row, &plan, live)
		notes, err := tx.RolloutNotes(row.ID)
		for _, n := range notes {
			out.Notes = append(out.Notes, RolloutNote{n.At, n.Words})
		}
		return err
	})
	return out, err
}

// members says how each gateway of a rollout stands.
func parts(row *store.Rollout, plan *Stored, live []store.LiveGateway) (out []RolloutGateway) {
	out = []RolloutGateway{}
	in := map[string]int{}
	for r, round := range plan.Rounds {
		for _, site := range round.Sites {
			if _, there := in[site]; !there {
				in[site] = r
			}
		}
	}
	for i := range live {
		g := &live[i]
		if first, there := in[g.Site]; there {
			m := RolloutGateway{Site: g.Site, Stage: rollout.Stage(g.Stage).String(), State: stateOf(g), Words: g.Words}
			if g.Wanted != row.ReleaseNo || first > row.Round && row.State != Back {
				m.Stage, m.State = rollout.Old.String(), "waiting"
			}
			out = append(out, m)
		}
	}
	return out
}

// stateOf says how bringing a gateway to what it is to be goes.
func stateOf(g *store.LiveGateway) string {
	switch {
	case g.Attempt == g.ConfirmedAttempt:
		return "confirmed"
	case !g.Up:
		return "away"
	case g.Phase == "went-back":
		return "went-back"
	case g.Phase == "failed", g.Phase == "differs", g.Phase == "version":
		return "failed"
	}
	return "bringing"
}

func text(v any) string {
	out, _ := json.Marshal(v) // our own types
	return string(out)
}

// within reports whether rounds may begin at a time of day.
func (s *Settings) within(now time.Time) bool {
	if s.From == "" || s.To == "" {
		return true
	}
	at := now.UTC().Format("15:04")
	if s.From <= s.To {
		return s.From <= at && at < s.To
	}
	return at >= s.From || at < s.To
}

func sitesText(sites []string) string {
	if len(sites) > 5 {
		return fmt.Sprintf("%s and %d more", strings.Join(sites[:5], ", "), len(sites)-5)
	}
	return strings.Join(sites, ", ")
}
