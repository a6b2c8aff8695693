package estate_test

import (
	"math"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
)

func TestQuality(t *testing.T) {
	a, b := estate.Quality{LatencyMs: 20, JitterMs: 3, LossPercent: 10}, estate.Quality{LatencyMs: 30, JitterMs: 4, LossPercent: 50}
	if got := a.Through(b); got.LatencyMs != 50 || got.JitterMs != 7 || math.Abs(got.LossPercent-55) > 1e-9 || got != b.Through(a) {
		t.Errorf("one after the other: %+v", got)
	}
	limits := &estate.Limits{LatencyMs: 150, JitterMs: 30, LossPercent: 1, WindowS: 60, Zones: []string{"voice"}}
	for _, test := range []struct {
		q    estate.Quality
		says []string
	}{
		{estate.Quality{}, nil},
		{estate.Quality{LatencyMs: 150, JitterMs: 30, LossPercent: 1}, nil},
		{estate.Quality{LatencyMs: 151}, []string{"latency 151 ms of at most 150"}},
		{estate.Quality{JitterMs: 31, LossPercent: 1.5}, []string{"jitter 31 ms of at most 30", "loss 1.5 % of at most 1"}},
	} {
		if got := limits.Exceeded(test.q); !slices.Equal(got, test.says) {
			t.Errorf("%+v: %q, not %q", test.q, got, test.says)
		}
	}
	if got := (*estate.Limits)(nil).Exceeded(estate.Quality{LatencyMs: 9999}); got != nil {
		t.Errorf("no limits are exceeded: %v", got)
	}
	if got := limits.Words(); got != "latency 150 ms, jitter 30 ms, loss 1 %" {
		t.Error(got)
	}
	o := estate.Overlay{}
	if o.Holds("voice", "voice") {
		t.Error("an overlay without limits holds something to them")
	}
	o.Probe = &estate.Probe{Limits: limits}
	for pair, held := range map[[2]string]bool{{"voice", "bulk"}: true, {"bulk", "voice"}: true, {"bulk", "bulk"}: false, {"", ""}: false} {
		if o.Holds(pair[0], pair[1]) != held {
			t.Errorf("%v: held is %v", pair, !held)
		}
	}
}

func TestLimitsAreChecked(t *testing.T) {
	for name, test := range map[string]struct {
		spoil func(l *estate.Limits, p *estate.Probe)
		says  string
	}{
		"nothing":     {func(l *estate.Limits, _ *estate.Probe) { l.LatencyMs = 0 }, "limits limit something"},
		"nobody":      {func(l *estate.Limits, _ *estate.Probe) { l.Zones = nil }, "say which zones"},
		"no zone":     {func(l *estate.Limits, _ *estate.Probe) { l.Zones = []string{"Voice!"} }, "must be a zone"},
		"twice":       {func(l *estate.Limits, _ *estate.Probe) { l.Zones = []string{"voice", "voice"} }, "each once"},
		"no loss":     {func(l *estate.Limits, _ *estate.Probe) { l.LossPercent = 51 }, "loss in per cent 51"},
		"too quick":   {func(l *estate.Limits, _ *estate.Probe) { l.LatencyMs = 0.5 }, "latency in ms 0.5"},
		"too steady":  {func(l *estate.Limits, _ *estate.Probe) { l.JitterMs = 0.01 }, "jitter in ms 0.01"},
		"too long":    {func(l *estate.Limits, _ *estate.Probe) { l.WindowS = 601 }, "window in seconds 601"},
		"few probes":  {func(l *estate.Limits, p *estate.Probe) { l.WindowS, p.IntervalMs = 9, 1000 }, "it needs 10 s"},
		"fewer still": {func(_ *estate.Limits, p *estate.Probe) { p.IntervalMs = 3100 }, "it needs 31 s"},
	} {
		o := estate.Overlay{Key: "ops", Shape: estate.Custom, Probe: &estate.Probe{Limits: &estate.Limits{LatencyMs: 150, Zones: []string{"voice"}}}}
		e := &estate.Estate{Format: estate.Format, Overlays: []estate.Overlay{o}}
		if problems := estate.Validate(e); len(problems) > 0 {
			t.Fatalf("%s: %v", name, problems)
		}
		test.spoil(e.Overlays[0].Probe.Limits, e.Overlays[0].Probe)
		problems := estate.Validate(e)
		if len(problems) != 1 || !strings.Contains(problems[0].Message, test.says) || !strings.HasPrefix(problems[0].Path, "overlays[0].probe.limits") {
			t.Errorf("%s: %v", name, problems)
		}
	}
	e := &estate.Estate{Format: estate.Format}
	for _, key := range []string{"a", "b", "c", "d", "e"} {
		e.Overlays = append(e.Overlays, estate.Overlay{Key: key, Shape: estate.Custom, Probe: &estate.Probe{Limits: &estate.Limits{LatencyMs: 150, Zones: []string{"voice"}}}})
	}
	if problems := estate.Validate(e); len(problems) != 1 || problems[0].Path != "overlays[4].probe.limits" {
		t.Errorf("a fifth overlay with limits: %v", problems)
	}
	if problems := estate.ValidateOverlay(e, &e.Overlays[4]); len(problems) != 1 || problems[0].Path != "probe.limits" {
		t.Errorf("a fifth overlay with limits, by itself: %v", problems)
	}
	e.Overlays = e.Overlays[:4]
	if problems := estate.ValidateOverlay(e, &e.Overlays[0]); len(problems) > 0 {
		t.Errorf("one of the first four: %v", problems)
	}
}
