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
	"wideknot/core/outage"
	"wideknot/internal/server/desk"
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

// spare is for how many seconds longer gateways are asked to hold: they are let go when it is time,
// and go on by themselves where no server is left to do it.
const spare = 5

// A Runner goes on with drills, whichever server began them.
type Runner struct {
	Office
	Name string // of this server
	Log  *slog.Logger
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
		err = errors.Join(err, r.goOn(ctx, &rows[i]))
	}
	return err
}

// goOn does the next step of a drill. One that begins is predicted anew: it may have waited for
// months.
func (r *Runner) goOn(ctx context.Context, row *store.Drill) error {
	var fresh *drill.Prediction
	var release uint64
	why := ""
	if row.State == Waiting {
		key := ""
		err := r.Store.Snapshot(ctx, func(tx *store.Tx) error {
			e, err := tx.EstateByID(row.EstateID)
			key = e.Key
			return err
		})
		if err != nil {
			return err
		}
		var refused *identity.Refused
		if fresh, release, err = r.Predict(ctx, key, row.Part); errors.As(err, &refused) {
			why = refused.Text
		} else if err != nil {
			return err
		}
	}
	return r.Store.InTransaction(ctx, func(tx *store.Tx) error {
		t, err := resume(tx, row.EstateID, row.Number, r.Name)
		switch {
		case t == nil || err != nil:
			return err
		case t.row.State == Waiting && t.row.Stops:
			return t.end(Stopped, "")
		case t.row.State == Waiting && why != "":
			return t.end(Failed, "when it was time: "+why)
		case t.row.State == Waiting:
			return t.begin(fresh, release)
		case t.row.State == Beginning:
			return t.beginning()
		case t.row.State == Running, t.row.State == Returning:
			return t.watch()
		}
		return fmt.Errorf("drill %d has the state %q", row.Number, t.row.State)
	})
}

// turn is one step of a drill.
type turn struct {
	tx         *store.Tx
	row        store.Drill
	now        time.Time
	prediction drill.Prediction
	before     map[string][]string // ends that were dead
}

// resume reads a drill, where this server still has it.
func resume(tx *store.Tx, estate, number uint64, server string) (*turn, error) {
	row, err := tx.Drill(estate, number, true)
	if err != nil || row.EndedAt != nil || row.Server != server {
		return nil, err
	}
	t := &turn{tx: tx, row: row}
	if t.now, err = tx.Now(); err != nil {
		return nil, err
	}
	return t, errors.Join(json.Unmarshal([]byte(row.Prediction), &t.prediction), json.Unmarshal([]byte(row.DeadBefore), &t.before))
}

func (t *turn) about(what string) string { return fmt.Sprintf("drill %d %s", t.row.Number, what) }

// begin asks gateways to hold tunnels down, once no other drill of the estate is on its way.
func (t *turn) begin(fresh *drill.Prediction, release uint64) error {
	others, err := t.tx.CountDrills(t.row.EstateID)
	if err != nil || others.Going > 0 {
		return err
	}
	t.prediction = *fresh
	predicted, err := json.Marshal(fresh)
	if err != nil {
		return err
	}
	t.row.Prediction, t.row.ReleaseNo = string(predicted), release
	var refused *identity.Refused
	if err := mayBegin(t.tx, t.row.EstateID, &t.prediction); errors.As(err, &refused) {
		return t.end(Failed, "when it was time: "+refused.Text)
	} else if errors.Is(err, desk.ErrRolling) {
		return t.end(Failed, "when it was time: "+err.Error())
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
			switch one := &s.Tunnels[i]; {
			case !one.Up:
				before[site] = append(before[site], one.Interface)
			case one.Beyond && t.prediction.Degree != outage.Dead:
				return t.end(Failed, "when it was time: "+one.Interface+" of "+site+" was beyond its limits already")
			}
		}
	}
	text, err := json.Marshal(before)
	if err != nil {
		return err
	}
	if err := t.hold(t.row.Seconds + spare); err != nil {
		return err
	}
	t.row.State, t.row.DeadBefore, t.row.BeganAt = Beginning, string(text), &t.now
	return t.tx.SaveDrill(&t.row, "state", "dead_before", "began_at", "prediction", "release_no")
}

// hold asks those gateways that the part is at to hold its tunnels down; or all that have ends of
// them to let them go, and to forget that they were dead, so that the next death is no flapping.
func (t *turn) hold(seconds int) error {
	what := "hold"
	if seconds == 0 {
		what = "let go"
	}
	var rows []store.Ask
	for i := range t.prediction.Sites {
		s := &t.prediction.Sites[i]
		if !s.Holds && seconds > 0 {
			continue
		}
		input, err := json.Marshal(gateway.Hold{Interfaces: s.Ends, As: gateway.HoldAs(t.prediction.Degree), Seconds: seconds})
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
		early := t.row.Stops && t.row.FoundAfter == nil // nothing is said of one that had no time
		if t.row.Words = ""; !seen.Whole() && !early {
			t.row.Words = short("at the end of it " + strings.Join(seen.Wrong, "; "))
		}
		if second > t.row.Seconds+spare {
			t.row.Words = "no server looked at its end"
		}
		t.row.State, t.row.LetGoAt = Returning, &t.now
		err = errors.Join(t.hold(0), t.tx.SaveDrill(&t.row, "state", "words", "let_go_at"))
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

// asked is by how much more where no event tells of it: then a gateway is asked all the same.
const asked = 5

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
	case float64(*t.row.BackAfter) > t.prediction.Return+late+asked:
		return t.end(Differs, fmt.Sprintf("all was back after %d s, and is to be after %.1f s", *t.row.BackAfter, t.prediction.Return))
	}
	return t.end(Proven, "")
}

func (t *turn) end(state, words string) error {
	if t.row.LetGoAt != nil { // now that all is back, that it came back lately is forgotten too
		if err := t.hold(0); err != nil {
			return err
		}
	}
	t.row.State, t.row.Words, t.row.EndedAt = state, short(words), &t.now
	if err := t.tx.SaveDrill(&t.row, "state", "words", "ended_at"); err != nil || t.row.Every == "" || state == Stopped && t.row.BeganAt == nil {
		return err // one that is taken back before it began comes no more
	}
	at := again(t.row.Every, t.row.BeginsAt)
	for !at.After(t.now) { // nobody looked for a long time
		at = again(t.row.Every, at)
	}
	next := store.Drill{
		EstateID: t.row.EstateID, Part: t.row.Part, ReleaseNo: t.row.ReleaseNo, Seconds: t.row.Seconds, BeginsAt: at, Every: t.row.Every,
		State: Waiting, Prediction: t.row.Prediction, DeadBefore: "{}", Author: t.row.Author, MadeAt: t.now,
	}
	return t.tx.AddDrill(&next)
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
