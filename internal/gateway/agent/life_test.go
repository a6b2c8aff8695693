package agent

import (
	"strings"
	"testing"
	"time"

	"wideknot/core/gateway"
)

// What is dead by its probes, or alive, waits for nothing.
func TestWhoWaitsUntilItIsSteady(t *testing.T) {
	p := &gateway.Probe{Interval: 1000, Timeout: 500, Misses: 3, Successes: 2}
	at := time.Unix(1_800_000_000, 0)
	for _, c := range []struct {
		life life
		want bool
	}{
		{life{}, false},
		{life{successes: 9, heldUntil: at.Add(time.Second)}, false},
		{life{dead: true, successes: 1, heldUntil: at.Add(time.Second)}, false},
		{life{dead: true, successes: 2, heldUntil: at}, false},
		{life{dead: true, successes: 2, heldUntil: at.Add(time.Second)}, true},
	} {
		if got := c.life.steadies(p, at); got != c.want {
			t.Errorf("%+v: %v", c.life, got)
		}
	}
}

func TestDeathAndReturn(t *testing.T) {
	p := &gateway.Probe{Interval: 1000, Timeout: 500, Misses: 3, Successes: 2}
	at := time.Unix(1_800_000_000, 0)
	l := life{}
	// m: a probe is missed, a: answered; capitals where the tunnel changes.
	for i, step := range "aammammMmmammaAaa" {
		at = at.Add(time.Second)
		changed := false
		if step == 'm' || step == 'M' {
			changed = l.miss(p, at)
		} else {
			changed = l.answer(p, at)
		}
		if want := step == 'M' || step == 'A'; changed != want {
			t.Errorf("step %d (%c): changed is %v", i, step, changed)
		}
	}
	if got, want := detection(p), 3500*time.Millisecond; got != want {
		t.Errorf("detection takes %v, want %v", got, want)
	}
}

// One that dies again soon stays out for a time that doubles up to a limit, and is
// forgiven after it lived long.
func TestFlappingIsDamped(t *testing.T) {
	p := &gateway.Probe{Interval: 1000, Timeout: 500, Misses: 1, Successes: 1}
	at := time.Unix(1_800_000_000, 0)
	l := life{}
	// flap kills the tunnel after it lived for a while and returns how long it stays
	// out although probes are answered each second.
	flap := func(lived time.Duration) (out time.Duration) {
		at = at.Add(lived)
		if !l.miss(p, at) {
			t.Fatal("it does not die")
		}
		died := at
		for at = at.Add(time.Second); !l.answer(p, at); at = at.Add(time.Second) {
			if at.Sub(died) > time.Hour {
				t.Fatal("it never comes back")
			}
			if !l.steadies(p, at) {
				t.Errorf("%v after it died it would not be back by its probes", at.Sub(died))
			}
		}
		return at.Sub(died)
	}
	for i, want := range []int{1, 10, 20, 40, 80, 160, 300, 300} {
		if got := flap(5 * time.Second); got != time.Duration(want)*time.Second {
			t.Errorf("flap %d keeps it out for %v, want %d s", i, got, want)
		}
	}
	if got := flap(59 * time.Second); got != 300*time.Second {
		t.Errorf("after 59 s it is forgiven: out for %v", got)
	}
	if got := flap(time.Minute); got != time.Second {
		t.Errorf("after a quiet minute it stays out for %v", got)
	}
}

func TestChoice(t *testing.T) {
	c := &gateway.Config{Ways: []gateway.Way{
		{ID: 1, Groups: []gateway.Group{
			{Place: 1, Members: []gateway.Member{{Interface: "a", Weight: 2}, {Interface: "b", Weight: 1}}},
			{Place: 2, Members: []gateway.Member{{Interface: "c", Weight: 1}}},
		}},
		{ID: 2, Groups: []gateway.Group{{Place: 1, Members: []gateway.Member{{Interface: "c", Weight: 1}}}}},
	}}
	for _, test := range []struct {
		alive  string
		first  string
		groups [2]int
	}{
		{"abc", "ab", [2]int{1, 1}},
		{"bc", "b", [2]int{1, 1}},
		{"c", "c", [2]int{2, 1}},
		{"a", "a", [2]int{1, 0}},
		{"", "", [2]int{0, 0}},
	} {
		choice := newChooser(c, nil, func(name string) bool { return strings.Contains(test.alive, name) }, nil).decide(nil)
		uses, groups := choice.Uses, choice.Groups
		got := ""
		for _, m := range uses[0].Members {
			got += m.Interface
		}
		if got != test.first || [2]int(groups) != test.groups {
			t.Errorf("alive %q: by %q, groups %v", test.alive, got, groups)
		}
		if len(moved(uses, uses)) != 0 || len(moved(nil, uses)) != 2 {
			t.Error("what moved is wrong")
		}
	}
}
