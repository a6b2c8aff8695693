package gateway

import (
	"cmp"
	"net/netip"
	"slices"

	"wideknot/core/addr"
	"wideknot/core/estate"
)

// Limits are those of a tunnel; 0 is none. Latency and jitter are of the round trip, in
// microseconds, loss of the worse direction, in a million.
type Limits struct {
	Latency int `json:"latency,omitempty"`
	Jitter  int `json:"jitter,omitempty"`
	Loss    int `json:"loss,omitempty"`
	Window  int `json:"window,omitempty"` // over which they are measured, in milliseconds
}

func limitsOf(l *estate.Limits) Limits {
	return Limits{Latency: thousand(l.LatencyMs), Jitter: thousand(l.JitterMs), Loss: int(l.LossPercent*10_000 + 0.5), Window: l.WindowS * 1000}
}

func thousand(n float64) int { return int(n*1000 + 0.5) }

// Held says what is held to limits, besides the tunnels' own. What goes to this site's
// own subnets never is: it has arrived.
type Held struct {
	Here     []netip.Prefix `json:"here,omitempty"` // the site's subnets, as their hosts have them and as the overlays do
	Overlays []HeldIn       `json:"overlay,omitempty"`
}

// HeldIn is what an overlay holds to its limits: all that comes from or goes to the
// prefixes, and what the site's own hosts send from those of Own.
type HeldIn struct {
	Overlay  string         `json:"overlay"`
	Mark     int            `json:"mark"` // one bit of LimitMask
	Zones    []string       `json:"zone"`
	Own      []netip.Prefix `json:"own,omitempty"`
	Prefixes []netip.Prefix `json:"prefix,omitempty"`
}

// held lists what is held to limits here: by overlays with limits of which the site is a
// member.
func (k *making) held() {
	held := &k.out.Held
	bit := 0
	for i := range k.plan.Overlays {
		o := &k.plan.Overlays[i]
		limits := o.Spec.Limits()
		if limits == nil {
			continue
		}
		one := HeldIn{Overlay: o.Spec.Key, Mark: LimitUnit << bit, Zones: limits.Zones}
		bit++
		if !slices.ContainsFunc(k.out.Tunnels, func(t Tunnel) bool { return t.Overlay == one.Overlay }) {
			continue
		}
		var asks, others []netip.Prefix
		for _, site := range o.Members {
			subnets := k.plan.Site(site).Subnets
			for j := range subnets {
				switch n := &subnets[j]; {
				case !n.SharedInto(one.Overlay):
				case !slices.Contains(limits.Zones, n.Zone):
					others = append(others, n.Taking())
				default:
					asks = append(asks, n.Taking())
					if site == k.index {
						one.Own = append(one.Own, n.Prefix)
					}
				}
			}
		}
		one.Own, one.Prefixes = filled(addr.Aggregate(one.Own)), filled(narrowest(asks, others))
		held.Overlays = append(held.Overlays, one)
	}
	if held.Overlays == nil {
		return
	}
	for i := range k.site.Subnets {
		held.Here = append(held.Here, k.site.Subnets[i].Prefix, k.site.Subnets[i].Taking())
	}
	held.Here = filled(addr.Aggregate(held.Here))
}

// narrowest returns what is in some prefixes and in no narrower one of the others.
func narrowest(some, others []netip.Prefix) (out []netip.Prefix) {
	for _, p := range some {
		var minus []netip.Prefix
		for _, o := range others {
			if o.Bits() > p.Bits() && addr.Covers(p, o) {
				minus = append(minus, o)
			}
		}
		if minus == nil {
			out = append(out, p)
		} else {
			out = append(out, addr.Subtract([]netip.Prefix{p}, minus)...)
		}
	}
	return addr.Aggregate(out)
}

// Room between the numbers of what Spread makes.
const (
	apart      = 16    // rules of one priority, for up to 15 marks
	firstHeld  = 20000 // table of the first mark
	heldTables = 3000  // of one mark
)

// Spread returns the configuration as a gateway applies that keeps to limits: each table
// has, for each mark that packets can have, a further one before it whose ways keep to
// the limits of the mark's overlays. The lists begin with those of the configuration
// itself; without limits it is the configuration. keeping has, by way, the mark to whose
// overlays' limits it keeps: of their tunnels between the same two sites those within
// come first.
func (c *Config) Spread() (spread *Config, keeping map[int]int) {
	marks := c.Held.marks()
	if len(marks) == 0 {
		return c, nil
	}
	out := *c
	out.Ways, out.Routes = slices.Clone(c.Ways), slices.Clone(c.Routes)
	out.Rules = make([]Rule, 0, len(c.Rules)*(len(marks)+1)+2*len(marks))
	s := &spreading{c: c, out: &out, taken: map[int]bool{}, tunnels: make(map[string]*Tunnel, len(c.Tunnels)), made: map[[2]int]int{}, keeping: map[int]int{}}
	for i := range c.Tunnels {
		s.tunnels[c.Tunnels[i].Interface] = &c.Tunnels[i]
	}
	for n, mark := range marks {
		s.mark(n, mark)
	}
	s.rules(marks)
	return &out, s.keeping
}

