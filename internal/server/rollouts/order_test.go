package rollouts

import (
	"context"
	"errors"
	"testing"
	"time"

	"wideknot/core/sample"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/store"
)

// A rollout that begins right after another has ended waits until gateways that have the same
// configuration under the new number have said so; it does not wait for long.
func TestPlanWaitsForTheLastToSettle(t *testing.T) {
	t.Parallel()
	db, _, d, key, release := released(t)
	ctx := context.Background()
	e, err := sample.Estate(sample.Options{Sites: 3, Links: 1, Hubs: 1, Seed: 1})
	if err != nil {
		t.Fatal(err)
	}
	release(e)
	site := e.Sites[1].Key
	row := store.Gateway{Site: site, KeyDigest: make([]byte, 32), ExpiresAt: time.Now(), JoinedAt: time.Now(), Wanted: 1, Confirmed: 1, Attempt: 2, ConfirmedAttempt: 1, Refusals: "{}"}
	err = db.InTransaction(ctx, func(tx *store.Tx) error {
		found, err := tx.Estate(key, false)
		if err != nil {
			return err
		}
		row.EstateID = found.ID
		if err := tx.PutGateway(&row); err != nil {
			return err
		}
		if err := tx.ServerLives("one", true); err != nil {
			return err
		}
		_, err = tx.TakeLine(row.EstateID, site, "one")
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	o := New(db, d)
	o.settle = 50 * time.Millisecond
	if _, err := o.Plan(ctx, key, Order{Release: 1}); !errors.Is(err, desk.ErrRolling) {
		t.Errorf("a gateway that never says so: %v", err)
	}
	o.settle = time.Minute
	said := time.AfterFunc(200*time.Millisecond, func() {
		row.ConfirmedAttempt = 2
		if err := db.InTransaction(ctx, func(tx *store.Tx) error { return tx.SaveGateway(&row, "confirmed_attempt") }); err != nil {
			t.Error(err)
		}
	})
	defer said.Stop()
	if _, err := o.Plan(ctx, key, Order{Release: 1}); err != nil {
		t.Errorf("one that says so a moment later: %v", err)
	}
}
