package series

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/server/store"
)

// A Band is a time in which one group of tunnels carried.
type Band struct {
	From       time.Time `json:"from"`
	To         time.Time `json:"to"`
	State      string    `json:"state" enum:"first,standby,none,unknown" doc:"first choice; one that stood by; nothing left; a configuration that is no release"`
	Interfaces []string  `json:"interfaces"`
	Tunnels    []string  `json:"tunnels" doc:"LINK to SITE/LINK"`
}

// A Leg is by which tunnels a gateway sent towards a site.
type Leg struct {
	Site  string `json:"site"`
	Bands []Band `json:"bands"`
}

// A Carried is by which tunnels one site's packets went to another, by gateway: the site's own,
// then the hubs that it sent them to.
type Carried struct {
	From    time.Time `json:"from"`
	To      time.Time `json:"to"`
	Seconds int       `json:"seconds" enum:"10,60,900" doc:"as finely as it is known"`
	Legs    []Leg     `json:"legs"`
	Marks   []Mark    `json:"marks"`
}

// A PairQuery asks what carried packets from a site to an address of another. Ran returns what a
// gateway ran, by its digest; nil where that is not known.
type PairQuery struct {
	Site, Other string
	Target      netip.Addr
	From, To    time.Time
	Ran         func(site, digest string) (*gateway.Config, error)
}

// mostLegs is how many gateways are told of, the first included.
const mostLegs = 5

// ReadPair reads which tunnels carried a pair when. Each tells of packets that no policy steers
// elsewhere.
func ReadPair(ctx context.Context, s *store.Store, estate uint64, q PairQuery) (*Carried, error) {
	tier, err := pick(q.From, q.To, time.Now())
	if err != nil {
		return nil, err
	}
	out := &Carried{From: q.From.UTC(), To: q.To.UTC(), Seconds: tier.Seconds, Legs: []Leg{}}
	err = s.Snapshot(ctx, func(tx *store.Tx) (err error) {
		out.Marks, err = marks(tx, estate, q.From, q.To)
		return err
	})
	for todo := []string{q.Site}; err == nil && len(todo) > 0 && len(out.Legs) < mostLegs; todo = todo[1:] {
		var leg *reading
		if leg, err = readLeg(ctx, s, estate, tier, &q, todo[0]); err != nil {
			break
		}
		out.Legs = append(out.Legs, Leg{todo[0], leg.bands})
		for _, peer := range leg.peers {
			if peer != q.Other && !slices.Contains(todo, peer) && !slices.ContainsFunc(out.Legs, func(l Leg) bool { return l.Site == peer }) {
				todo = append(todo, peer)
			}
		}
	}
	return out, err
}

// reading is one gateway's leg.
type reading struct {
	tier  *store.Tier
	bands []Band
	peers []string
}

func readLeg(ctx context.Context, s *store.Store, estate uint64, tier *store.Tier, q *PairQuery, site string) (*reading, error) {
	var layouts map[uint64]*names
	var rows []store.Sample
	err := s.Snapshot(ctx, func(tx *store.Tx) (err error) {
		if layouts, err = layoutsOf(tx, estate, site, func(n *names) bool { return n.Block == 0 }); err != nil {
			return err
		}
		rows, err = tx.Samples(tier, keys(layouts), q.From.Unix(), q.To.Unix())
		return err
	})
	if err != nil {
		return nil, err
	}
	out := &reading{tier: tier, bands: []Band{}}
	configs := map[string]*gateway.Config{}
	for i := range rows {
		n := layouts[rows[i].Layout]
		config, known := configs[n.Digest]
		if !known {
			if config, err = q.Ran(site, n.Digest); err != nil {
				return nil, err
			}
			configs[n.Digest] = config
		}
		r, err := unpack(rows[i].Data)
		if err != nil {
			return nil, err
		}
		out.add(rows[i].At, config, n, &r, q.Target)
	}
	return out, nil
}

// add goes on with the last band, or begins another.
func (l *reading) add(at int64, config *gateway.Config, n *names, r *row, target netip.Addr) {
	began := time.Unix(at, 0).UTC()
	one := Band{From: began, To: began.Add(time.Duration(l.tier.Seconds) * time.Second), State: "unknown", Interfaces: []string{}, Tunnels: []string{}}
	if config != nil {
		l.fill(&one, config, n, r, target)
	}
	if k := len(l.bands) - 1; k >= 0 {
		last := &l.bands[k]
		together := one.From.Sub(last.To) < time.Duration(l.tier.Seconds)*time.Second/2
		switch {
		case !one.From.After(last.From): // of two layouts
			return
		case together && last.State == one.State && slices.Equal(last.Interfaces, one.Interfaces):
			last.To = one.To
			return
		}
	}
	l.bands = append(l.bands, one)
}

func (l *reading) fill(b *Band, config *gateway.Config, n *names, r *row, target netip.Addr) {
	way := config.WayTo(target)
	if way == nil {
		return
	}
	k := in(n.Ways, way.ID)
	if k < 0 {
		return
	}
	group := slices.IndexFunc(way.Groups, func(g gateway.Group) bool { return g.Place == int(r.Groups.at(k)) })
	if group < 0 {
		b.State = "none"
		return
	}
	b.State = "standby"
	if group == 0 {
		b.State = "first"
	}
	for _, m := range way.Groups[group].Members {
		b.Interfaces = append(b.Interfaces, m.Interface)
		if t := config.Tunnel(m.Interface); t != nil {
			b.Tunnels = append(b.Tunnels, t.Link+" to "+t.Peer+"/"+t.PeerLink)
			if !slices.Contains(l.peers, t.Peer) {
				l.peers = append(l.peers, t.Peer)
			}
		}
	}
}
