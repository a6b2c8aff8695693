package rollouts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"wideknot/core/rollout"
	"wideknot/core/words"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// Do is what a person may do with a rollout that is on its way.
type Do string

// What a person may do.
const (
	GoOn   Do = "go-on"  // where it waits, or stopped
	Accept Do = "accept" // that something is not as expected, and go on
	Wait   Do = "wait"   // after what is being done now
	Undo   Do = "back"
)

// Decide does it. Going on without gateways that are away says that what they may still use
// is taken away.
func (o *Office) Decide(ctx context.Context, estateKey string, number uint64, do Do, without bool) (Rollout, error) {
	var out Rollout
	err := o.Store.InTransaction(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(estateKey, false)
		if err != nil {
			return err
		}
		row, err := tx.Rollout(e.ID, number, true)
		if err != nil {
			return fmt.Errorf("rollout %d: %w", number, err)
		}
		before := row.State
		now, err := tx.Now()
		if err != nil {
			return err
		}
		var s agreed
		var plan Stored
		if err := errors.Join(json.Unmarshal([]byte(row.Settings), &s), json.Unmarshal([]byte(row.Plan), &plan)); err != nil {
			return err
		}
		said := ""
		switch {
		case do == GoOn && (row.State == Waiting || row.State == Stopped):
			s.Without = s.Without || without
			row.State, row.Words, row.Settings, row.Since, said = Running, "", text(s), now, "goes on"
			switch {
			case before == Stopped && row.Phase == Bringing:
				row.Phase = "" // those that failed are tried again
			case row.Phase == Asking:
				row.Phase = Proving // nobody waits for the former answers
			}
		case do == Accept && row.State == Stopped && row.Phase != Bringing:
			var proof Proof
			if err := json.Unmarshal([]byte(row.Proof), &proof); err != nil {
				return err
			}
			s.Accepted = append(s.Accepted, proof.Keys...)
			row.State, row.Words, row.Settings, row.Since, row.Phase = Running, "", text(s), now, Proving
			said = "goes on: that " + words.Many(len(proof.Keys), "thing is", "things are") + " not as expected is accepted"
		case do == Wait && row.State == Running:
			row.State, row.Words, said = Waiting, "a person lets it wait", "waits"
		case do == Undo && slices.Contains([]string{Running, Waiting, Stopped}, row.State):
			row.State, row.Words, row.Phase, row.Since, said = Back, "", "", now, "is taken back"
			row.Round = min(row.Round, len(plan.Rounds)-1)
		default:
			return fmt.Errorf("%w: it is %s", ErrState, row.State)
		}
		if err := tx.SaveRollout(&row, "state", "words", "settings", "phase", "since", "round"); err != nil {
			return err
		}
		if err := tx.NoteRollout(row.ID, now, identity.ActorOf(ctx).Name+": it "+said); err != nil {
			return err
		}
		out = viewOf(&row)
		return identity.Record(ctx, tx, now, identity.Act{Action: "rollout." + string(do), Estate: e.ID, Object: fmt.Sprintf("rollout %d", number), Before: map[string]any{"state": before}, After: map[string]any{"state": row.State, "round": row.Round}})
	})
	return out, err
}

// leave ends the rollout that is on its way where it is, for an order to take its place; it
// refuses an order that is not to.
func leave(ctx context.Context, tx *store.Tx, estate uint64, order *Order) error {
	row, err := tx.ActiveRollout(estate, true)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil
	case err == nil && !order.Instead:
		return ErrActive
	case err == nil:
		err = mayLeave(tx, &row)
	}
	if err != nil {
		return err
	}
	now, err := tx.Now()
	if err != nil {
		return err
	}
	said := fmt.Sprintf("release %d takes its place", order.Release)
	row.State, row.Words, row.Active, row.EndedAt, row.Phase = Left, said, nil, &now, ""
	if err := tx.SaveRollout(&row, "state", "words", "active", "ended_at", "phase"); err != nil {
		return err
	}
	if err := tx.NoteRollout(row.ID, now, identity.ActorOf(ctx).Name+": it ends here, "+said); err != nil {
		return err
	}
	return identity.Record(ctx, tx, now, identity.Act{Action: "rollout." + Left, Estate: estate, Object: fmt.Sprintf("rollout %d", row.Number), After: map[string]any{"release": order.Release}})
}

// mayLeave reports why another rollout cannot take the place of one. No gateway may stand
// between two releases: from there only that rollout knows the way.
func mayLeave(tx *store.Tx, row *store.Rollout) error {
	if row.State != Waiting && row.State != Stopped {
		return fmt.Errorf("%w: let rollout %d wait first; it is %s", ErrState, row.Number, row.State)
	}
	live, err := tx.LiveGateways(row.EstateID)
	if err != nil {
		return err
	}
	for i := range live {
		g := &live[i]
		switch s := rollout.Stage(g.Stage); {
		case g.Wanted != row.ReleaseNo || g.BarredAt != nil:
		case s == rollout.Widened || s == rollout.Sending:
			return fmt.Errorf("%w: %s stands between two releases (%v); let rollout %d end, or take it back", ErrState, g.Site, s, row.Number)
		case stateOf(g) == "bringing" || stateOf(g) == "away":
			return fmt.Errorf("%w: %s is being brought to release %d; wait until it said how that ended", ErrState, g.Site, g.Wanted)
		}
	}
	return nil
}
