package outage

import (
	"math"
	"strings"
	"testing"

	"wideknot/examples"
)

// sharing reads the example of load sharing: tarn sends three parts by its
// fibre, one by its copper line, and cell stands by; overgill wants 40 Mbit/s,
// tarn 24, weir 8.
func sharing(t *testing.T, change ...string) *Model {
	t.Helper()
	e, err := examples.Estate("load-sharing", change...)
	if err != nil {
		t.Fatal(err)
	}
	return modelOf(e)
}

// Loads follow the weights, before and after a failure.
func TestSharedLoads(t *testing.T) {
	m := sharing(t)
	tarn := m.Plan.SiteIndex("tarn")
	// tarn and overgill: 40·24/max(32, 48) = 20; tarn and weir: 24·8/max(64, 48) = 3.
	want := map[string][2]float64{"fibre": {23 * .75, 0}, "copper": {23 * .25, 23}, "cell": {0, 0}}
	for i, l := range m.Plan.Site(tarn).Links {
		if got, _ := m.Load(tarn, i); math.Abs(got-want[l.Key][0]) > tiny {
			t.Errorf("%s carries %g, want %g", l.Key, got, want[l.Key][0])
		}
	}
	d := sheetOf(t, m, "link:tarn/fibre")
	if d.Squeezed != 2 || d.Moved != 0 || len(d.Over) != 1 || d.Over[0].Link != "copper" || math.Abs(d.Over[0].After-23) > tiny {
		t.Errorf("%+v", d.OutcomeSheet)
	}
	if len(d.Takeovers) != 1 || d.Takeovers[0].From.Tunnels() != "overgill/fibre tarn/fibre + overgill/fibre tarn/copper" || d.Takeovers[0].To.Tunnels() != "overgill/fibre tarn/copper" {
		t.Errorf("%+v", d.Takeovers)
	}
	if d := sheetOf(t, m, "link:tarn/copper"); d.Moved != 2 || d.Squeezed != 0 {
		t.Errorf("without copper: %+v", d.OutcomeSheet)
	}
	if d := sheetOf(t, m, "link:tarn/cell"); d.Moved+d.Squeezed+d.Cut != 0 {
		t.Errorf("without the standby: %+v", d.OutcomeSheet)
	}
	if d := sheetOf(t, m, "link:tarn/fibre", "link:tarn/copper"); d.Moved != 2 || d.Takeovers[0].To.Link != "cell" {
		t.Errorf("without both: %+v", d)
	}
}

// What a line has too much is counted by the part of the flows that takes it.
func TestSharedLoadIsShedByParts(t *testing.T) {
	m := sharing(t, "weight: 1, device: wan1, next_hop: [203.0.113.9], down_mbps: 10", "weight: 6, device: wan1, next_hop: [203.0.113.9], down_mbps: 10", "down_mbps: 40", "down_mbps: 12")
	if crowded := m.Crowded(); len(crowded) != 1 || math.Abs(crowded[0].Load-23*6/9.) > tiny {
		t.Errorf("%+v", crowded)
	}
	for fail, want := range map[string]float64{"link:tarn/fibre": 13, "link:tarn/fibre link:tarn/copper": 11} {
		d := sheetOf(t, m, strings.Fields(fail)...)
		shed := 0.0
		for _, l := range d.Lines {
			for _, s := range l.Shed {
				shed += s.Mbps
			}
		}
		if math.Abs(shed-want) > tiny {
			t.Errorf("%s: %g Mbit/s give way, want %g", fail, shed, want)
		}
	}
}

func TestCourseOfASharedTunnelsFailure(t *testing.T) {
	m := sharing(t)
	tarn, weir := m.Plan.SiteIndex("tarn"), m.Plan.SiteIndex("weir")
	text := func(parts ...Part) string {
		moments, err := m.Timeline(tarn, weir, parts...)
		if err != nil {
			t.Fatal(err)
		}
		var lines []string
		for _, x := range moments {
			lines = append(lines, x.Text)
		}
		return strings.Join(lines, "\n")
	}
	fibre, copper := Part{Kind: Link, Name: "tarn/fibre"}, Part{Kind: Link, Name: "tarn/copper"}
	for _, c := range []struct {
		parts []Part
		want  []string
	}{
		{[]Part{fibre}, []string{"through overgill/fibre tarn/fibre any more, which took 75 % of the flows", "lead into overgill/fibre tarn/copper then, which shared the load with it", "returns to overgill/fibre tarn/fibre"}},
		{[]Part{copper}, []string{"took 25 % of the flows", "lead into overgill/fibre tarn/fibre then, which shared"}},
		{[]Part{fibre, copper}, []string{"overgill/fibre tarn/fibre and overgill/fibre tarn/copper any more\n", "lead into overgill/fibre tarn/cell then, which was on standby"}},
	} {
		got := text(c.parts...)
		for _, want := range c.want {
			if !strings.Contains(got, want) {
				t.Errorf("%v: no %q in\n%s", c.parts, want, got)
			}
		}
	}
}

// The flows of each of the tunnels that share the load wait for one detection
// when it fails.
func TestSwitchTimeOfASharedLoad(t *testing.T) {
	m := sharing(t, "down_mbps: 30", "down_mbps: 30, availability: 99", "down_mbps: 10", "down_mbps: 10, availability: 98")
	got := m.Availability(m.Plan.SiteIndex("tarn")).Switch
	want := (.75*.01 + .25*.02) * MinutesPerYear / 60 / RepairHours * TimingOf(nil).Detect / 60
	if math.Abs(got-want) > 1e-9 {
		t.Errorf("%g minutes, want %g", got, want)
	}
}

// Where the sharing links let different zones through, a zone of only one is
// not safe.
func TestSharedLoadOfUnlikeZones(t *testing.T) {
	m := sharing(t, "weight: 1,", "weight: 1, zones: [office],", "10.60.1.0/24, zone: control", "10.60.1.0/24, zone: office")
	tarn, hub := m.Plan.SiteIndex("tarn"), m.Plan.SiteIndex("overgill")
	lanes := m.lanesOf(tarn, hub)
	var w way
	m.walk(m.none(), &lanes[0], tarn, hub, &w)
	if part := lanes[0].partOf(m.pass(&lanes[0], &w, false)); len(lanes) != 1 || part != 0 {
		t.Errorf("of the pairs of subnets, %g pass for certain", part)
	}
}
