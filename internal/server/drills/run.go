package drills

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"wideknot/core/drill"
	"wideknot/core/gateway"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
	"wideknot/internal/server/turns"
)

// How a drill goes on: how often, how long gateways may take to begin, in seconds, and how much
// longer than predicted tunnels may take to be back.
const (
	turnEvery   = time.Second
	beginWithin = 15
	lateBack    = 30 * time.Second
)

// A Runner goes on with drills, whichever server began them.
type Runner struct {
	Store *store.Store
	Name  string // of this server
	Log   *slog.Logger
}

// Run goes on with drills until the context ends.
func (r *Runner) Run(ctx context.Context) {
	turns.Take(ctx, turnEvery, r.Log, "going on with drills", r.turn)
}

func (r *Runner) turn(ctx context.Context) error {
	var rows []store.Drill
	err := r.Store.InTransaction(ctx, func(tx *store.Tx) (err error) {
		rows, err = tx.LeaseDrills(r.Name)
		return err
	})
	for i := range rows {
		err = errors.Join(err, r.Store.InTransaction(ctx, func(tx *store.Tx) error { return goOn(tx, rows[i].EstateID, rows[i].Number, r.Name) }))
	}
	return err
}

// turn is one step of a drill.
type turn struct {
	tx         *store.Tx
	row        store.Drill
	now        time.Time
	prediction drill.Prediction
	before     map[string][]string // ends that were dead
}

// goOn does the next step of a drill, where this server still has it.
func goOn(tx *store.Tx, estate, number uint64, server string) error {
	row, err := tx.Drill(estate, number, true)
	if err != nil || row.EndedAt != nil || row.Server != server {
		return err
	}
	t := &turn{tx: tx, row: row}
	if t.now, err = tx.Now(); err != nil {
		return err
	}
	if err := errors.Join(json.Unmarshal([]byte(row.Prediction), &t.prediction), json.Unmarshal([]byte(row.DeadBefore), &t.before)); err != nil {
		return err
	}
	switch row.State {
	case Waiting:
		return t.begin()
	case Beginning:
		return t.beginning()
	case Running, Returning:
		return t.watch()
	}
	return fmt.Errorf("drill %d has the state %q", number, row.State)
}

func (t *turn) about(what string) string { return fmt.Sprintf("drill %d %s", t.row.Number, what) }

// begin asks gateways to hold tunnels down.
func (t *turn) begin() error {
	var refused *identity.Refused
	if err := mayBegin(t.tx, t.row.EstateID, &t.prediction); errors.As(err, &refused) {
		return t.end(Failed, "when it was time: "+refused.Text)
	} else if err != nil {
		return err
	}
	states, err := t.states()
	if err != nil {
		return err
	}
	before := map[string][]string{}
	for site, s := range states {
		for i := range s.Tunnels {
			if !s.Tunnels[i].Up {
				before[site] = append(before[site], s.Tunnels[i].Interface)
			}
		}
	}
	text, err := json.Marshal(before)
	if err != nil {
		return err
	}
	if err := t.hold(t.row.Seconds); err != nil {
		return err
	}
	t.row.State, t.row.DeadBefore, t.row.BeganAt = Beginning, string(text), &t.now
	return t.tx.SaveDrill(&t.row, "state", "dead_before", "began_at")
}

// hold asks those gateways that the part is at to hold its tunnels down, or to let them go.
func (t *turn) hold(seconds int) error {
	what := "hold"
	if seconds == 0 {
		what = "let go"
	}
	var rows []store.Ask
	for i := range t.prediction.Sites {
		s := &t.prediction.Sites[i]
		if !s.Holds {
			continue
		}
		input, err := json.Marshal(gateway.Hold{Interfaces: s.Ends, Seconds: seconds})
		if err != nil {
			return err
		}
		rows = append(rows, store.Ask{EstateID: t.row.EstateID, Site: s.Key, About: t.about(what), Operation: store.AskHold, Input: string(input)})
	}
	return t.tx.AddAsks(rows, beginWithin)
}

