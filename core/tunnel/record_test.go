package tunnel_test

import (
	"math/rand/v2"
	"slices"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// Deriving again from a record that grew by edits gives the same record as
// working it out tunnel by tunnel, and gives it again.
func TestTheRecordIsAFixedPoint(t *testing.T) {
	for seed := range uint64(60) {
		e := sample.Mixed(seed)
		random := rand.New(rand.NewPCG(seed, 1))
		for edit := range 6 {
			e.Allocations = tunnel.Derive(e).Allocations()
			again := tunnel.Derive(e)
			if !again.Allocations().Equal(e.Allocations) || !again.Recount().Equal(e.Allocations) {
				t.Fatalf("seed %d, edit %d: the record changed when nothing else did", seed, edit)
			}
			change(random, e)
			if p := tunnel.Derive(e); !p.Allocations().Equal(p.Recount()) {
				t.Fatalf("seed %d, edit %d: the record is not what was given out", seed, edit)
			}
		}
	}
}

// change does one of the things to an estate by which numbers come and go.
func change(random *rand.Rand, e *estate.Estate) {
	site := &e.Sites[random.IntN(len(e.Sites))]
	overlay := &e.Overlays[random.IntN(len(e.Overlays))]
	switch random.IntN(6) {
	case 0:
		if len(site.Links) > 1 {
			site.Links = slices.Delete(site.Links, 0, 1)
		}
	case 1:
		overlay.Spokes = slices.Delete(overlay.Spokes, 0, min(1, len(overlay.Spokes)))
	case 2:
		site.Gateway.UsedPorts = append(site.Gateway.UsedPorts, site.Gateway.ListenPortOf()+random.IntN(4))
	case 3:
		overlay.Transit = overlay.Transit[:min(1, len(overlay.Transit))]
	case 4:
		for _, lots := range e.Allocations.Tunnels {
			for ident, lot := range lots {
				if random.IntN(3) == 0 {
					lot.Ports[random.IntN(2)] = site.Gateway.ListenPortOf()
					lots[ident] = lot
				}
			}
		}
	case 5:
		if overlay.Numbering = estate.PerSite; random.IntN(2) == 0 {
			overlay.Numbering = estate.PerTunnel
		}
	}
}

// Where no tunnel is, nothing is recorded; and a derivation says whether everything it
// gave out is.
func TestRecordedSaysWhetherNumbersStay(t *testing.T) {
	e := sample.Mixed(3)
	fresh := tunnel.Derive(e)
	if fresh.Recorded() {
		t.Error("numbers that were just given are recorded")
	}
	e.Allocations = fresh.Allocations()
	if !tunnel.Derive(e).Recorded() {
		t.Error("what is in the record is not recorded")
	}
	for overlay, lots := range e.Allocations.Tunnels {
		for ident, lot := range lots {
			for what, spoil := range map[string]func(*estate.TunnelLot){
				"port": func(l *estate.TunnelLot) { l.Ports[0] = 0 }, "slot": func(l *estate.TunnelLot) { l.Slots[1] = 0 },
				"prefix": func(l *estate.TunnelLot) { l.Transit = nil },
			} {
				changed := lot
				spoil(&changed)
				lots[ident] = changed
				if what != "prefix" || len(lot.Transit) > 0 {
					if tunnel.Derive(e).Recorded() {
						t.Errorf("%s in %s lacks a %s and is recorded", ident, overlay, what)
					}
				}
				lots[ident] = lot
			}
		}
	}
	for seed := range uint64(20) { // some of which are numbered by site
		e := sample.Mixed(seed)
		e.Allocations = tunnel.Derive(e).Allocations()
		for overlay, seats := range e.Allocations.Sites {
			for site, seat := range seats {
				if len(seat.Addresses) == 0 {
					continue
				}
				seats[site] = estate.SiteSeat{}
				if tunnel.Derive(e).Recorded() {
					t.Errorf("seed %d: %s in %s lacks its address and is recorded", seed, site, overlay)
				}
				seats[site] = seat
			}
		}
	}
	for i := range e.Overlays {
		e.Overlays[i].Hubs, e.Overlays[i].Spokes, e.Overlays[i].Direct = nil, nil, nil
	}
	e.Allocations = estate.Allocations{}
	empty := tunnel.Derive(e)
	if got := empty.Allocations(); got.Tunnels != nil || got.Sites != nil || !empty.Recorded() {
		t.Errorf("without a tunnel: %+v", got)
	}
}

// Numbers at either end of their range are kept as they were recorded, and none
// outside it.
func TestNumbersAtTheEdgeAreKept(t *testing.T) {
	for _, c := range []struct{ number, want int }{{1, 1}, {65535, 65535}, {0, -1}, {65536, -1}} {
		e, err := sample.Estate(sample.Options{Sites: 1, Hubs: 1, Links: 1})
		if err != nil {
			t.Fatal(err)
		}
		e.Allocations = tunnel.Derive(e).Allocations()
		for _, lots := range e.Allocations.Tunnels {
			for ident, lot := range lots {
				lot.Ports, lot.Slots = [2]int{c.number, c.number}, [2]int{c.number, c.number}
				lots[ident] = lot
				p := tunnel.Derive(e)
				got := p.Allocations().Tunnels[e.Overlays[0].Key][ident]
				if kept := got.Ports[0] == c.want && got.Ports[1] == c.want && got.Slots[0] == c.want && got.Slots[1] == c.want; kept != (c.want > 0) {
					t.Errorf("%d was recorded; %+v is given", c.number, got)
				}
			}
			break
		}
	}
}
