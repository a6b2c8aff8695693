package series

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/server/store"
)

// opened is a database with an estate and room for samples.
func opened(t testing.TB) (*store.Store, store.Access, uint64) {
	t.Helper()
	db, access := store.Testing(t)
	ctx := context.Background()
	e := store.Estate{Key: "works", CreatedAt: time.Now()}
	if err := db.InTransaction(ctx, func(tx *store.Tx) error { return tx.AddEstate(&e) }); err != nil {
		t.Fatal(err)
	}
	if err := db.KeepSamples(ctx, time.Now()); err != nil {
		t.Fatal(err)
	}
	return db, access, e.ID
}

func moment(at time.Time) gateway.Time { return gateway.Time(at.UTC().Format(time.RFC3339)) }

// measured is a sample as gateways make them, with numbers by chance.
func measured(random *rand.Rand, at time.Time, seconds, tunnels int) gateway.Sample {
	out := gateway.Sample{At: moment(at), Seconds: seconds, Digest: strings.Repeat("d", 64), Ways: []gateway.WayState{{ID: 1448190972, Group: 1}, {ID: 1217549705, Group: 1}}}
	for i := range tunnels {
		base := 4000 + 3000*i%60_000
		t := gateway.TunnelSample{
			Interface: fmt.Sprintf("far%d-%d", i/2, i+1), Probes: seconds, LatencyUs: base + random.IntN(2000), JitterUs: random.IntN(900),
			BytesIn: gateway.Counter(random.IntN(3_000_000 * seconds / 10)), BytesOut: gateway.Counter(random.IntN(3_000_000 * seconds / 10)),
		}
		t.MaxLatencyUs = t.LatencyUs + random.IntN(9000)
		if random.IntN(20) == 0 {
			t.Missed, t.LostOut = 1, 1
		}
		out.Tunnels = append(out.Tunnels, t)
	}
	for i := range 3 {
		out.Links = append(out.Links, gateway.LinkSample{Link: fmt.Sprint("link", i), BytesIn: gateway.Counter(random.IntN(10_000_000)), BytesOut: gateway.Counter(random.IntN(10_000_000))})
	}
	return out
}

func column(t *testing.T, s *Series, name string) []*float64 {
	t.Helper()
	i := slices.IndexFunc(s.Columns, func(c Column) bool { return c.Name == name })
	if i < 0 {
		t.Fatalf("no column %s", name)
	}
	return s.Columns[i].Values
}

