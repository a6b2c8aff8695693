package events

import (
	"testing"
	"time"

	"wideknot/core/diagnose"
)

// How long what is seen waits until it is told; what others grow to has waited with them.
func TestHowLongATroubleWaits(t *testing.T) {
	one := &diagnose.Trouble{Code: diagnose.TunnelDead, Site: "tarn", Pair: []string{"first", "tarn"}, All: []string{"x"}}
	circuit := &diagnose.Trouble{Code: diagnose.CircuitDead, Part: "link:tarn/fibre", Site: "tarn", Link: "fibre", All: []string{"x", "y"}}
	elsewhere := &diagnose.Trouble{Code: diagnose.CircuitDead, Part: "link:moor/fibre", Site: "moor", Link: "fibre", All: []string{"z"}}
	unsettled, patient, fresh := *one, *one, *one
	unsettled.Unsettled, patient.Patient, fresh.Fresh = true, true, true
	type look struct {
		ms   int
		seen *diagnose.Trouble
	}
	for name, c := range map[string]struct {
		looks []look
		told  bool
	}{
		"just seen":                     {[]look{{0, one}}, false},
		"soon":                          {[]look{{0, one}, {1100, one}}, false},
		"settled":                       {[]look{{0, one}, {1200, one}}, true},
		"grown":                         {[]look{{0, one}, {700, circuit}, {1200, circuit}}, true},
		"grown just now":                {[]look{{0, one}, {800, circuit}, {1200, circuit}}, false},
		"grown late":                    {[]look{{0, one}, {1100, circuit}, {1600, circuit}}, true},
		"grown at once":                 {[]look{{0, one}, {100, circuit}, {1100, circuit}}, false},
		"of other tunnels":              {[]look{{0, one}, {700, elsewhere}, {1200, elsewhere}}, false},
		"of other tunnels, for longer":  {[]look{{0, one}, {700, elsewhere}, {1900, elsewhere}}, true},
		"gone between":                  {[]look{{0, one}, {400, nil}, {800, one}, {1300, one}}, false},
		"perhaps the end of more":       {[]look{{0, &unsettled}, {5900, &unsettled}}, false},
		"perhaps the end of more, late": {[]look{{0, &unsettled}, {6000, &unsettled}}, true},
		"perhaps, then grown":           {[]look{{0, &unsettled}, {900, circuit}, {1400, circuit}}, true},
		"one dead for long, then grown": {[]look{{0, &unsettled}, {3000, circuit}, {4100, circuit}}, false},
		"one dead for long, and grown":  {[]look{{0, &unsettled}, {3000, circuit}, {4200, circuit}}, true},
		"one that came and went, grown": {[]look{{0, &patient}, {30_000, circuit}, {30_600, circuit}}, false},
		"what mostly passes":            {[]look{{0, &patient}, {44_900, &patient}}, false},
		"what mostly passes, not":       {[]look{{0, &patient}, {45_000, &patient}}, true},
		"on its way up":                 {[]look{{0, &fresh}, {60_000, &fresh}}, false},
	} {
		begin, told := waiting{}, false
		for _, l := range c.looks {
			now := waiting{}
			if at := time.UnixMilli(int64(l.ms)); l.seen != nil {
				w := begin.of(l.seen, at)
				now.add(l.seen, w)
				told = w.over(l.seen, at)
			}
			begin = now
		}
		if told != c.told {
			t.Errorf("%s: told %v", name, told)
		}
	}
}

// What several grew to has waited for as long as the first of them.
func TestWhatSeveralGrewTo(t *testing.T) {
	trouble := func(site string, tunnels ...string) *diagnose.Trouble {
		return &diagnose.Trouble{Code: diagnose.TunnelDead, Site: site, All: tunnels}
	}
	at := func(ms int64) time.Time { return time.UnixMilli(ms) }
	w := waiting{}
	w.add(trouble("tarn", "x", "y"), wait{at(300), at(300)})
	w.add(trouble("moor", "y", "z"), wait{at(200), at(100)})
	w.add(trouble("weir", "z"), wait{at(400), at(400)})
	for _, c := range []struct {
		t     *diagnose.Trouble
		since int64
		first int64
	}{
		{trouble("fen", "x"), 900, 300}, {trouble("fen", "y"), 900, 100}, {trouble("fen", "x", "z"), 900, 100}, {trouble("fen", "u"), 900, 900},
		{trouble("fen"), 900, 900}, {trouble("weir", "x", "z"), 400, 400},
	} {
		if is := w.of(c.t, at(900)); is != (wait{at(c.since), at(c.first)}) {
			t.Errorf("%s %v: %+v", c.t.Site, c.t.All, is)
		}
	}
}
