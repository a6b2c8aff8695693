package series

import (
	"context"
	"slices"
	"time"

	"wideknot/internal/server/store"
)

// How far back is looked for what a tunnel is like, and for how much a link was down.
const (
	qualityDays = 7
	downDays    = 90
)

// A TunnelSummary is what half the time was not exceeded, and the loss of one way, of one end of a
// tunnel in the last seven days.
type TunnelSummary struct {
	Interface           string
	LatencyMs, JitterMs float64
	LossPercent         float64
	Hours               float64
}

// A LinkSummary is how long a WAN link was looked at in the last 90 days, and how much of that none
// of its tunnels lived.
type LinkSummary struct {
	Link        string
	Hours       float64
	DownPercent float64
}

// Summary sums up what a site's gateway measured, by quarters of an hour.
func Summary(ctx context.Context, s *store.Store, estate uint64, site string) (tunnels []TunnelSummary, links []LinkSummary, err error) {
	tier := &store.Tiers[len(store.Tiers)-1]
	now := time.Now()
	var layouts map[uint64]*names
	var lately, before []store.Sample
	err = s.Snapshot(ctx, func(tx *store.Tx) (err error) {
		if layouts, err = layoutsOf(tx, estate, site, func(*names) bool { return true }); err != nil {
			return err
		}
		from := now.AddDate(0, 0, -qualityDays).Unix()
		if lately, err = tx.Samples(tier, keys(layouts), from, now.Unix()); err != nil {
			return err
		}
		first := make(map[uint64]*names, len(layouts))
		for id, n := range layouts {
			if n.Block == 0 {
				first[id] = n
			}
		}
		before, err = tx.Samples(tier, keys(first), now.AddDate(0, 0, -downDays).Unix(), from)
		return err
	})
	if err != nil {
		return nil, nil, err
	}
	k := &summing{tunnels: map[string]*sums{}, links: map[string]*downtime{}, seconds: tier.Seconds}
	for i := range before {
		if err := k.add(layouts[before[i].Layout], &before[i], false); err != nil {
			return nil, nil, err
		}
	}
	for i := range lately {
		if err := k.add(layouts[lately[i].Layout], &lately[i], true); err != nil {
			return nil, nil, err
		}
	}
	return k.told()
}

type summing struct {
	tunnels map[string]*sums
	links   map[string]*downtime
	seconds int
}

type sums struct {
	latency, jitter      []float64
	probes, lostA, lostB uint64
	rows                 int
}

type downtime struct {
	down uint64
	rows int
}

func (k *summing) add(n *names, raw *store.Sample, quality bool) error {
	r, err := unpack(raw.Data)
	if err != nil {
		return err
	}
	for i, name := range n.Links {
		l := k.links[name]
		if l == nil {
			l = &downtime{}
			k.links[name] = l
		}
		l.down, l.rows = l.down+r.LinkDown.at(i), l.rows+1
	}
	if !quality {
		return nil
	}
	for i, name := range n.Tunnels {
		probes, missed := r.Probes.at(i), r.Missed.at(i)
		if probes == missed {
			continue
		}
		t := k.tunnels[name]
		if t == nil {
			t = &sums{}
			k.tunnels[name] = t
		}
		t.latency, t.jitter = append(t.latency, float64(r.Latency.at(i))*fine/1000), append(t.jitter, float64(r.Jitter.at(i))*fine/1000)
		t.probes, t.lostA, t.lostB, t.rows = t.probes+probes, t.lostA+r.LostOut.at(i), t.lostB+r.LostBack.at(i), t.rows+1
	}
	return nil
}

func (k *summing) told() (tunnels []TunnelSummary, links []LinkSummary, err error) {
	hours := func(rows int) float64 { return float64(rows*k.seconds) / 3600 }
	middle := func(list []float64) float64 {
		slices.Sort(list)
		return list[len(list)/2]
	}
	for _, name := range sorted(k.tunnels) {
		t := k.tunnels[name]
		tunnels = append(tunnels, TunnelSummary{name, middle(t.latency), middle(t.jitter), min(100, 50*float64(t.lostA+t.lostB)/float64(t.probes)), hours(t.rows)})
	}
	for _, name := range sorted(k.links) {
		l := k.links[name]
		links = append(links, LinkSummary{name, hours(l.rows), min(100, 100*float64(l.down)/float64(l.rows*k.seconds))})
	}
	return tunnels, links, nil
}

func sorted[T any](m map[string]T) (out []string) {
	for name := range m {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}