// What was measured is read as it was kept, with a gap where nothing was; what comes twice, late or
// of another time is not kept twice, kept, or left out.
func TestKeepAndRead(t *testing.T) {
	db, _, estate := opened(t)
	ctx := context.Background()
	k := &Keeper{Store: db}
	now := time.Now().UTC().Truncate(time.Minute)
	first := gateway.Sample{Seconds: 10, Digest: "a", At: moment(now.Add(-10 * time.Minute)), Tunnels: []gateway.TunnelSample{{Interface: "x-1", Probes: 20, Missed: 5, LostOut: 3, LostBack: 2, LatencyUs: 12_340, MaxLatencyUs: 20_000, JitterUs: 560, BytesIn: 1250, BytesOut: 2500, Dead: 1}}, Links: []gateway.LinkSample{{Link: "fibre", BytesIn: 1250, Down: 5}}}
	second := first
	second.At, second.Digest = moment(now.Add(-10*time.Minute+10*time.Second)), "b"
	second.Tunnels = []gateway.TunnelSample{{Interface: "w-9"}, {Interface: "x-1", Probes: 20, Missed: 20, Dead: 10}}
	third := first
	third.At = moment(now.Add(-9 * time.Minute))
	tooOld, future := first, first
	tooOld.At, future.At = moment(now.AddDate(0, 0, -4)), moment(now.Add(5*time.Minute))
	batch := Batch{Estate: estate, Site: "tarn", Came: time.Now(), Now: moment(time.Now()), List: []gateway.Sample{first, second, third, tooOld, future}}
	wrong := batch
	wrong.Site, wrong.Now = "fast", moment(time.Now().Add(4*time.Minute))
	wrong.List = []gateway.Sample{first}
	wrong.List[0].At = moment(now.Add(-6 * time.Minute)) // it says so four minutes too late
	for range 2 {
		if err := k.Keep(ctx, []Batch{batch, wrong}); err != nil {
			t.Fatal(err)
		}
	}
	read := func(q Query) *Series {
		q.From, q.To = now.Add(-20*time.Minute), now.Add(time.Minute)
		s, err := Read(ctx, db, estate, q)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	s := read(Query{Site: "tarn", Interface: "x-1"})
	at := func(minutes, seconds int) int64 {
		return now.Add(-time.Duration(minutes) * time.Minute).Add(time.Duration(seconds) * time.Second).Unix()
	}
	if want := []int64{at(10, 0), at(10, 10), at(10, 20), at(9, 0)}; s.Seconds != 10 || !slices.Equal(s.At, want) {
		t.Fatalf("%d s, %v, not %v", s.Seconds, s.At, want)
	}
	for name, want := range map[string][4]float64{
		"latency": {12.34, -1, -1, 12.34}, "max_latency": {20, -1, -1, 20}, "jitter": {.56, -1, -1, .56}, "lost_there": {15, 0, -1, 15}, "lost_back": {10, 0, -1, 10},
		"unanswered": {25, 100, -1, 25}, "in": {1000, 0, -1, 1000}, "out": {2000, 0, -1, 2000}, "dead": {10, 100, -1, 10},
	} {
		for i, v := range column(t, s, name) {
			if v == nil && want[i] >= 0 || v != nil && *v != want[i] {
				t.Errorf("%s of row %d is %v, not %v", name, i, v, want[i])
			}
		}
	}
	sheet, err := s.CSV()
	if err != nil || !strings.HasPrefix(string(sheet), "time (UTC),seconds,latency (ms),max latency (ms),") || !strings.Contains(string(sheet), ",10,12.34,20,0.56,15,10,25,1000,2000,10\n") {
		t.Errorf("%v: %s", err, sheet)
	}
	if l := read(Query{Site: "tarn", Link: "fibre"}); *column(t, l, "in")[0] != 1000 || *column(t, l, "down")[0] != 50 {
		t.Errorf("%+v", l)
	}
	if f := read(Query{Site: "fast", Interface: "x-1"}); len(f.At) != 1 || f.At[0] != at(10, 0) {
		t.Errorf("of a clock that is fast: %v", f.At)
	}
	if other := read(Query{Site: "tarn", Interface: "y-1"}); len(other.At) != 0 {
		t.Errorf("of no tunnel: %v", other.At)
	}
	if s, err := Read(ctx, db, estate+1, Query{Site: "tarn", Interface: "x-1", From: now.Add(-time.Hour), To: now}); err != nil || len(s.At) != 0 {
		t.Errorf("another estate reads it: %v, %+v", err, s)
	}
}

func TestTheTierFits(t *testing.T) {
	now := time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		from, to time.Duration // before now
		seconds  int
	}{
		{time.Hour, 0, 10}, {4 * time.Hour, 0, 10}, {5 * time.Hour, 0, 60}, {71 * time.Hour, 70 * time.Hour, 10}, {73 * time.Hour, 72 * time.Hour, 60}, {24 * time.Hour, 0, 60}, {26 * time.Hour, 0, 900},
		{22 * 24 * time.Hour, 22*24*time.Hour - time.Minute, 900}, {90 * 24 * time.Hour, 0, 900}, {time.Hour, time.Hour, 0}, {0, time.Hour, 0}, {92 * 24 * time.Hour, 0, 0}, {time.Hour, -25 * time.Hour, 0},
	} {
		tier, err := pick(now.Add(-c.from), now.Add(-c.to), now)
		if (err != nil) != (c.seconds == 0) || tier != nil && tier.Seconds != c.seconds {
			t.Errorf("from %v to %v: %+v, %v", c.from, c.to, tier, err)
		}
	}
}

// Of a hub with a thousand tunnels each is found, in the row of its block.
func TestAHubIsKeptByBlocks(t *testing.T) {
	db, _, estate := opened(t)
	k := &Keeper{Store: db}
	random := rand.New(rand.NewPCG(3, 3))
	now := time.Now().Truncate(10 * time.Second)
	s := measured(random, now.Add(-time.Minute), 10, 1000)
	if err := k.Keep(context.Background(), []Batch{{estate, "hub", now, []gateway.Sample{s}, moment(now)}}); err != nil {
		t.Fatal(err)
	}
	for _, i := range []int{0, 31, 32, 500, 999} {
		got, err := Read(context.Background(), db, estate, Query{Site: "hub", Interface: s.Tunnels[i].Interface, From: now.Add(-time.Hour), To: now})
		if err != nil || len(got.At) != 1 || off(*column(t, got, "in")[0], float64(s.Tunnels[i].BytesIn)*8/10) > .001 {
			t.Errorf("tunnel %d: %v, %+v", i, err, got)
		}
	}
}

// off is by which part a number is off another.
func off(is, want float64) float64 { return math.Abs(is-want) / max(want, 1) }

