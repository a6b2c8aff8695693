package events

import (
	"testing"
	"time"

	"wideknot/internal/server/store"
)

// A window is open from its beginning until it is over, once, each day or each week.
func TestWindows(t *testing.T) {
	at := func(text string) time.Time {
		out, err := time.Parse(time.RFC3339, text)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	begins := at("2026-12-01T22:00:00Z")
	for _, c := range []struct {
		every string
		now   string
		open  bool
	}{
		{"", "2026-12-01T21:59:59Z", false}, {"", "2026-12-01T22:00:00Z", true}, {"", "2026-12-02T00:59:59Z", true}, {"", "2026-12-02T01:00:00Z", false}, {"", "2026-12-08T22:30:00Z", false},
		{"day", "2026-12-01T10:00:00Z", false}, {"day", "2026-12-02T00:30:00Z", true}, {"day", "2026-12-05T22:00:00Z", true}, {"day", "2026-12-05T01:00:00Z", false}, {"day", "2026-11-30T22:30:00Z", false},
		{"week", "2026-12-02T22:30:00Z", false}, {"week", "2026-12-08T22:30:00Z", true}, {"week", "2026-12-09T00:59:00Z", true}, {"week", "2026-12-09T01:00:00Z", false},
	} {
		if got := holds(&store.Window{BeginsAt: begins, Minutes: 180, Every: c.every}, at(c.now)); got != c.open {
			t.Errorf("%q at %s: %v", c.every, c.now, got)
		}
	}
	all, one := quietness{"": true}, quietness{"tarn": true}
	if !all.holds("tarn") || !all.holds("") || !one.holds("tarn") || one.holds("weir") || one.holds("") || !one.holds("weir", "tarn") || quietness(nil).holds("tarn") {
		t.Error("which sites have a window")
	}
}

// Who is told at which times of day, and of what.
func TestWants(t *testing.T) {
	for _, c := range []struct {
		l    store.Listener
		at   string
		cut  int
		told bool
	}{
		{store.Listener{}, "12:00", 0, true}, {store.Listener{CutOnly: true}, "12:00", 0, false}, {store.Listener{CutOnly: true}, "12:00", 3, true},
		{store.Listener{FromTime: "22:00", ToTime: "06:00"}, "21:59", 0, false}, {store.Listener{FromTime: "22:00", ToTime: "06:00"}, "22:00", 0, true},
		{store.Listener{FromTime: "22:00", ToTime: "06:00"}, "05:59", 0, true}, {store.Listener{FromTime: "22:00", ToTime: "06:00"}, "06:00", 0, false},
		{store.Listener{FromTime: "08:00", ToTime: "18:00"}, "17:59", 0, true}, {store.Listener{FromTime: "08:00", ToTime: "18:00"}, "18:00", 0, false},
	} {
		at, err := time.Parse("15:04", c.at)
		if err != nil {
			t.Fatal(err)
		}
		if got := wants(&c.l, &store.Event{At: at, Cut: c.cut}); got != c.told {
			t.Errorf("%+v at %s, %d cut: %v", c.l, c.at, c.cut, got)
		}
	}
	for text, want := range map[string]string{"short": "short", "ééééé": "ééé…"} {
		if got := cut(text, 9); got != want {
			t.Errorf("%q is cut to %q", text, got)
		}
	}
}
