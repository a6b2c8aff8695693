package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/url"
	"slices"
	"time"

	"wideknot/core/gateway"
	"wideknot/e2e/browser"
	"wideknot/e2e/sampled"
	"wideknot/internal/server/series"
	"wideknot/internal/server/store"
)

// finest is for how many hours samples of 10 s are written: no plot reads more of them.
const finest = 2

// history writes what the gateways would have measured in some hours, while they are away, and
// prints how soon pages of Watch are usable then.
func (f *fleet) history(ctx context.Context, hours int) error {
	dsn, err := f.server.DSN()
	if err != nil {
		return err
	}
	db, err := store.Connect(ctx, dsn)
	if err != nil {
		return err
	}
	defer db.Close()
	var estate store.Estate
	if err := db.Snapshot(ctx, func(tx *store.Tx) (err error) { estate, err = tx.Estate("load", false); return err }); err != nil {
		return err
	}
	now := time.Now().UTC().Truncate(15 * time.Minute)
	if err := db.KeepSamples(ctx, now); err != nil {
		return err
	}
	random := rand.New(rand.NewPCG(19, 4))
	keeper := &series.Keeper{Store: db}
	digests := make(map[*light]string, len(f.all)) // which take long to work out
	for _, g := range f.all {
		g.stop()
		digests[g] = g.is.Digest()
	}
	began, rows := time.Now(), 0
	for i := range store.Tiers {
		tier := &store.Tiers[i]
		long := hours
		if i == 0 {
			long = min(long, finest)
		}
		for at := now.Add(-time.Duration(long) * time.Hour); at.Before(now); at = at.Add(time.Duration(tier.Seconds) * time.Second) {
			for part := range slices.Chunk(f.all, 250) {
				batches := make([]series.Batch, len(part))
				for k, g := range part {
					batches[k] = series.Batch{Estate: estate.ID, Site: g.site, Came: time.Now(), Now: moment(time.Now()), List: []gateway.Sample{g.measured(random, at, tier.Seconds, digests[g])}}
				}
				if err := keeper.Keep(ctx, batches); err != nil {
					return err
				}
				rows += len(part)
			}
		}
	}
	took := time.Since(began)
	fmt.Printf("%d samples of %d hours in %.0f s, %.0f a second\n", rows, hours, took.Seconds(), float64(rows)/took.Seconds())
	for _, g := range f.all {
		g.begin(ctx)
	}
	f.until("are there again", time.Minute, func(g row) bool { return g.Up })
	return f.pages()
}

func moment(at time.Time) gateway.Time { return gateway.Time(at.UTC().Format(time.RFC3339)) }

// measured is a sample with figures by chance.
func (g *light) measured(random *rand.Rand, at time.Time, seconds int, digest string) gateway.Sample {
	g.mu.Lock()
	defer g.mu.Unlock()
	out := gateway.Sample{At: moment(at), Seconds: seconds, Digest: digest}
	for i := range g.is.Tunnels {
		latency := 9000 + 700*(i%40) + random.IntN(2000)
		out.Tunnels = append(out.Tunnels, gateway.TunnelSample{
			Interface: g.is.Tunnels[i].Interface, Probes: seconds, LatencyUs: latency, MaxLatencyUs: latency + random.IntN(9000), JitterUs: random.IntN(900),
			BytesIn: gateway.Counter(random.IntN(300_000 * seconds)), BytesOut: gateway.Counter(random.IntN(300_000 * seconds)),
		})
	}
	for i := range g.is.Links {
		out.Links = append(out.Links, gateway.LinkSample{Link: g.is.Links[i].Key, BytesIn: gateway.Counter(random.IntN(900_000 * seconds)), BytesOut: gateway.Counter(random.IntN(900_000 * seconds))})
	}
	for i := range g.is.Ways {
		out.Ways = append(out.Ways, gateway.WayState{ID: g.is.Ways[i].ID, Group: 1})
	}
	return out
}

// pages prints how soon pages of Watch are usable, in a browser, the median of five.
func (f *fleet) pages() error {
	b, stop, err := browser.Start()
	if err != nil {
		return err
	}
	defer stop()
	page, err := browser.Open(b, f.server.URL)
	if err != nil {
		return err
	}
	page = page.Timeout(5 * time.Minute)
	if err := browser.SignIn(page, sampled.Email, sampled.Password); err != nil {
		return err
	}
	hub := slices.MaxFunc(f.all, func(a, b *light) int { return len(a.is.Tunnels) - len(b.is.Tunnels) })
	spoke := slices.MinFunc(f.all, func(a, b *light) int { return len(a.is.Tunnels) - len(b.is.Tunnels) })
	over := func(g *light, of string, hours int) string {
		return "/watch/-/time?" + url.Values{"site": {g.site}, "interface": {of}, "hours": {fmt.Sprint(hours)}}.Encode()
	}
	for _, v := range []struct{ name, path, ready string }{
		{"Watch", "/watch", "[data-gateway]"},
		{"the page of a hub", "/watch/" + hub.site, "[data-testid=tunnel-ends] td"},
		{"the live loom, a region unfolded", "/watch/-/loom?region=north", "[data-testid=live-loom] [data-row] a"},
		{"the page of a pair", "/watch/-/pair?" + url.Values{"a": {spoke.site}, "b": {hub.site}}.Encode(), "[data-testid=pair-verdict]"},
		{"the page of a tunnel", "/watch/-/tunnel?" + url.Values{"overlay": {"ops"}, "tunnel": {spoke.is.Tunnels[0].Ident(spoke.site)}}.Encode(), "[data-testid=tunnel-state]"},
		{"the last hour of a tunnel", over(spoke, spoke.is.Tunnels[0].Interface, 1), "[data-plot] canvas"},
		{"the last day of a tunnel", over(spoke, spoke.is.Tunnels[0].Interface, 24), "[data-plot] canvas"},
		{"the last day of a hub's", over(hub, hub.is.Tunnels[len(hub.is.Tunnels)/2].Interface, 24), "[data-plot] canvas"},
		{"a day of what carried a pair", "/watch/-/time?" + url.Values{"site": {spoke.site}, "other": {hub.site}, "hours": {"24"}}.Encode(), "[data-leg]"},
	} {
		var waits []time.Duration
		for range 5 {
			start := time.Now()
			if err := page.Navigate(f.server.URL + sampled.Page + v.path); err != nil {
				return err
			}
			if _, err := page.Element(v.ready); err != nil {
				return fmt.Errorf("%s: %w", v.name, err)
			}
			waits = append(waits, time.Since(start))
		}
		slices.Sort(waits)
		fmt.Printf("%s: usable after %d ms (worst of 5 %d)\n", v.name, waits[2].Milliseconds(), waits[4].Milliseconds())
	}
	return nil
}
