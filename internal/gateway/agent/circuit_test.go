package agent

import (
	"net/netip"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"wideknot/core/gateway"
)

// A WAN link is asked by itself: whether a name service answers by it, and how large
// packets pass outside its tunnels, compared with what they need.
func TestCircuitsAreWatched(t *testing.T) { synctest.Test(t, circuits) }

func circuits(t *testing.T) {
	n := newTestNet()
	configA, configB := twoEnds(200)
	planeA, planeB := newTray(n), newTray(n)
	for _, e := range []struct {
		c *gateway.Config
		p *tray
	}{{configA, planeA}, {configB, planeB}} {
		e.c.Links = []gateway.Link{{Key: "wx", Device: "wan0"}, {Key: "wy"}}
		n.own(e.p, e.c)
	}
	a, b := run(t, planeA, t.TempDir(), keysIn(t)), run(t, planeB, t.TempDir(), keysIn(t))
	for r, c := range map[*running]*gateway.Config{a: configA, b: configB} {
		if err := r.Try(t.Context(), c, 1, "", 0); err != nil {
			t.Fatal(err)
		}
	}
	link := func() gateway.LinkState {
		s, err := a.State(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return s.Links[0]
	}
	said := func(words string) func() bool {
		return func() bool {
			events, _, err := a.journal.After(0, 0)
			return err == nil && slices.ContainsFunc(events, func(e Event) bool { return strings.Contains(e.Words, words) })
		}
	}
	eventually(t, "the link is known", func() bool { l := link(); return l.NamesUp && l.PathMTU == 1500 })
	if said("name service")() || said("takes packets")() {
		t.Error("what is as it should be is told")
	}
	planeA.mu.Lock()
	planeA.names, planeA.takes = false, 1440
	planeA.mu.Unlock()
	eventually(t, "that no name service answers is told", said("no name service answers by WAN link wx"))
	time.Sleep(circuitSize)
	eventually(t, "what passes is told", said("WAN link wx takes packets of 14"))
	if l := link(); l.NamesUp || l.PathMTU > 1440 || l.PathMTU < 1440-sizeStep {
		t.Errorf("%+v", l)
	}
	if !said("its tunnels need 1460")() {
		t.Errorf("the journal has %v", a.kinds(t))
	}
	planeA.mu.Lock()
	planeA.names, planeA.takes = true, 1500
	planeA.mu.Unlock()
	eventually(t, "that a name service answers again is told", said("a name service answers by WAN link wx again"))
	time.Sleep(circuitSize)
	eventually(t, "that all passes again is told", said("WAN link wx takes packets of 1500 bytes again"))
}

// Name servers on the machine itself are left out: they would ask by any link.
func TestNameServersAreRead(t *testing.T) {
	got := readServers(strings.NewReader("# a comment\nsearch example.net\nnameserver 127.0.0.53\nnameserver\nnameserver ::1\nnameserver 192.0.2.53 \nnameserver no\nnameserver 2001:db8::53\nnameserver 192.0.2.53\n"))
	if want := []netip.Addr{netip.MustParseAddr("192.0.2.53"), netip.MustParseAddr("2001:db8::53")}; !slices.Equal(got, want) {
		t.Errorf("%v, not %v", got, want)
	}
}
