package tunnel

import (
	"maps"
	"net/netip"
	"slices"
	"strings"

	"wideknot/core/estate"
)

// sitesOfIdent returns the two site keys of a tunnel ident, in its order.
func sitesOfIdent(ident string) [2]string {
	first, second, _ := strings.Cut(ident, " ")
	a, _, _ := strings.Cut(first, "/")
	b, _, _ := strings.Cut(second, "/")
	return [2]string{a, b}
}

// keepStale sets aside the recorded allocations of tunnels and sites that are
// not in the plan, except those whose numbers had to be given away.
func (a *allocator) keepStale() {
	p := a.plan
	recorded := p.Estate.Allocations
	p.stale = estate.Allocations{Keys: recorded.Keys, Sites: maps.Clone(recorded.Sites), Tunnels: maps.Clone(recorded.Tunnels)}
	for i := range p.Overlays {
		o := &p.Overlays[i]
		key := o.Spec.Key
		switch {
		case len(recorded.Tunnels[key]) == a.found[i]:
			delete(p.stale.Tunnels, key)
			a.fresh = a.fresh || a.found[i] == 0 && recorded.Tunnels[key] != nil
		case len(recorded.Tunnels[key]) > 0:
			live := make(map[string]bool, len(recorded.Tunnels[key]))
			for j := range o.Adjacencies {
				for k := range o.Adjacencies[j].Tunnels {
					live[p.Ident(&o.Adjacencies[j].Tunnels[k])] = true
				}
			}
			lots := map[string]estate.TunnelLot{}
			for ident, lot := range recorded.Tunnels[key] {
				switch {
				case live[ident]:
				case a.reused(i, ident, lot):
					a.fresh = true
				default:
					lots[ident] = lot
				}
			}
			p.stale.Tunnels[key] = lots
		}
		if len(recorded.Sites[key]) > 0 {
			seats := map[string]estate.SiteSeat{}
			for site, seat := range recorded.Sites[key] {
				index, known := p.index[site]
				if (!known || !o.member[index]) && !a.reusedAny(i, seat.Addresses) {
					seats[site] = seat
				}
			}
			p.stale.Sites[key] = seats
		}
	}
	p.recorded = !a.fresh
}

func (a *allocator) reused(overlay int, ident string, lot estate.TunnelLot) bool {
	for j, key := range sitesOfIdent(ident) {
		if site, ok := a.plan.index[key]; ok && (a.ports[site].has(uint64(lot.Ports[j])) || a.slots[site].has(uint64(lot.Slots[j]))) {
			return true
		}
	}
	for _, block := range lot.Transit {
		if a.givenAway(overlay, block) {
			return true
		}
	}
	return false
}

func (a *allocator) reusedAny(overlay int, addresses []netip.Addr) bool {
	for _, address := range addresses {
		if a.givenAway(overlay, netip.PrefixFrom(address, address.BitLen())) {
			return true
		}
	}
	return false
}

func (a *allocator) givenAway(overlay int, block netip.Prefix) bool {
	for _, pool := range a.pools[overlay] {
		if n, ok := pool.number(block); ok && pool.given.has(n) {
			return true
		}
	}
	return false
}

// Recorded reports whether everything that was given out is in the estate's record:
// another derivation of the same document then gives the same numbers.
func (p *Plan) Recorded() bool {
	if p.recorded {
		return true
	}
	now, was := p.Allocations(), p.Estate.Allocations
	same := func(a, b estate.TunnelLot) bool {
		return a.Slots == b.Slots && a.Ports == b.Ports && slices.Equal(a.Transit, b.Transit)
	}
	for overlay, lots := range now.Tunnels {
		if !maps.EqualFunc(lots, was.Tunnels[overlay], same) {
			return false
		}
	}
	for overlay, seats := range now.Sites {
		if !maps.EqualFunc(seats, was.Sites[overlay], func(a, b estate.SiteSeat) bool { return slices.Equal(a.Addresses, b.Addresses) }) {
			return false
		}
	}
	return true
}

// Allocations is the record to keep with the estate: what this plan uses, and
// what vanished tunnels had as long as nobody needed it.
func (p *Plan) Allocations() estate.Allocations {
	if p.recorded {
		return p.Estate.Allocations
	}
	out := estate.Allocations{Keys: p.Estate.Allocations.Keys}
	if len(p.stale.Tunnels)+len(p.Overlays) > 0 {
		out.Tunnels = map[string]map[string]estate.TunnelLot{}
		maps.Copy(out.Tunnels, p.stale.Tunnels)
	}
	for key, seats := range p.stale.Sites {
		if len(seats) > 0 {
			addSeats(&out, key, seats)
		}
	}
	for i := range p.Overlays {
		o := &p.Overlays[i]
		lots := maps.Clone(p.stale.Tunnels[o.Spec.Key])
		if lots == nil {
			lots = map[string]estate.TunnelLot{}
		}
		seats := map[string]estate.SiteSeat{}
		for j := range o.Adjacencies {
			for k := range o.Adjacencies[j].Tunnels {
				t := &o.Adjacencies[j].Tunnels[k]
				first, second := p.InIdentOrder(t)
				lot := estate.TunnelLot{Slots: [2]int{first.Slot, second.Slot}, Ports: [2]int{first.UDP, second.UDP}}
				if o.perSite() {
					seats[p.Site(first.Site).Key] = seatOf(first)
					seats[p.Site(second.Site).Key] = seatOf(second)
				} else {
					lot.Transit = blocksOf(first, nil)
				}
				lots[p.Ident(t)] = lot
			}
		}
		delete(out.Tunnels, o.Spec.Key)
		if len(lots) > 0 {
			out.Tunnels[o.Spec.Key] = lots
		}
		if len(seats) > 0 {
			addSeats(&out, o.Spec.Key, seats)
		}
	}
	if len(out.Tunnels) == 0 {
		out.Tunnels = nil
	}
	return out
}

func seatOf(end *Port) estate.SiteSeat {
	var seat estate.SiteSeat
	for _, block := range []netip.Prefix{end.Address4, end.Address6} {
		if block.IsValid() {
			seat.Addresses = append(seat.Addresses, block.Addr())
		}
	}
	return seat
}

func addSeats(into *estate.Allocations, overlay string, seats map[string]estate.SiteSeat) {
	if into.Sites == nil {
		into.Sites = map[string]map[string]estate.SiteSeat{}
	}
	merged := maps.Clone(into.Sites[overlay])
	if merged == nil {
		merged = map[string]estate.SiteSeat{}
	}
	maps.Copy(merged, seats)
	into.Sites[overlay] = merged
}