// Numbers are what they were, up to 2047, and hardly less beyond.
func TestNumbers(t *testing.T) {
	var n numbers
	list := []uint64{0, 1, 2047, 2048, 2049, 65_535, 1 << 20, 123_456_789, 1<<40 + 12345}
	for _, v := range list {
		n.add(v)
	}
	for i, v := range list {
		if got := n.at(i); v <= 2047 && got != v || got > v || off(float64(got), float64(v)) > .001 {
			t.Errorf("%d is %d", v, got)
		}
	}
	if n.shortened().at(8) != n.at(8) || n.at(9) != 0 {
		t.Error("what differs was left out")
	}
	same := numbers{}
	for range 5 {
		same.add(77)
	}
	if s := same.shortened(); len(s) != 2 || s.at(4) != 77 || (numbers{0, 0, 0, 0}).shortened().at(1) != 0 {
		t.Errorf("%v", s)
	}
}

// Bands tell which tunnels carried, by each gateway on the way.
func TestPair(t *testing.T) {
	db, _, estate := opened(t)
	k := &Keeper{Store: db}
	now := time.Now().UTC().Truncate(time.Minute)
	begin := now.Add(-10 * time.Minute)
	spoke := &gateway.Config{
		Site:    "tarn",
		Tunnels: []gateway.Tunnel{{Interface: "hub-1", Link: "fibre", Peer: "hub", PeerLink: "one"}, {Interface: "hub-2", Link: "cell", Peer: "hub", PeerLink: "two"}},
		Ways:    []gateway.Way{{ID: 5, Groups: []gateway.Group{{Place: 1, Members: []gateway.Member{{Interface: "hub-1"}}}, {Place: 2, Members: []gateway.Member{{Interface: "hub-2"}}}}}},
		Routes:  []gateway.Route{{Prefix: netip.MustParsePrefix("10.0.0.0/8"), Way: 5}},
	}
	hub := &gateway.Config{
		Site: "hub", Tunnels: []gateway.Tunnel{{Interface: "far-1", Link: "one", Peer: "far", PeerLink: "dsl"}},
		Ways:   []gateway.Way{{ID: 8, Groups: []gateway.Group{{Place: 1, Members: []gateway.Member{{Interface: "far-1"}}}}}},
		Routes: []gateway.Route{{Prefix: netip.MustParsePrefix("10.7.0.0/16"), Way: 8}},
	}
	var batches []Batch
	for site, groups := range map[string][]int{"tarn": {1, 1, 2, 2, 0, 1}, "hub": {1, 1, 1, 1, 1, 1}} {
		b := Batch{Estate: estate, Site: site, Came: time.Now(), Now: moment(time.Now())}
		id := 5
		if site == "hub" {
			id = 8
		}
		for i, g := range groups {
			b.List = append(b.List, gateway.Sample{At: moment(begin.Add(time.Duration(i) * 10 * time.Second)), Seconds: 10, Digest: site, Ways: []gateway.WayState{{ID: id, Group: g}}})
		}
		b.List = append(b.List, gateway.Sample{At: moment(begin.Add(5 * time.Minute)), Seconds: 10, Digest: "by hand", Ways: []gateway.WayState{{ID: id, Group: 1}}})
		batches = append(batches, b)
	}
	if err := k.Keep(context.Background(), batches); err != nil {
		t.Fatal(err)
	}
	got, err := ReadPair(context.Background(), db, estate, PairQuery{
		Site: "tarn", Other: "far", Target: netip.MustParseAddr("10.7.0.1"), From: begin.Add(-time.Minute), To: now,
		Ran: func(_, digest string) (*gateway.Config, error) {
			return map[string]*gateway.Config{"tarn": spoke, "hub": hub}[digest], nil
		},
	})
	if err != nil {
		t.Fatal(err)
	}
	var text []string
	for _, l := range got.Legs {
		for _, b := range l.Bands {
			text = append(text, fmt.Sprintf("%s %v-%v %s %v", l.Site, b.From.Sub(begin), b.To.Sub(begin), b.State, b.Tunnels))
		}
	}
	want := []string{
		"tarn 0s-20s first [fibre to hub/one]", "tarn 20s-40s standby [cell to hub/two]", "tarn 40s-50s none []", "tarn 50s-1m0s first [fibre to hub/one]", "tarn 5m0s-5m10s unknown []",
		"hub 0s-1m0s first [one to far/dsl]", "hub 5m0s-5m10s unknown []",
	}
	if !slices.Equal(text, want) {
		t.Errorf("%q\nnot\n%q", text, want)
	}
}
