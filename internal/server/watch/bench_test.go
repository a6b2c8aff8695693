package watch

import (
	"context"
	"errors"
	"slices"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/offer"
	"wideknot/internal/fleet"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/store"
)

// A tunnel is loaded from both ends, one after the other; what a circuit bears less than the survey
// says is offered to that.
func TestATunnelIsTried(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 1, func(e *estate.Estate) {
		e.Overlays[0].Probe = &estate.Probe{Target: estate.FarEnd, IntervalMs: 1000, TimeoutMs: 800, Misses: 4, Successes: 2}
		for i := range e.Sites {
			e.Sites[i].Links[0].UpMbps, e.Sites[i].Links[0].DownMbps = 4, 4
		}
	})
	world := w.stand()
	ctx := context.Background()
	w.eventually("release 1 confirmed everywhere, all alive", 60*time.Second, func(rows map[string]desk.GatewayRow) bool {
		for _, r := range rows {
			if r.Dead > 0 {
				return false
			}
		}
		return w.allConfirmed(1)(rows)
	})
	if err := world.Do(fleet.Change{Do: "like", Site: "tarn", Link: "fibre", UpMbps: new(1.0)}); err != nil {
		t.Fatal(err)
	}
	time.Sleep(5 * time.Second) // until probes were answered both ways
	b, err := w.desk.BenchOf(ctx, w.key, "tarn", "first-1")
	if err != nil || b.Ends[1].Site != "first" || b.Ends[1].Interface != "tarn-2" || b.Ends[0].Kbps != 3643 || b.Ends[1].Kbps != 3643 {
		t.Fatalf("%+v, %v", b, err)
	}
	go func() {
		time.Sleep(500 * time.Millisecond)
		other, err := w.desk.BenchOf(ctx, w.key, "tarn", "second-2")
		if err == nil {
			_, err = w.desk.Bench(ctx, other)
		}
		if !errors.Is(err, desk.ErrBenching) {
			t.Errorf("a second one beside it: %v", err)
		}
	}()
	runs, err := w.desk.Bench(ctx, b)
	if err != nil {
		t.Fatal(err)
	}
	// How much exactly is for the stand-ins' own test: this one may share its cores with others.
	if up := runs[0]; !up.Limit || up.LinkMbps <= 0 || up.LinkMbps > 1.3 || up.ID == 0 || up.Words != "" {
		t.Errorf("up: %+v", up)
	}
	if down := runs[1]; down.LinkMbps <= 0 || down.Words != "" {
		t.Errorf("down: %+v", down)
	}
	for _, site := range []string{"tarn", "first"} {
		if list, err := w.desk.Benches(ctx, w.key, site, 1); err != nil || len(list) != 2 || list[1].Site != "tarn" || len(list[1].Steps) == 0 {
			t.Errorf("of %s: %+v, %v", site, list, err)
		}
	}
	_, list, err := w.desk.Offers(ctx, desk.At(w.key, desk.First).Place, "tarn")
	if err != nil || !slices.ContainsFunc(list[0].Offers, func(o offer.Item) bool { return o.ID == "link:fibre:up-rate" && o.Differs }) {
		t.Errorf("%+v, %v", list, err)
	}
	peer, err := w.desk.PeerOf(ctx, w.key, "tarn", "first-1")
	if err != nil || peer != "first" {
		t.Errorf("the far end of first-1 is %q, %v", peer, err)
	}
	for _, reset := range []gateway.Reset{"", gateway.ResetFlows, gateway.ResetKeys} {
		is, err := w.desk.Sessions(ctx, w.key, "tarn", peer, gateway.SessionsOrder{Interface: "first-1", Reset: reset})
		if err != nil || len(is.Keys) != 1 || is.Keys[0].BytesIn == 0 || is.Reset != reset {
			t.Errorf("sessions, reset %q: %+v, %v", reset, is, err)
		}
	}
	if _, err := w.desk.Sessions(ctx, w.key, "tarn", peer, gateway.SessionsOrder{Interface: "nowhere-9"}); err == nil {
		t.Error("a tunnel that is not there has sessions")
	}
	var acts []string
	if err := w.db.Snapshot(ctx, func(tx *store.Tx) error {
		acts = acts[:0]
		rows, err := tx.Records(store.RecordFilter{Estate: w.row.ID, Limit: 50})
		for i := range rows {
			acts = append(acts, rows[i].Action)
		}
		return err
	}); err != nil || !slices.Contains(acts, "sessions.list") || !slices.Contains(acts, "sessions.reset") {
		t.Errorf("the audit has %v, %v", acts, err)
	}
	if _, err := w.desk.BenchOf(ctx, w.key, "tarn", "nowhere-9"); err == nil {
		t.Error("a tunnel that is not there is found")
	}
}
