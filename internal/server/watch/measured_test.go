package watch

import (
	"context"
	"database/sql"
	"slices"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/offer"
	"wideknot/internal/server/desk"
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
	w.measuredIsOffered()
}

// measuredIsOffered lets a gateway have measured more than the survey says, and takes that.
func (w *works) measuredIsOffered() {
	w.t.Helper()
	ctx := context.Background()
	now := time.Now().UTC().Truncate(15 * time.Minute)
	moment := func(at time.Time) gateway.Time { return gateway.Time(at.UTC().Format(time.RFC3339)) }
	b := series.Batch{Estate: w.row.ID, Site: "tarn", Came: time.Now(), Now: moment(time.Now())}
	for i := range 8 {
		b.List = append(b.List, gateway.Sample{
			At: moment(now.Add(-time.Duration(i+8) * 15 * time.Minute)), Seconds: 900, Digest: "d",
			Tunnels: []gateway.TunnelSample{{Interface: "first-1", Probes: 1800, LatencyUs: 80_000}, {Interface: "second-2", Probes: 1800, LatencyUs: 80_000}},
		})
	}
	if err := (&series.Keeper{Store: w.db}).Keep(ctx, []series.Batch{b}); err != nil {
		w.t.Fatal(err)
	}
	order := desk.At(w.key, desk.First)
	view, list, err := w.desk.Offers(ctx, order.Place, "tarn")
	if err != nil || len(list) != 1 {
		w.t.Fatal(list, err)
	}
	const id = "link:fibre:latency"
	at := slices.IndexFunc(list[0].Offers, func(o offer.Item) bool { return o.ID == id })
	if at < 0 || !list[0].Offers[at].Open() {
		w.t.Fatalf("%+v", list[0].Offers)
	}
	before := view.Estate.Site("tarn").Links[0].LatencyMs
	if view, err = w.desk.TakeOffers(ctx, order, "tarn", []string{id}); err != nil {
		w.t.Fatal(err)
	}
	if is := view.Estate.Site("tarn").Links[0].LatencyMs; is < 60 || is == before {
		w.t.Errorf("latency was %v and is %v", before, is)
	}
	if _, list, err = w.desk.Offers(ctx, order.Place, "tarn"); err != nil || list[0].Offers[at].Open() {
		w.t.Errorf("it is offered still: %+v, %v", list[0].Offers[at], err)
	}
}
