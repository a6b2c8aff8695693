package series

import (
	"context"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/server/store"
)

// promised is how much room 90 days of a thousand gateways with 18 tunnels each may take
// (operating.md, 7), in bytes.
const promised = 36e9

// A whole day of each tier, of some gateways that measure at one time, is written as it comes and
// weighed on the disk; what a thousand take in 90 days follows from how many days each tier keeps.
func TestNinetyDaysFit(t *testing.T) {
	if testing.Short() {
		t.Skip("it writes 250,000 rows: it is run by itself, with the whole")
	}
	db, access, estate := opened(t)
	const tunnels = 18
	random := rand.New(rand.NewPCG(19, 2))
	k := &Keeper{Store: db}
	yesterday := time.Now().UTC().Truncate(24*time.Hour).AddDate(0, 0, -1)
	var total float64
	for i, gateways := range []int{16, 60, 300} {
		tier := &store.Tiers[i]
		empty := size(t, access, tier)
		rows := 24 * 3600 / tier.Seconds
		for n := range rows {
			at := yesterday.Add(time.Duration(n*tier.Seconds) * time.Second)
			var batches []Batch
			for g := range gateways {
				batches = append(batches, Batch{estate, fmt.Sprint("site", g), time.Now(), []gateway.Sample{measured(random, at, tier.Seconds, tunnels)}, moment(time.Now())})
			}
			random.Shuffle(gateways, func(a, b int) { batches[a], batches[b] = batches[b], batches[a] })
			if err := k.Keep(context.Background(), batches); err != nil {
				t.Fatal(err)
			}
		}
		each := float64(size(t, access, tier)-empty) / float64(rows*gateways)
		kept := float64(tier.Days*rows) * 1000
		t.Logf("rows of %d s: %.0f bytes each, %.1f million kept, %.1f GB", tier.Seconds, each, kept/1e6, each*kept/1e9)
		total += each * kept
	}
	if t.Logf("%.1f GB in all", total/1e9); total > promised {
		t.Errorf("%.1f GB are more than %.1f", total/1e9, promised/1e9)
	}
}

func size(t *testing.T, access store.Access, tier *store.Tier) int64 {
	bytes, err := store.SizeOf(access, tier)
	if err != nil {
		t.Fatal(err)
	}
	return bytes
}

func BenchmarkReadAnyPlot(b *testing.B) {
	db, _, estate := opened(b)
	ctx := context.Background()
	random := rand.New(rand.NewPCG(19, 3))
	k := &Keeper{Store: db}
	now := time.Now().UTC().Truncate(15 * time.Minute)
	for i := range store.Tiers {
		tier := &store.Tiers[i]
		step := time.Duration(tier.Seconds) * time.Second
		rows := min(tier.Days*24*3600/tier.Seconds, 9000)
		for n := 0; n < rows; n += 50 {
			batch := Batch{Estate: estate, Site: "tarn", Came: now, Now: moment(now)}
			for m := range 50 {
				batch.List = append(batch.List, measured(random, now.Add(-time.Duration(rows-n-m)*step), tier.Seconds, 32))
			}
			if err := k.Keep(ctx, []Batch{batch}); err != nil {
				b.Fatal(err)
			}
		}
	}
	for name, span := range map[string]time.Duration{"hour": time.Hour, "day": 24 * time.Hour, "90 days": 90 * 24 * time.Hour} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if s, err := Read(ctx, db, estate, Query{Site: "tarn", Interface: "far3-7", From: now.Add(-span), To: now}); err != nil || len(s.At) < 300 {
					b.Fatal(len(s.At), err)
				}
			}
		})
	}
}
