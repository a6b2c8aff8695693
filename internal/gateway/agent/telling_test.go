package agent

import (
	"net/netip"
	"testing"
	"time"

	"wideknot/core/gateway"
)

// A site numbered 1, hubs 2 and 3, and a site 4 behind both.
func toldBySites(me int, peers ...gateway.Numbered) *gateway.Telling {
	return &gateway.Telling{
		Overlay: "ops", Version: "00112233445566aa", Sites: 4, Me: me, Hubs: []int{2, 3}, Peers: peers,
		Orders: []gateway.Order{{ID: 1, Paths: []gateway.Path{{ID: 1, Via: []int{2}}, {ID: 2, Via: []int{3}}, {ID: 3, Via: []int{2, 3}}, {ID: 4, Via: []int{3, 2}}}}},
		To:     []gateway.Destination{{Number: 4, Order: 1}},
	}
}

func tunnelTo(name, peer string) *watched {
	return &watched{up: true, tunnel: &gateway.Tunnel{Interface: name, Overlay: "ops", Peer: peer}}
}

// What a hub tells, and passes on, decides by which hub a site is reached; what is old,
// or of another version, or comes from a site that is no hub, does not.
func TestWhatHubsTell(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	const within = 3 * time.Second
	hub := newTold(toldBySites(2, gateway.Numbered{Number: 1, Site: "site"}, gateway.Numbered{Number: 3, Site: "other"}, gateway.Numbered{Number: 4, Site: "far"}))
	far := tunnelTo("f", "far")
	list := map[string]*watched{"s": tunnelTo("s", "site"), "o": tunnelTo("o", "other"), "f": far}
	if !hub.retell(list, now) || hub.retell(list, now) {
		t.Error("news is not told once")
	}

	site := &prober{told: []*told{newTold(toldBySites(1, gateway.Numbered{Number: 2, Site: "hub"}, gateway.Numbered{Number: 3, Site: "other"}))}}
	o := site.told[0]
	o.retell(map[string]*watched{"h": tunnelTo("h", "hub"), "o": tunnelTo("o", "other")}, now)
	first := func(at time.Time) int {
		return o.telling.First(4, func(a, b int) bool { return o.lives(a, b, at, within) })
	}
	hears := func(text []byte, peer string, at time.Time, news bool, want int) {
		t.Helper()
		if got := site.hear(text, peer, "ops", at); got != news {
			t.Errorf("news: %v", got)
		}
		if got := first(at); got != want {
			t.Errorf("site 4 is reached by %d, want %d", got, want)
		}
	}
	if first(now) != 2 {
		t.Error("told nothing, the design does not hold")
	}
	before := hub.append(nil, now, within)
	hears(before, "hub", now, true, 2)
	hears(before, "hub", now, false, 2)
	far.life.dead = true
	later := now.Add(time.Second)
	hub.retell(list, later)
	hears(hub.append(nil, later, within), "hub", later, true, 3)
	hears(before, "hub", later, false, 3) // an earlier edition comes late
	hears(hub.append(nil, later, within), "stranger", later, false, 3)
	if got := first(later.Add(4 * time.Second)); got != 2 {
		t.Errorf("what is old still counts: by %d", got)
	}

	// The other hub passes on that the first has lost site 4; itself it has too.
	other := &prober{told: []*told{newTold(toldBySites(3, gateway.Numbered{Number: 2, Site: "hub"}, gateway.Numbered{Number: 1, Site: "site"}))}}
	if !other.hear(hub.append(nil, later, within), "hub", "ops", later) {
		t.Error("the other hub hears nothing")
	}
	other.told[0].retell(map[string]*watched{"s": tunnelTo("s", "site"), "h": tunnelTo("h", "hub")}, later)
	hears(other.told[0].append(nil, later, within), "other", later, true, 0)

	foreign := newTold(toldBySites(2))
	foreign.version[0]++
	foreign.retell(list, later)
	hears(foreign.append(nil, later, within), "hub", later, false, 0)
	for cut := range len(before) { // parts of a list are none
		site.hear(before[:cut], "hub", "ops", later)
	}
}

// A prefix whose way does not reach it goes by those tunnels of the way that do.
func TestPrefixesAreSteered(t *testing.T) {
	one := func(name string) []gateway.Member { return []gateway.Member{{Interface: name, Weight: 1}} }
	c := &gateway.Config{
		Tunnels: []gateway.Tunnel{{Interface: "a1", Peer: "a"}, {Interface: "a2", Peer: "a"}, {Interface: "b1", Peer: "b"}},
		Ways:    []gateway.Way{{ID: gateway.FirstWay, Groups: []gateway.Group{{Place: 1, Members: one("a1")}, {Place: 2, Members: one("a2")}, {Place: 3, Members: one("b1")}}}},
		Routes: []gateway.Route{
			{Prefix: netip.MustParsePrefix("10.1.0.0/24"), Way: gateway.FirstWay, Telling: 1, To: 1},
			{Prefix: netip.MustParsePrefix("10.2.0.0/24"), Way: gateway.FirstWay, Telling: 1, To: 2},
			{Prefix: netip.MustParsePrefix("10.2.0.0/24"), Table: 8600, Way: gateway.FirstWay, Telling: 1, To: 2},
			{Prefix: netip.MustParsePrefix("10.3.0.0/24"), Way: gateway.FirstWay},
		},
	}
	decide := func(dead string, firsts ...map[int]string) Choice {
		return newChooser(c, nil, func(name string) bool { return name != dead }, nil).decide(firsts)
	}
	plain := decide("", map[int]string{1: "a", 2: "a"})
	if len(plain.Steers) != 0 || len(plain.Uses) != 1 {
		t.Errorf("nothing is to be steered: %+v", plain)
	}
	got := decide("", map[int]string{1: "a", 2: "b"})
	place := Place{0, netip.MustParsePrefix("10.2.0.0/24")}
	id := got.Steers[place]
	if len(got.Steers) != 2 || id < firstDetour || got.Steers[Place{8600, place.Prefix}] != id || len(got.Uses) != 2 || got.Uses[1].Way != id || got.Uses[1].Members[0].Interface != "b1" {
		t.Errorf("10.2.0.0/24 is not steered to b: %+v", got)
	}
	if again := decide("", map[int]string{1: "a", 2: "b"}); again.Steers[place] != id {
		t.Error("the same detour has another number")
	}
	change := steered(c, plain.Steers, got.Steers)
	if len(change) != 2 || change[place] != id {
		t.Errorf("there: %v", change)
	}
	if change = steered(c, got.Steers, plain.Steers); len(change) != 2 || change[place] != gateway.FirstWay {
		t.Errorf("and back: %v", change)
	}
	if none := decide("b1", map[int]string{2: "b"}); len(none.Steers) != 0 {
		t.Errorf("it is steered to what is dead: %+v", none)
	}
}
