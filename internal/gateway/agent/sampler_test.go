package agent

import (
	"sync/atomic"
	"testing"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/stamp"
)

func TestWhatProbesToldLately(t *testing.T) {
	q := quality{}
	ms := time.Millisecond
	q.answered(&stamp.Result{RTT: 10 * ms})
	q.missed()
	q.answered(&stamp.Result{RTT: 30 * ms, Sent: 2, LostOut: 1})
	q.answered(&stamp.Result{RTT: 20 * ms, Sent: 1})
	want := gateway.TunnelSample{Interface: "x-1", Probes: 4, Missed: 1, LostOut: 1, LatencyUs: 20_000, MaxLatencyUs: 30_000, JitterUs: 15_000}
	if got := q.lately.take("x-1"); got != want {
		t.Errorf("%+v, not %+v", got, want)
	}
	q.answered(&stamp.Result{RTT: 21 * ms, Sent: 1}) // is compared with the one before, whenever that was
	if got := q.lately.take("x-1"); got.Probes != 1 || got.JitterUs != 1000 || got.Missed != 0 {
		t.Errorf("%+v", got)
	}
	if got := q.lately.take("x-1"); got != (gateway.TunnelSample{Interface: "x-1"}) {
		t.Errorf("%+v", got)
	}
	if q.Sent != 5 || q.Answered != 4 {
		t.Errorf("%d of %d in all", q.Answered, q.Sent)
	}
}

// Samples of a minute and of a quarter are merged from whole ones alone, and have their times.
func TestTiersAreWhole(t *testing.T) {
	s := newSampler()
	began := time.Date(2026, 12, 1, 9, 59, 40, 0, time.UTC)
	for range 92 + 90 { // two before the hour, a quarter, and one less than a quarter
		s.take(0, gateway.Sample{At: moment(began), Seconds: 10, Digest: "d"}, began)
		began = began.Add(10 * time.Second)
	}
	of := map[int][]gateway.Time{}
	for i, k := range s.kept {
		if k.Sequence != gateway.Counter(i+1) {
			t.Fatalf("sample %d follows %d", k.Sequence, i)
		}
		of[k.Seconds] = append(of[k.Seconds], k.At)
	}
	if len(of[10]) != 182 || len(of[60]) != 30 || of[60][0] != "2026-12-01T10:00:00Z" || len(of[900]) != 2 || of[900][1] != "2026-12-01T10:15:00Z" {
		t.Errorf("%d, %v, %v", len(of[10]), of[60], of[900])
	}
	for range 3000 {
		s.keep(gateway.Sample{Seconds: 10})
	}
	n := 0
	for _, k := range s.kept {
		if k.Seconds == 10 {
			n++
		}
	}
	if n != mostOfTier[0] || len(s.kept) != n+32 {
		t.Errorf("%d of the finest are kept, %d in all", n, len(s.kept))
	}
	for range 10 {
		s.keep(gateway.Sample{Seconds: 60, Tunnels: make([]gateway.TunnelSample, roomForSamples/8)})
	}
	if s.ends > roomForSamples || s.ends < roomForSamples/2 {
		t.Errorf("%d ends of tunnels are kept", s.ends)
	}
}

// An outsider takes what was measured, as the module says; what is told to be kept is forgotten.
func TestCurlTakesSamples(t *testing.T) {
	o, r, _ := served(t)
	c, _ := twoReleases()
	if err := r.Try(t.Context(), c, 1, "", 0); err != nil {
		t.Fatal(err)
	}
	var clock atomic.Int64
	clock.Store(time.Date(2026, 12, 1, 10, 0, 3, 0, time.UTC).Unix())
	turn := func(seconds int64) {
		clock.Add(seconds)
		if err := r.do(t.Context(), func() error {
			r.Now = func() time.Time { return time.Unix(clock.Load(), 0).UTC() }
			r.sample()
			return nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	if err := r.do(t.Context(), func() error { r.sampler.next = time.Time{}; return nil }); err != nil {
		t.Fatal(err)
	}
	turn(0)
	turn(7) // begins in the midst: no sample
	turn(10)
	turn(10)
	turn(25) // the clock was set: none
	turn(8)
	turn(10)
	const path = "/restconf/operations/wideknot-gateway:samples"
	o.lint("rpc", `{"wideknot-gateway:samples":{"epoch":"x","has":"7"}}`)
	_, text := o.want("200", "POST", path, "")
	o.lint("reply", `{"wideknot-gateway:samples":`+inside(t, text, "wideknot-gateway:output")+`}`)
	told, err := gateway.ParseSamples([]byte(text))
	if err != nil || len(told.List) != 3 {
		t.Fatalf("%v: %s", err, text)
	}
	one := &told.List[0]
	if one.At != "2026-12-01T10:00:10Z" || told.List[2].At != "2026-12-01T10:01:00Z" || one.Digest != c.Digest() || len(one.Tunnels) != len(c.Tunnels) || len(one.Ways) != len(c.Ways) || len(one.Links) != len(c.Links) {
		t.Errorf("%s", text)
	}
	_, text = o.want("200", "POST", path, `{"wideknot-gateway:input":{"epoch":"another","has":"3"}}`)
	if told, err := gateway.ParseSamples([]byte(text)); err != nil || len(told.List) != 3 {
		t.Errorf("a number of another epoch: %s", text)
	}
	_, text = o.want("200", "POST", path, `{"wideknot-gateway:input":{"epoch":"`+told.Epoch+`","has":"2"}}`)
	if told, err := gateway.ParseSamples([]byte(text)); err != nil || len(told.List) != 1 || told.List[0].Sequence != 3 {
		t.Errorf("after two were taken: %s", text)
	}
	for _, bad := range []string{`{"wideknot-gateway:input":{"has":7}}`, `{"x":{}}`} {
		if status, _, text := o.ask("POST", path, bad); status != "400" {
			t.Errorf("%s: %s %s", bad, status, text)
		}
	}
}