// beginning waits until all hold.
func (t *turn) beginning() error {
	rows, err := t.tx.AsksAbout(t.row.EstateID, t.about("hold"))
	if err != nil {
		return err
	}
	open := slices.ContainsFunc(rows, func(a store.Ask) bool { return a.AnsweredAt == nil })
	if open && t.now.Sub(*t.row.BeganAt) < beginWithin*time.Second {
		return nil
	}
	for i := range rows {
		if rows[i].Output == nil {
			words := rows[i].Words
			if words == "" {
				words = "it did not answer in time"
			}
			return errors.Join(t.hold(0), t.end(Failed, rows[i].Site+" does not hold its tunnels down: "+words))
		}
	}
	if err := t.tx.DropAsks(t.row.EstateID, t.about("hold")); err != nil {
		return err
	}
	t.row.State, t.row.BeganAt = Running, &t.now
	return t.tx.SaveDrill(&t.row, "state", "began_at")
}

// watch notes what is seen, and ends it when all is back, or should be.
func (t *turn) watch() error {
	states, err := t.states()
	if err != nil {
		return err
	}
	second := int(t.now.Sub(*t.row.BeganAt).Seconds())
	held := t.row.State == Running
	seen := t.prediction.As(held, states, t.before)
	text, err := json.Marshal(&seen)
	if err != nil {
		return err
	}
	if err := t.tx.AddDrillPoint(&store.DrillPoint{EstateID: t.row.EstateID, Number: t.row.Number, Second: second, Seen: string(text)}); err != nil {
		return err
	}
	switch {
	case held && seen.Whole() && t.row.FoundAfter == nil:
		t.row.FoundAfter = &second
		err = t.tx.SaveDrill(&t.row, "found_after")
	case held && (t.row.Stops || second >= t.row.Seconds):
		if t.row.Words = ""; !seen.Whole() {
			t.row.Words = short("at the end of it " + strings.Join(seen.Wrong, "; "))
		}
		if t.row.Stops {
			err = t.hold(0)
		}
		t.row.State, t.row.LetGoAt = Returning, &t.now
		err = errors.Join(err, t.tx.SaveDrill(&t.row, "state", "words", "let_go_at"))
	case !held && seen.Whole():
		after := int(t.now.Sub(*t.row.LetGoAt).Seconds())
		t.row.BackAfter = &after
		if err = t.tx.SaveDrill(&t.row, "back_after"); err == nil {
			err = t.judge()
		}
	case !held && t.now.Sub(*t.row.LetGoAt) > time.Duration(t.prediction.Return*float64(time.Second))+lateBack:
		err = t.end(Differs, "it was let go, and is not back as it was: "+strings.Join(seen.Wrong, "; "))
	}
	return err
}

// late is by how many seconds what gateways report may be behind what is: a report comes within one,
// and it is looked at each.
const late = 4

// judge says how it was, once all is back.
func (t *turn) judge() error {
	switch {
	case t.row.Words != "":
		return t.end(Differs, t.row.Words)
	case t.row.Stops && t.row.FoundAfter == nil:
		return t.end(Stopped, "it was stopped before all was as predicted")
	case t.row.FoundAfter == nil:
		return t.end(Differs, "never was all as predicted")
	case float64(*t.row.FoundAfter) > t.prediction.Detect+late:
		return t.end(Differs, fmt.Sprintf("all was as predicted after %d s, and is to be after %.1f s", *t.row.FoundAfter, t.prediction.Detect))
	case float64(*t.row.BackAfter) > t.prediction.Return+late:
		return t.end(Differs, fmt.Sprintf("all was back after %d s, and is to be after %.1f s", *t.row.BackAfter, t.prediction.Return))
	}
	return t.end(Proven, "")
}

func (t *turn) end(state, words string) error {
	t.row.State, t.row.Words, t.row.EndedAt = state, short(words), &t.now
	return t.tx.SaveDrill(&t.row, "state", "words", "ended_at")
}

// states are what the gateways report of whom the prediction tells.
func (t *turn) states() (map[string]*gateway.State, error) {
	sites := make([]string, len(t.prediction.Sites))
	for i := range t.prediction.Sites {
		sites[i] = t.prediction.Sites[i].Key
	}
	texts, err := t.tx.GatewayStatesOf(t.row.EstateID, sites)
	if err != nil {
		return nil, err
	}
	out := make(map[string]*gateway.State, len(texts))
	for site, text := range texts {
		if s, err := gateway.ParseState([]byte(text)); err == nil { // what cannot be read is not heard
			out[site] = s
		}
	}
	return out, nil
}

// short keeps words within what a row holds.
func short(words string) string {
	const most = 990
	if len(words) <= most {
		return words
	}
	return strings.ToValidUTF8(words[:most], "") + " …"
}
