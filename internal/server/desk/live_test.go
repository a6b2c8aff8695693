package desk

import (
	"context"
	"testing"
	"time"

	"wideknot/internal/server/identity"
)

// next waits for an event of a kind.
func next(t *testing.T, events <-chan Event, kind EventKind) Event {
	t.Helper()
	deadline := time.After(10 * time.Second)
	for {
		select {
		case e, open := <-events:
			if !open {
				t.Fatalf("the stream ended before an event %s", kind)
			}
			if e.Kind == kind {
				return e
			}
		case <-deadline:
			t.Fatalf("no event %s", kind)
		}
	}
}

// A page at one server hears what is done at another, and who is there.
func TestPagesHearOfOtherServers(t *testing.T) {
	one, db, keys := opened(t)
	two := New(db, keys)
	ada := identity.WithActor(context.Background(), identity.Actor{Account: 1, Name: "ada"})
	bo := identity.WithActor(context.Background(), identity.Actor{Account: 2, Name: "bo"})
	at := Place{"demo", First}
	here, leaveHere, err := one.Watch(ada, at, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer leaveHere()
	if e := next(t, here, Weighed); e.Data.(Tally).Revision != 2 {
		t.Errorf("%+v", e)
	}
	there, leaveThere, err := two.Watch(bo, at, 0)
	if err != nil {
		t.Fatal(err)
	}
	for people := 0; people != 2; {
		people = len(next(t, here, People).Data.([]Presence))
	}
	if _, err := two.DeleteSite(bo, At("demo", First), "van-1"); err != nil {
		t.Fatal(err)
	}
	for name, events := range map[string]<-chan Event{"here": here, "there": there} {
		if e := next(t, events, Stepped); e.ID != 3 || e.Data.(Step).Author != "bo" || e.Data.(Step).Label != "Delete Field Laboratory 1" {
			t.Errorf("%s: %+v", name, e)
		}
		for revision := uint64(0); revision != 3; {
			revision = next(t, events, Weighed).Data.(Tally).Revision
		}
	}
	leaveThere()
	for people := 2; people != 1; {
		people = len(next(t, here, People).Data.([]Presence))
	}
	// A release elsewhere changes where the draft stands.
	if err := two.Seed(bo, At("demo", First), "m"); err != nil {
		t.Fatal(err)
	}
	for release := uint64(0); release != 1; {
		release = next(t, here, Weighed).Data.(Tally).Release
	}
	one.Close()
	for range here { // ends
	}
	if _, _, err := one.Watch(ada, at, 0); err != nil {
		t.Errorf("watching at a desk that closes: %v", err)
	}
}

// A page that does not read is let go and holds nobody up.
func TestSlowPagesAreLetGo(t *testing.T) {
	d, _, _ := opened(t)
	at := Place{"demo", First}
	slow, leave, err := d.Watch(context.Background(), at, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer leave()
	v := view(t, d)
	w := d.watches[v.draftID]
	for range queueLength + mostMissed + 10 {
		w.tell(event(0, People, []Presence{}))
	}
	n := 0
	for range slow {
		n++
	}
	if n > queueLength+mostMissed {
		t.Errorf("%d events waited", n)
	}
}
