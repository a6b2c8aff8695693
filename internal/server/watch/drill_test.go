package watch

import (
	"context"
	"errors"
	"log/slog"
	"strings"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/internal/fleet"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/drills"
	"wideknot/internal/server/events"
)

// A circuit's death is rehearsed: gateways find it dead and move, as predicted, and are back by
// themselves whoever went on with it. One that goes otherwise is told so.
func TestADrillIsAsPredicted(t *testing.T) { // beside others it would take their time, which it measures
	w := opened(t, "three-sites", 1, func(e *estate.Estate) {
		e.Overlays[0].Probe = &estate.Probe{Target: estate.FarEnd, IntervalMs: 500, TimeoutMs: 400, Misses: 3, Successes: 3}
	})
	world := w.stand()
	ctx := context.Background()
	w.eventually("all alive", 60*time.Second, w.allAlive)
	office := &drills.Office{Store: w.db, Desk: w.desk}
	order := drills.Order{Part: "link:withybrook/fibre", Seconds: 8}
	if _, err := office.Start(ctx, w.key, order); err == nil || !strings.Contains(err.Error(), "window") {
		t.Errorf("without a window: %v", err)
	}
	if _, err := events.AddWindow(ctx, w.db, w.row.ID, events.Window{BeginsAt: time.Now().Add(-time.Minute), Minutes: 60}); err != nil {
		t.Fatal(err)
	}
	run := func(name string) (kill func()) {
		r := &drills.Runner{Office: drills.Office{Store: w.db, Desk: w.desk}, Name: name, Log: slog.New(slog.DiscardHandler)}
		running, stop := context.WithCancel(ctx)
		ended := make(chan struct{})
		go func() { r.Run(running); close(ended) }()
		kill = func() { stop(); <-ended }
		t.Cleanup(kill)
		return kill
	}
	drill := func(order drills.Order, meanwhile func(d *drills.Detail)) *drills.Detail {
		t.Helper()
		d, err := office.Start(ctx, w.key, order)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := office.Start(ctx, w.key, order); !errors.Is(err, drills.ErrOpen) {
			t.Errorf("a second one beside it: %v", err)
		}
		for until := time.Now().Add(2 * time.Minute); ; time.Sleep(300 * time.Millisecond) {
			is, err := office.Get(ctx, w.key, d.Number)
			if err != nil {
				t.Fatal(err)
			}
			if meanwhile(is); is.EndedAt != nil {
				return is
			}
			if time.Now().After(until) {
				t.Fatalf("it is not over: %+v", is)
			}
		}
	}
	kill, killed := run("one"), false
	d := drill(order, func(d *drills.Detail) {
		if d.State == drills.Running && !killed && len(d.Points) > 1 {
			killed = true
			kill()
			run("two")
		}
	})
	if d.State != drills.Proven || !killed || d.FoundAfter == nil || d.BackAfter == nil || len(d.Points) < 6 || d.Prediction.Tunnels == 0 {
		t.Errorf("%s %s, killed %v, found after %v, back after %v: %+v", d.State, d.Words, killed, d.FoundAfter, d.BackAfter, d.Points)
	}
	// While it is held down something else dies.
	cut := false
	d = drill(order, func(d *drills.Detail) {
		if d.State == drills.Running && !cut {
			cut = true
			if err := world.Do(fleet.Change{Do: "cut", Site: "stonebeck", Link: "cell"}); err != nil {
				t.Error(err)
			}
		}
		if d.State == drills.Returning && cut {
			if err := world.Do(fleet.Change{Do: "restore", Site: "stonebeck", Link: "cell"}); err != nil {
				t.Error(err)
			}
		}
	})
	if d.State != drills.Differs || d.Words == "" {
		t.Errorf("something else was dead: %s %q", d.State, d.Words)
	}
	// One that is stopped lets go at once.
	order.Seconds = 600
	began := time.Now()
	d = drill(order, func(d *drills.Detail) {
		if d.State == drills.Running {
			if err := office.Stop(ctx, w.key, d.Number); err != nil {
				t.Error(err)
			}
		}
	})
	if took := time.Since(began); took > time.Minute || d.State != drills.Stopped && d.State != drills.Proven { // it may have been found by then
		t.Errorf("stopped after %v: %s %s", took, d.State, d.Words)
	}
	// One that waits for its time comes again, until it is taken back.
	order.Seconds, order.BeginsAt, order.Every = 8, time.Now().Add(2*time.Second), "month"
	d = drillLater(t, office, w.key, order)
	if d.State != drills.Proven {
		t.Errorf("at its time: %s %s", d.State, d.Words)
	}
	list, err := office.List(ctx, w.key)
	if err != nil || len(list) != 5 || list[0].State != drills.Waiting || !list[0].BeginsAt.Equal(d.BeginsAt.AddDate(0, 1, 0)) {
		t.Fatalf("it does not come again: %+v, %v", list, err)
	}
	if err := office.Stop(ctx, w.key, list[0].Number); err != nil {
		t.Error(err)
	}
	if list, err := office.List(ctx, w.key); err != nil || len(list) != 5 || list[0].State != drills.Stopped || list[2].Number != 3 {
		t.Errorf("%+v, %v", list, err)
	}
}