// marks lists the marks that packets can have: each of its two ends may ask for the
// limits of several overlays.
func (h *Held) marks() (out []int) {
	zones := map[string]int{}
	for i := range h.Overlays {
		for _, z := range h.Overlays[i].Zones {
			zones[z] |= h.Overlays[i].Mark
		}
	}
	seen := map[int]bool{}
	for _, a := range zones {
		for _, b := range zones {
			seen[a|b] = true
		}
	}
	for mark := LimitUnit; mark <= LimitMask; mark += LimitUnit {
		if seen[mark] {
			out = append(out, mark)
		}
	}
	return out
}

// spreading is one pass of Spread.
type spreading struct {
	c, out  *Config
	tunnels map[string]*Tunnel
	taken   map[int]bool   // numbers of ways
	made    map[[2]int]int // mark, way → way that keeps to limits
	keeping map[int]int
}

// heldTable is the table of the n-th mark before another, 0 where there is none.
func heldTable(n, table int) int {
	place := 0
	if table != DefaultTable {
		place = table - FirstTable + 1
	}
	if place < 0 || place >= heldTables {
		return 0
	}
	return firstHeld + n*heldTables + place
}

// carries reports whether a table is for the packets that carry tunnels, or has none of
// any mark before it.
func (s *spreading) carries(table int) bool {
	return table != DefaultTable && (table < FirstTable || table-FirstTable+1 >= heldTables)
}

// mark makes the routes of one mark: all those of a table, so that the longest prefix
// wins as it does there.
func (s *spreading) mark(n, mark int) {
	for i := range s.c.Routes {
		r := s.c.Routes[i]
		if s.carries(r.Table) {
			continue
		}
		r.Table = heldTable(n, r.Table)
		if r.Way != 0 {
			r.Way = s.way(mark, r.Way)
		}
		s.out.Routes = append(s.out.Routes, r)
	}
}

// way returns the way of a mark in place of another.
func (s *spreading) way(mark, id int) int {
	if made, ok := s.made[[2]int{mark, id}]; ok {
		return made
	}
	at := slices.IndexFunc(s.c.Ways, func(w Way) bool { return w.ID == id })
	w := s.c.Ways[at]
	if s.differs(mark, &w) {
		number := (id - FirstWay + mark*61_803) % WayNumbers
		for s.taken[number] {
			number = (number + 1) % WayNumbers
		}
		s.taken[number] = true
		w.ID = FirstWay + 2*WayNumbers + number
		s.keeping[w.ID] = mark
		s.out.Ways = append(s.out.Ways, w)
	}
	s.made[[2]int{mark, id}] = w.ID
	return w.ID
}

// differs reports whether limits can change a way: two of its tunnels are of one overlay
// with limits and lead to the same site.
func (s *spreading) differs(mark int, w *Way) bool {
	type neighbour struct{ overlay, peer string }
	seen := map[neighbour]bool{}
	for _, g := range w.Groups {
		for _, m := range g.Members {
			t := s.tunnels[m.Interface]
			if s.c.Held.MarkOf(t.Overlay)&mark == 0 {
				continue
			}
			if seen[neighbour{t.Overlay, t.Peer}] {
				return true
			}
			seen[neighbour{t.Overlay, t.Peer}] = true
		}
	}
	return false
}

// MarkOf returns the mark of what an overlay holds to its limits, 0 where it has none.
func (h *Held) MarkOf(overlay string) int {
	for i := range h.Overlays {
		if h.Overlays[i].Overlay == overlay {
			return h.Overlays[i].Mark
		}
	}
	return 0
}

// rules lets packets with marks ask the tables made for them first. Those of the main
// table's stand last, but before the rule that leaves out its default route.
func (s *spreading) rules(marks []int) {
	last := map[Family]int{}
	for _, r := range s.c.Rules {
		if r.Priority < FirstTable {
			s.out.Rules = append(s.out.Rules, r)
			continue
		}
		base := FirstTable + (r.Priority-FirstTable)*apart
		for n, mark := range marks {
			one := r
			one.Priority, one.Mark, one.Mask = base+n, r.Mark|mark, r.Mask|LimitMask
			switch {
			case r.NoLonger:
				one.NoLonger, one.Table = false, heldTable(n, DefaultTable)
			case s.carries(r.Table):
				continue
			default:
				one.Table = heldTable(n, r.Table)
			}
			s.out.Rules = append(s.out.Rules, one)
		}
		if r.NoLonger {
			last[r.Family] = -1
		} else if last[r.Family] >= 0 {
			last[r.Family] = max(last[r.Family], r.Priority+1)
		}
		r.Priority = base + apart - 1
		s.out.Rules = append(s.out.Rules, r)
	}
	for _, family := range []Family{IPv4, IPv6} {
		if last[family] < 0 {
			continue
		}
		for n, mark := range marks {
			s.out.Rules = append(s.out.Rules, Rule{
				Priority: FirstTable + (max(last[family], FirstTable)-FirstTable)*apart + n, Family: family, Mark: mark, Mask: LimitMask, Table: heldTable(n, DefaultTable),
			})
		}
	}
	slices.SortStableFunc(s.out.Rules, func(a, b Rule) int { return cmp.Or(cmp.Compare(a.Family, b.Family), a.Priority-b.Priority) })
}
