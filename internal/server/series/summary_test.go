package series

import (
	"context"
	"testing"
	"time"

	"wideknot/core/gateway"
)

// Quarters of an hour are summed up: what half the time was not exceeded, the loss of one way, and
// how much of 90 days a link was down.
func TestSummary(t *testing.T) {
	db, _, estate := opened(t)
	k := &Keeper{Store: db}
	now := time.Now().UTC().Truncate(15 * time.Minute)
	b := Batch{Estate: estate, Site: "tarn", Came: time.Now(), Now: moment(time.Now())}
	row := func(ago time.Duration, latency, probes, missed, lost, down int) {
		b.List = append(b.List, gateway.Sample{
			At: moment(now.Add(-ago)), Seconds: 900, Digest: "d", Links: []gateway.LinkSample{{Link: "fibre", Down: down}},
			Tunnels: []gateway.TunnelSample{{Interface: "x-1", Probes: probes, Missed: missed, LostOut: lost, LatencyUs: latency, JitterUs: latency / 10}},
		})
	}
	row(30*24*time.Hour, 900_000, 1800, 0, 1800, 0) // too long ago for what it is like now
	row(4*time.Hour, 10_000, 1800, 18, 18, 0)
	row(3*time.Hour, 20_000, 1800, 18, 18, 450)
	row(2*time.Hour, 90_000, 1800, 0, 0, 0)
	row(1*time.Hour, 0, 1800, 1800, 0, 900) // dead: it is like nothing
	if err := k.Keep(context.Background(), []Batch{b}); err != nil {
		t.Fatal(err)
	}
	tunnels, links, err := Summary(context.Background(), db, estate, "tarn")
	if err != nil || len(tunnels) != 1 || len(links) != 1 {
		t.Fatal(tunnels, links, err)
	}
	if want := (TunnelSummary{"x-1", 20, 2, 50 * 36 / 5400., .75}); off(tunnels[0].LossPercent, want.LossPercent) > .001 || tunnels[0].LatencyMs != 20 || tunnels[0].JitterMs != 2 || tunnels[0].Hours != .75 {
		t.Errorf("%+v, not %+v", tunnels[0], want)
	}
	if l := links[0]; l.Link != "fibre" || l.Hours != 1.25 || l.DownPercent != 30 {
		t.Errorf("%+v", l)
	}
	if tunnels, links, err := Summary(context.Background(), db, estate, "weir"); err != nil || len(tunnels)+len(links) > 0 {
		t.Error("of a site without rows:", tunnels, links, err)
	}
}
