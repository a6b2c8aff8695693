package store

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"
)

// The account that serves makes room for samples day by day, and lets go of what is too old; in
// no other table.
func TestRoomForSamples(t *testing.T) {
	db, _ := Testing(t)
	ctx := context.Background()
	start := time.Date(2026, 12, 1, 15, 0, 0, 0, time.UTC)
	days := func(table string) (out []string) {
		if err := db.db.Raw("SELECT PARTITION_NAME FROM information_schema.PARTITIONS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ? ORDER BY PARTITION_ORDINAL_POSITION", table).Scan(&out).Error; err != nil {
			t.Fatal(err)
		}
		return out
	}
	put := func(tier int, at time.Time) error {
		return db.InTransaction(ctx, func(tx *Tx) error {
			return tx.AddSamples(&Tiers[tier], []Sample{{Layout: 1, At: at.Unix(), Data: []byte{1}}, {Layout: 1, At: at.Unix(), Data: []byte{2}}})
		})
	}
	var kept [len(Tiers)][]Sample
	for day := range 100 {
		now := start.AddDate(0, 0, day)
		for range 2 {
			if err := db.KeepSamples(ctx, now); err != nil {
				t.Fatal(err)
			}
		}
		for tier := range Tiers {
			if err := put(tier, now); err != nil {
				t.Fatal(err)
			}
		}
	}
	last := start.AddDate(0, 0, 99)
	err := db.Snapshot(ctx, func(tx *Tx) (err error) {
		for tier := range Tiers {
			if kept[tier], err = tx.Samples(&Tiers[tier], []uint64{1, 2}, 0, last.Unix()+1); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for tier, rows := range kept {
		if want := Tiers[tier].Days + 1; len(rows) != want || rows[0].Data[0] != 1 || rows[0].At != last.AddDate(0, 0, -Tiers[tier].Days).Unix() {
			t.Errorf("tier %d has %d days, not %d", tier, len(rows), want)
		}
	}
	if got, ahead := days("samples_10s"), last.AddDate(0, 0, 3).Format("d20060102"); len(got) != 3+1+3 || got[len(got)-1] != ahead {
		t.Errorf("%q, and not up to %s", got, ahead)
	}
	// After a pause longer than anything is kept it goes on.
	later := last.AddDate(1, 0, 0)
	for range 2 {
		if err := db.KeepSamples(ctx, later); err != nil {
			t.Fatal(err)
		}
	}
	if err := put(2, later); err != nil {
		t.Fatal(err)
	}
	if got := days("samples_15m"); slices.Contains(got, last.Format("d20060102")) || len(got) > 6 {
		t.Errorf("%q after a year", got)
	}
}

// Two servers that make room at one time do not disturb each other.
func TestRoomMadeTwice(t *testing.T) {
	db, _ := Testing(t)
	ended := make(chan error)
	for range 4 {
		go func() { ended <- db.KeepSamples(context.Background(), time.Now()) }()
	}
	for range 4 {
		if err := <-ended; err != nil {
			t.Error(err)
		}
	}
}

// A layout is kept once, whoever writes it, and forgotten when nothing of it is left.
func TestLayoutsAreKeptOnce(t *testing.T) {
	db, _ := Testing(t)
	ctx := context.Background()
	now := time.Now().UTC()
	hash := make([]byte, 32)
	if err := db.KeepSamples(ctx, now); err != nil {
		t.Fatal(err)
	}
	var ids []uint64
	err := db.InTransaction(ctx, func(tx *Tx) error {
		if err := tx.AddEstate(&Estate{Key: "e", CreatedAt: now}); err != nil {
			return err
		}
		e, err := tx.Estate("e", false)
		for i := range 3 {
			row := SampleLayout{EstateID: e.ID, Site: "tarn", Hash: hash, Names: fmt.Sprintf(`{"digest":"%d"}`, i), MadeAt: now.AddDate(0, 0, -100)}
			if err := tx.PutSampleLayout(&row); err != nil {
				return err
			}
			ids = append(ids, row.ID)
		}
		return err
	})
	if err != nil || ids[0] == 0 || ids[1] != ids[0] || ids[2] != ids[0] {
		t.Fatal(ids, err)
	}
	layouts := func() int {
		if err := db.KeepSamples(ctx, now); err != nil {
			t.Fatal(err)
		}
		var rows []SampleLayout
		if err := db.Snapshot(ctx, func(tx *Tx) (err error) { rows, err = tx.SampleLayouts(1, "tarn"); return err }); err != nil {
			t.Fatal(err)
		}
		return len(rows)
	}
	if err := db.InTransaction(ctx, func(tx *Tx) error { return tx.AddSamples(&Tiers[1], []Sample{{ids[0], now.Unix(), []byte{1}}}) }); err != nil {
		t.Fatal(err)
	}
	if n := layouts(); n != 1 {
		t.Errorf("%d layouts while there are rows", n)
	}
	if err := db.db.Exec("TRUNCATE samples_1m").Error; err != nil {
		t.Fatal(err)
	}
	if n := layouts(); n != 0 {
		t.Errorf("%d layouts when there are no rows", n)
	}
}
