package outage

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// limitedHub is a hub with two links and spokes with one, of which one zone is held to
// limits.
func limitedHub(t testing.TB) *Model {
	t.Helper()
	text := `
wideknot: 1
estate: {name: Brindlewater}
sites:
  - key: hub
    gateway: {switches: true}
    links: [{key: a, reach: static, addresses: [203.0.113.1], down_mbps: 9}, {key: b, reach: static, addresses: [203.0.113.2], rank: 2, down_mbps: 9}]
    subnets: [{prefix: 10.1.0.0/24, zone: voice, share: [ops]}, {prefix: 10.1.1.0/24, zone: bulk, share: [ops]}]
`
	spokes := ""
	for i := 2; i < 5; i++ {
		text += fmt.Sprintf("  - {key: spoke-%d, demand_mbps: 2, gateway: {switches: true}, links: [{key: c, reach: nat}], subnets: [{prefix: 10.%d.0.0/24, zone: bulk, share: [ops]}]}\n", i, i)
		spokes += fmt.Sprintf("{site: spoke-%d}, ", i)
	}
	text += `overlays:
  - key: ops
    shape: hub-and-spoke
    transit: [100.96.0.0/16]
    hubs: [hub]
    spokes: [` + strings.TrimSuffix(spokes, ", ") + `]
    probe: {interval_ms: 500, limits: {latency_ms: 150, window_s: 20, zones: [voice]}}
`
	e, _, err := estate.Read(strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	return New(route.Build(tunnel.Derive(e)))
}

// A slow link moves what is held to limits, and leaves it where it is, squeezed, where
// nothing else is within them. Of loss there is no limit here, so nothing is lossy.
func TestSlowLinks(t *testing.T) {
	m := limitedHub(t)
	var names []string
	for _, p := range m.Parts() {
		if p.Degree != Dead {
			names = append(names, p.String())
		}
	}
	if want := "slow:link:hub/a slow:link:hub/b slow:link:spoke-2/c slow:link:spoke-3/c slow:link:spoke-4/c slow:underlay:internet"; strings.Join(names, " ") != want {
		t.Errorf("what may be slow: %v", names)
	}
	for part, want := range map[string]Outcome{
		"slow:link:hub/a":        {Moved: 3},
		"slow:link:hub/b":        {},
		"slow:link:spoke-2/c":    {Squeezed: 1, Beyond: 1},
		"slow:gateway:spoke-2":   {Squeezed: 1, Beyond: 1},
		"slow:underlay:internet": {Squeezed: 3, Beyond: 3},
		"lossy:link:hub/a":       {},
		"link:hub/a":             {Moved: 6}, // spokes reach each other by it too
	} {
		p, err := ParsePart(part)
		if err != nil || p.String() != part {
			t.Fatalf("%s: %v, %v", part, p, err)
		}
		o, err := m.Fail(p)
		if err != nil || o.Moved != want.Moved || o.Squeezed != want.Squeezed || o.Beyond != want.Beyond || o.Cut != 0 {
			t.Errorf("%s: %+v, %v; want %+v", part, o, err, want)
		}
	}
	both := []Part{{Kind: Link, Name: "hub/a", Degree: Slow}, {Kind: Link, Name: "hub/b"}}
	if o, err := m.Fail(both...); err != nil || o.Squeezed != 3 || o.Beyond != 3 {
		t.Errorf("one slow and the other dead: %+v, %v", o, err)
	}
	detail, err := m.Explain(Part{Kind: Link, Name: "spoke-2/c", Degree: Slow})
	if err != nil || detail.Another != 0 || len(detail.Takeovers) == 0 || !detail.Takeovers[0].To.Beyond {
		t.Errorf("%+v, %v", detail, err)
	}
	if got := m.Pairs(m.Parts()); slices.ContainsFunc(got, func(o Outcome) bool { return o.Parts[0].Degree != Dead || o.Parts[1].Degree != Dead }) {
		t.Error("what is slow is tried two by two")
	}
	if s := m.Standing().Timings[0]; s.Exceed != 0 || s.Probe.Limits == nil {
		t.Errorf("%+v", s)
	}
	for _, text := range []string{"slow:", "slow:link", "slow:slow:link:a/b", "dead:link:a/b", "Slow:link:a/b"} {
		if p, err := ParsePart(text); err == nil {
			t.Errorf("%q is read as %v", text, p)
		}
	}
}

// The course of what is slow is told by the window, for who moves and who cannot.
func TestCourseOfWhatIsSlow(t *testing.T) {
	m := limitedHub(t)
	hub, spoke := m.Plan.SiteIndex("hub"), m.Plan.SiteIndex("spoke-2")
	tell := func(part string) string {
		p, err := ParsePart(part)
		if err != nil {
			t.Fatal(err)
		}
		moments, err := m.Timeline(hub, spoke, p)
		if err != nil {
			t.Fatal(err)
		}
		var lines []string
		for _, one := range moments {
			lines = append(lines, fmt.Sprintf("%v %.1f %s: %s", one.Repaired, one.After, one.Phase, one.Text))
		}
		return strings.Join(lines, "\n")
	}
	const moves = `false 0.0 fail: link hub/a is slow; hub/a spoke-2/c still carries, beyond its limits
false 23.3 detect: the figures of the last 20 s are beyond latency 150 ms; less than a whole window of them is enough where they are far beyond
false 23.3 switch: voice goes by hub/b spoke-2/c; all else stays
true 0.0 repair: hub/a spoke-2/c is as it was
true 44.0 hold: hub/a spoke-2/c kept to 80 % of its limits for a whole window, so that it does not swing
true 45.3 return: voice returns to hub/a spoke-2/c`
	if got := tell("slow:link:hub/a"); got != moves {
		t.Errorf("%s", got)
	}
	if got := tell("slow:link:spoke-2/c"); !strings.Contains(got, "no other tunnel between the two gateways is within the limits: voice stays") || strings.Contains(got, "true") {
		t.Errorf("%s", got)
	}
	if got := tell("slow:link:hub/b"); got != "" {
		t.Errorf("what stands by is slow: %s", got)
	}
}

// Whatever is slow or lossy, there is a course or none for each two sites of estates with
// every feature, pins and overlays without limits among them.
func TestEveryCourseIsTold(t *testing.T) {
	told := 0
	for seed := range uint64(60) {
		e := sample.Mixed(seed)
		limiting(e, seed)
		m := New(route.Build(tunnel.Derive(e)))
		for _, part := range m.Parts() {
			for _, part.Degree = range []Degree{Slow, Lossy} {
				for x := range e.Sites {
					for y := range e.Sites {
						if moments, err := m.Timeline(x, y, part); err == nil && moments != nil {
							told++
						}
					}
				}
			}
		}
	}
	if told < 200 {
		t.Errorf("only %d courses", told)
	}
}
