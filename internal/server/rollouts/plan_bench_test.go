package rollouts

import (
	"context"
	"testing"
	"time"

	"wideknot/core/sample"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/store"
)

// BenchmarkPlan plans a rollout at 1,000 sites with 3 links each of which one hub's order
// changed for all, from the database on; nothing of it is known from before.
func BenchmarkPlan(b *testing.B) {
	db, sealer, d, key, release := released(b)
	ctx := context.Background()
	first, err := sample.Estate(sample.Options{Sites: 1000, Links: 3, Hubs: 3, Seed: 1})
	if err != nil {
		b.Fatal(err)
	}
	release(first)
	view, err := d.View(ctx, desk.Place{Estate: key, Draft: desk.First})
	if err != nil {
		b.Fatal(err)
	}
	second := view.Estate.Clone()
	hubs := second.Overlays[0].Hubs
	hubs[0], hubs[1] = hubs[1], hubs[0]
	release(second)
	err = db.InTransaction(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(key, false)
		for i := range second.Sites {
			if err == nil {
				err = tx.PutGateway(&store.Gateway{EstateID: e.ID, Site: second.Sites[i].Key, KeyDigest: make([]byte, 32), ExpiresAt: time.Now(), JoinedAt: time.Now(), Wanted: 1, Confirmed: 1, Refusals: "{}"})
			}
		}
		return err
	})
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		b.StopTimer()
		again := desk.New(db, sealer)
		o := New(db, again)
		b.StartTimer()
		plan, err := o.Plan(ctx, key, Order{Release: 2})
		if err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(float64(len(plan.Rounds)), "rounds")
		b.StopTimer()
		again.Close()
		b.StartTimer()
	}
}