// A circuit that is taken for slow is left by what is held to limits alone, as predicted, and taken
// again; one that a gateway finds beyond its limits already is not drilled.
func TestADrillOfSlowness(t *testing.T) { // as the one above
	w := opened(t, "three-sites", 1, func(e *estate.Estate) {
		e.Overlays[0].Probe = &estate.Probe{
			Target: estate.FarEnd, IntervalMs: 500, TimeoutMs: 400, Misses: 3, Successes: 3,
			Limits: &estate.Limits{LatencyMs: 400, LossPercent: 30, WindowS: 5, Zones: []string{"voice"}},
		}
		for i := range e.Sites {
			e.Sites[i].Gateway.Switches = true
			for j := range e.Sites[i].Subnets {
				e.Sites[i].Subnets[j].Zone = "voice"
			}
		}
	})
	w.stand()
	ctx := context.Background()
	w.eventually("all alive", 60*time.Second, w.allAlive)
	if _, err := events.AddWindow(ctx, w.db, w.row.ID, events.Window{BeginsAt: time.Now().Add(-time.Minute), Minutes: 60}); err != nil {
		t.Fatal(err)
	}
	running, stop := context.WithCancel(ctx)
	ended := make(chan struct{})
	office := &drills.Office{Store: w.db, Desk: w.desk}
	go func() {
		(&drills.Runner{Office: drills.Office{Store: w.db, Desk: w.desk}, Name: "one", Log: slog.New(slog.DiscardHandler)}).Run(running)
		close(ended)
	}()
	defer func() { stop(); <-ended }()
	if _, err := office.Start(ctx, w.key, drills.Order{Part: "slow:link:withybrook/fibre", Seconds: 8}); err == nil || !strings.Contains(err.Error(), "hold it for longer") {
		t.Errorf("for too short a time: %v", err)
	}
	d := drillLater(t, office, w.key, drills.Order{Part: "lossy:link:withybrook/fibre", Seconds: 11})
	if d.State != drills.Proven || d.Prediction.Tunnels == 0 || d.Prediction.Cut > 0 || d.FoundAfter == nil || d.BackAfter == nil || *d.BackAfter < 4 {
		t.Errorf("%s %s, found after %v, back after %v: %+v", d.State, d.Words, d.FoundAfter, d.BackAfter, d.Points)
	}
}

// allAlive reports whether all keep release 1, and all their tunnels live.
func (w *works) allAlive(rows map[string]desk.GatewayRow) bool {
	for _, r := range rows {
		if r.Dead > 0 || r.Tunnels == 0 {
			return false
		}
	}
	return w.allConfirmed(1)(rows)
}

// drillLater plans a drill, and waits until it is over.
func drillLater(t *testing.T, office *drills.Office, estate string, order drills.Order) *drills.Detail {
	t.Helper()
	d, err := office.Start(context.Background(), estate, order)
	if err != nil {
		t.Fatal(err)
	}
	for until := time.Now().Add(2 * time.Minute); ; time.Sleep(300 * time.Millisecond) {
		is, err := office.Get(context.Background(), estate, d.Number)
		if err != nil {
			t.Fatal(err)
		}
		if is.EndedAt != nil {
			return is
		}
		if time.Now().After(until) {
			t.Fatalf("it is not over: %+v", is)
		}
	}
}
