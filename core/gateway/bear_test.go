package gateway

import "testing"

func TestWhatATunnelBears(t *testing.T) {
	step := func(kbps, there, sent, arrived int) BenchStep {
		return BenchStep{Kbps: kbps, ThereKbps: there, Sent: sent, There: arrived}
	}
	for _, c := range []struct {
		steps []BenchStep
		kbps  int
		limit bool
	}{
		{nil, 0, false},
		{[]BenchStep{step(1000, 1000, 100, 100), step(2000, 1990, 200, 199)}, 1990, false},
		{[]BenchStep{step(1000, 1000, 100, 100), step(2000, 1200, 200, 120)}, 1200, true},
		{[]BenchStep{step(1000, 300, 100, 30)}, 300, true},
		{[]BenchStep{step(1000, 0, 0, 0)}, 0, false},
	} {
		if kbps, limit := (&Benched{Steps: c.steps}).Bears(); kbps != c.kbps || limit != c.limit {
			t.Errorf("%+v: %d %v", c.steps, kbps, limit)
		}
	}
	for _, bad := range []Hold{{Interfaces: []string{"a", "a"}}, {Seconds: MaxHold + 1}, {Seconds: -1}, {Interfaces: []string{""}}} {
		if bad.Check() == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}

// How a tunnel bore it is read, or refused; it never makes anything that does not fit.
func FuzzBenched(f *testing.F) {
	f.Add([]byte(`{"wideknot-gateway:output":{"size":1400,"step":[{"kbps":250,"there-kbps":240,"milliseconds":1500,"sent":33,"there":32,"back":31,"latency":9000}]}}`))
	f.Add([]byte(`{"wideknot-gateway:output":{"step":[{"sent":3,"there":4}]}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		b, err := ParseBenched(text)
		if err != nil {
			return
		}
		for i := range b.Steps {
			if s := &b.Steps[i]; s.There > s.Sent || s.Back > s.Sent || s.Sent < 0 || s.LossPercent() < 0 || len(b.Steps) > MaxBenchSteps {
				t.Errorf("%+v", s)
			}
		}
	})
}
