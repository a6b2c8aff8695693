package watch

import (
	"context"
	"database/sql"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/internal/server/series"
)

// What gateways measure is in the database soon; what they measure while that is away is there
// when it is back.
func TestWhatIsMeasuredIsKept(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 1, func(e *estate.Estate) {
		e.Overlays[0].Probe = &estate.Probe{Target: estate.FarEnd, IntervalMs: 500, TimeoutMs: 400, Misses: 3, Successes: 3}
	})
	w.stand()
	w.eventually("release 1 confirmed everywhere", 60*time.Second, w.allConfirmed(1))
	read := func() *series.Series {
		t.Helper()
		now := time.Now()
		s, err := series.Read(context.Background(), w.db, w.row.ID, series.Query{Site: "tarn", Interface: "first-1", From: now.Add(-time.Hour), To: now.Add(time.Minute)})
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	probed := func(s *series.Series, since time.Time) (rows int) {
		for i, at := range s.At {
			if s.Columns[0].Values[i] != nil && time.Unix(at, 0).After(since) {
				rows++
			}
		}
		return rows
	}
	wait := func(what string, within time.Duration, is func() bool) {
		t.Helper()
		for until := time.Now().Add(within); !is(); time.Sleep(200 * time.Millisecond) {
			if time.Now().After(until) {
				t.Fatalf("not %s within %v: %+v", what, within, read())
			}
		}
	}
	wait("a row with probes", 60*time.Second, func() bool { return probed(read(), time.Time{}) > 0 })
	admin, err := sql.Open("mysql", w.access.Admin)
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close()
	rename := func(from, to string) {
		t.Helper()
		if _, err := admin.Exec("RENAME TABLE " + from + " TO " + to); err != nil {
			t.Fatal(err)
		}
	}
	away := time.Now()
	rename("samples_10s", "hidden")
	time.Sleep(35 * time.Second)
	rename("hidden", "samples_10s")
	back := time.Now()
	wait("caught up", 40*time.Second, func() bool {
		rows := 0
		for _, at := range read().At {
			if began := time.Unix(at, 0); began.After(away) && began.Before(back.Add(-10*time.Second)) {
				rows++
			}
		}
		return rows >= 2
	})
	// What carried the pair is told from the same.
	target, err := w.desk.Target(context.Background(), w.key, "weir")
	if err != nil {
		t.Fatal(err)
	}
	got, err := series.ReadPair(context.Background(), w.db, w.row.ID, series.PairQuery{
		Site: "tarn", Other: "weir", Target: target, From: away.Add(-time.Minute), To: time.Now(),
		Ran: func(site, digest string) (*gateway.Config, error) {
			return w.desk.RanAt(context.Background(), w.key, site, digest)
		},
	})
	if err != nil || len(got.Legs) != 2 || got.Legs[0].Site != "tarn" || got.Legs[1].Site != "first" || len(got.Legs[0].Bands) == 0 {
		t.Fatalf("%+v, %v", got, err)
	}
	if last := got.Legs[0].Bands[len(got.Legs[0].Bands)-1]; last.State != "first" || len(last.Tunnels) != 1 {
		t.Errorf("%+v", last)
	}
}
