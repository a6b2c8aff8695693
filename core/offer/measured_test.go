package offer

import (
	"fmt"
	"slices"
	"testing"

	"wideknot/core/estate"
)

func TestMiddle(t *testing.T) {
	for _, c := range []struct {
		list []float64
		want float64
	}{{[]float64{7}, 7}, {[]float64{9, 1}, 5}, {[]float64{9, 1, 2}, 2}, {[]float64{9, 1, 3, 2}, 2.5}, {[]float64{5, 40, 1, 9, 3, 2}, 4}} {
		if is := middle(slices.Clone(c.list)); is != c.want {
			t.Errorf("the middle of %v is %v, not %v", c.list, is, c.want)
		}
	}
}

// Figures of the survey are compared with what was measured, and taken.
func TestFigures(t *testing.T) {
	e := &estate.Estate{Sites: []estate.Site{{Key: "tarn", Links: []estate.Link{{Key: "fibre", LatencyMs: 10, JitterMs: 1, LossPercent: 1, Availability: 99.9, UpMbps: 20, DownMbps: 100}, {Key: "cell"}}}}}
	for i := range 5 {
		e.Sites = append(e.Sites, estate.Site{Key: fmt.Sprint("far", i), Links: []estate.Link{{Key: "dsl", LatencyMs: 20, JitterMs: 2, LossPercent: 1}}})
	}
	for _, c := range []struct {
		name string
		seen Measured
		want []string // what can be taken
	}{
		{"nothing was measured", Measured{}, nil},
		{"as it is said", with("fibre", 5, 30.9, 3.2, 1.99, 2), nil},
		{"more than it is said", with("fibre", 5, 45, 7, 4, 2), []string{"latency of WAN link fibre: 10 ms, 25 ms, by 5 tunnels", "jitter of WAN link fibre: 1 ms, 5 ms, by 5 tunnels", "loss of WAN link fibre: 1 %, 3.03 %, by 5 tunnels"}},
		{"less", with("fibre", 1, 24, 3, 1.99, 2), []string{"latency of WAN link fibre: 10 ms, 4 ms, by one tunnel"}},
		{"not for long enough", with("fibre", 5, 45, 7, 4, .5), nil},
		{"where nothing is said", with("cell", 3, 65, 12, 1.1, 2), []string{"latency of WAN link cell: , 45 ms, by 3 tunnels", "jitter of WAN link cell: , 10 ms, by 3 tunnels"}},
		{"one far end is not as it is said", func() Measured {
			m := with("fibre", 5, 30, 3, 1.99, 2)
			m.Tunnels[3].LatencyMs = 300
			return m
		}(), nil},
		{"a far end that is gone", Measured{Tunnels: []MeasuredTunnel{{Link: "fibre", Peer: "gone", PeerLink: "dsl", LatencyMs: 90, Hours: 9}, {Link: "fibre", Peer: "far1", PeerLink: "gone", LatencyMs: 90, Hours: 9}}}, nil},
		{"down for more than it is said", Measured{Links: []MeasuredLink{{"fibre", 240, .5}}}, []string{"availability of WAN link fibre: 99.9 %, 99.5 %, in 10 days"}},
		{"down as it is said", Measured{Links: []MeasuredLink{{"fibre", 240, .1}}}, nil},
		{"looked at for six days", Measured{Links: []MeasuredLink{{"fibre", 6 * 24, 9}}}, nil},
		{"it bears less than is said", rates(MeasuredRate{"fibre", true, 6, true, 100, "far1/dsl", "2026-12-01"}), []string{"up rate of WAN link fibre: 20 Mbit/s, 6 Mbit/s, tried with far1/dsl on 2026-12-01"}},
		{"down", rates(MeasuredRate{"fibre", false, 30, true, 0, "far1/dsl", "2026-12-01"}), []string{"down rate of WAN link fibre: 100 Mbit/s, 30 Mbit/s, tried with far1/dsl on 2026-12-01"}},
		{"it bears what is said", rates(MeasuredRate{"fibre", true, 19, false, 100, "far1/dsl", "2026-12-01"}), nil},
		{"the far end bears no more", rates(MeasuredRate{"fibre", false, 9.8, true, 10, "far1/dsl", "2026-12-01"}), nil},
		{"the last time counts", rates(MeasuredRate{"fibre", true, 19, false, 100, "far1/dsl", "2026-12-02"}, MeasuredRate{"fibre", true, 6, true, 100, "far1/dsl", "2026-12-01"}), nil},
		{"a rate where nothing is said", rates(MeasuredRate{"cell", true, 6, true, 0, "far1/dsl", "2026-12-01"}), []string{"up rate of WAN link cell: , 6 Mbit/s, tried with far1/dsl on 2026-12-01"}},
		{"no limit where nothing is said", rates(MeasuredRate{"cell", true, 10, false, 0, "far1/dsl", "2026-12-01"}), nil},
		{"availability where nothing is said", Measured{Links: []MeasuredLink{{"cell", 2160, 0}}}, []string{"availability of WAN link cell: , 100 %, in 90 days"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			items := Figures(e, "tarn", &c.seen)
			var open, ids []string
			for i := range items {
				if items[i].Open() {
					open, ids = append(open, fmt.Sprintf("%s: %s, %s", items[i].About, items[i].Survey, items[i].Seen)), append(ids, items[i].ID)
				}
			}
			if !slices.Equal(open, c.want) {
				t.Fatalf("%q\nnot\n%q", open, c.want)
			}
			taken, err := Take(&e.Sites[0], items, ids)
			if err != nil {
				t.Fatal(err)
			}
			after := e.Clone()
			after.Sites[0] = *taken
			for _, o := range Figures(after, "tarn", &c.seen) {
				if o.Open() {
					t.Errorf("after it was taken: %+v", o)
				}
			}
		})
	}
	if Figures(e, "nowhere", &Measured{}) != nil {
		t.Error("a site that is not there has figures")
	}
}

func rates(list ...MeasuredRate) Measured { return Measured{Rates: list} }

// with is what so many tunnels of a link measured alike.
func with(link string, n int, latency, jitter, loss, hours float64) (out Measured) {
	for i := range n {
		out.Tunnels = append(out.Tunnels, MeasuredTunnel{link, fmt.Sprint("far", i), "dsl", latency, jitter, loss, hours})
	}
	return out
}

func TestRounded(t *testing.T) {
	for v, want := range map[float64]float64{0: 0, .12345: .123, 4.5678: 4.57, 45.678: 45.7, 456.7: 456.7, 99.98765: 99.988, 100: 100, .0004: 0} {
		if got := rounded(v); got != want {
			t.Errorf("%v is %v, not %v", v, got, want)
		}
	}
}
