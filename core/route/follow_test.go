package route

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/tunnel"
)

func read(t testing.TB, name string, change ...string) *Map {
	t.Helper()
	text, err := os.ReadFile("../../examples/" + name + ".yaml")
	if err != nil {
		t.Fatal(err)
	}
	changed := string(text)
	for i := 0; i+1 < len(change); i += 2 {
		if !strings.Contains(changed, change[i]) {
			t.Fatalf("the example has no %q", change[i])
		}
		changed = strings.Replace(changed, change[i], change[i+1], 1)
	}
	e, _, err := estate.Read(strings.NewReader(changed))
	if err != nil {
		t.Fatal(err)
	}
	return Build(tunnel.Derive(e))
}

// tell puts a walk in words: the sites it passes, and how it ends.
func (m *Map) tell(w *Walk) string {
	if w == nil {
		return "none"
	}
	var out []string
	for _, s := range w.Steps {
		out = append(out, fmt.Sprintf("%s %s>", m.Plan.Site(s.Site).Key, s.Overlay))
	}
	if w.Where >= 0 {
		out = append(out, m.Plan.Site(w.Where).Key)
	}
	return strings.Join(append(out, string(w.End)), " ")
}

func TestFollow(t *testing.T) {
	for _, c := range []struct {
		name     string
		change   []string
		from, to string
		protocol string
		forward  string
		back     string
		why      string
	}{
		{"within a site", nil, "10.50.2.5", "10.50.2.9", "", "tarn delivered", "tarn delivered", ""},
		{"by the mesh", nil, "10.50.2.5", "10.50.3.9", "", "tarn works> weir delivered", "weir works> tarn delivered", ""},
		{"permitted ping", nil, "10.50.4.5", "10.50.2.9", "icmp", "van ops> first ops> tarn delivered", "tarn ops> first ops> van delivered", ""},
		{"denied by a rule", nil, "10.50.4.5", "10.50.3.9", "icmp", "van denied", "none", "rule 2 of ops denies the packet"},
		{"the answer is denied", nil, "10.50.3.5", "10.50.4.9", "tcp", "weir ops> first ops> van delivered", "van denied", ""},
		{"denied by default", []string{"default: permit", "default: deny"}, "10.50.3.5", "10.50.4.9", "tcp", "weir denied", "none", "ops denies what no rule permits"},
		{"to the internet by the hub", nil, "10.50.4.5", "198.51.100.9", "", "van ops> first leaves", "first ops> van delivered", "by the internet link of first"},
		{"an exception leaves locally", nil, "10.50.4.5", "192.0.2.9", "", "van leaves", "none", "own internet link"},
		{"to the internet without breakout", nil, "10.50.3.5", "198.51.100.9", "", "weir leaves", "none", "own internet link"},
		{"from nowhere", nil, "10.99.0.1", "10.50.3.9", "", "not placed", "none", "no site has a subnet"},
		{"subnet not shared", []string{"zone: field, share: [ops]", "zone: field"}, "10.50.2.5", "10.50.4.9", "", "tarn dies", "none", "shared into no overlay that"},
		{"source not shared", []string{"zone: field, share: [ops]", "zone: field"}, "10.50.4.5", "10.50.2.9", "", "van dies", "none", "is shared into no overlay of the site"},
		{"shared into another overlay only", []string{"10.50.3.0/24, zone: control, share: [ops, works]", "10.50.3.0/24, zone: control, share: [works]"}, "10.50.4.5", "10.50.3.9", "", "van ops> first dies", "none", "no path to weir"},
		{"mapped: by its own address", []string{"10.50.3.0/24, zone: control", "192.168.9.0/24, map: 10.50.3.0/24, zone: control"}, "10.50.2.5", "192.168.9.9", "", "tarn dies", "none", "reached as 10.50.3.0/24 only"},
		{"mapped: by the mapped address", []string{"10.50.3.0/24, zone: control", "192.168.9.0/24, map: 10.50.3.0/24, zone: control"}, "10.50.2.5", "10.50.3.9", "", "tarn works> weir delivered", "weir works> tarn delivered", ""},
		{"two sites have the source", []string{"10.50.3.0/24", "10.50.2.0/24"}, "10.50.2.5", "10.50.1.9", "", "not placed", "none", "10.50.2.5 is at tarn and weir"},
		{"no path", []string{"hubs: [first]\n    spokes: [{site: tarn}, {site: weir}, {site: van}]", "hubs: [first]\n    spokes: [{site: tarn}, {site: weir}]\n    pins: []"}, "10.50.2.5", "10.50.4.9", "", "tarn dies", "none", "shared into no overlay that"},
	} {
		m := read(t, "breakout", c.change...)
		got := m.Follow(Packet{From: netip.MustParseAddr(c.from), To: netip.MustParseAddr(c.to), Protocol: c.protocol, Port: 443})
		if f, b := m.tell(&got.Forward), m.tell(got.Return); f != c.forward || b != c.back || !strings.Contains(got.Forward.Why, c.why) {
			t.Errorf("%s: %q, back %q, %q\nwant %q, back %q, %q", c.name, f, b, got.Forward.Why, c.forward, c.back, c.why)
		}
		if got.Forward.End == Dies && got.Forward.Fix == "" {
			t.Errorf("%s: no repair", c.name)
		}
	}
}

func TestPinMakesThePathAsymmetric(t *testing.T) {
	pin := "hubs: [first, second], pins: [{site: tarn, via: second, prefix: 10.50.4.0/24}]"
	m := read(t, "two-hubs", "hubs: [first, second]", pin)
	packet := Packet{From: netip.MustParseAddr("10.50.3.5"), To: netip.MustParseAddr("10.50.4.5")}
	got := m.Follow(packet)
	if got.Symmetric || !got.Arrives() || m.tell(&got.Forward) != "tarn ops> second ops> first ops> weir delivered" || m.tell(got.Return) != "weir ops> first ops> tarn delivered" {
		t.Errorf("%q and back %q", m.tell(&got.Forward), m.tell(got.Return))
	}
	for _, r := range m.Table(m.Plan.SiteIndex("tarn")) {
		if r.Kind == Overlay && (r.Hops[0].Why == Pinned) != (r.Prefix.String() == "10.50.4.0/24") {
			t.Errorf("%s: %s", r.Prefix, r.Hops[0].Why)
		}
	}
	if got := read(t, "two-hubs").Follow(packet); !got.Symmetric || got.MTU != 1440 {
		t.Errorf("without the pin: %+v", got)
	}
}

func TestBreakoutRoutes(t *testing.T) {
	m := read(t, "breakout")
	var got []string
	for _, r := range m.Table(m.Plan.SiteIndex("van")) {
		line := fmt.Sprintf("%s %s", r.Prefix, r.Kind)
		if r.Link != nil {
			line += fmt.Sprintf(" %s via %s", r.Link.Key, r.NextHop)
		}
		got = append(got, line)
	}
	want := []string{
		"0.0.0.0/0 breakout", "10.50.1.0/24 overlay", "10.50.2.0/24 overlay", "10.50.3.0/24 overlay", "10.50.4.0/24 connected",
		"192.0.2.0/24 local cell via 203.0.113.13", "203.0.113.2/32 pin cell via 203.0.113.13",
	}
	if !slices.Equal(got, want) {
		t.Errorf("%q\nwant %q", got, want)
	}
	peer := m.Plan.Peers(m.Plan.SiteIndex("van"))[0]
	if !slices.Contains(peer.Allowed(), netip.MustParsePrefix("0.0.0.0/0")) || slices.Contains(peer.Allowed(), netip.MustParsePrefix("10.50.1.0/24")) {
		t.Errorf("allowed from the hub: %v", peer.Allowed())
	}
}

func TestExtraTables(t *testing.T) {
	m := read(t, "breakout", "10.50.3.0/24, zone: control, share: [ops, works]", "10.50.3.0/24, zone: control, share: [works]")
	var got []string
	for _, site := range []string{"first", "tarn", "weir", "van"} {
		for _, x := range m.Extras(m.Plan.SiteIndex(site)) {
			got = append(got, fmt.Sprintf("%s: %s, %d interfaces, from %v", site, x.Why, len(x.Arriving), x.From))
		}
	}
	want := []string{
		"first: answers from the internet, 1 interfaces, from []", "first: stays in ops, 3 interfaces, from []",
		"weir: shared into works only, 0 interfaces, from [10.50.3.0/24]", "van: to the internet by ops, 0 interfaces, from [10.50.4.0/24]",
	}
	if !slices.Equal(got, want) {
		t.Errorf("%q\nwant %q", got, want)
	}
}

// The trace and the paths are two ways to the same answer.
func TestFollowAgreesWithPath(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 22))
	for range 40 {
		m := randomNetwork(t, r)
		for a := range m.Plan.Estate.Sites {
			for b := range m.Plan.Estate.Sites {
				if a == b {
					continue
				}
				got := m.Follow(Packet{From: m.Plan.Site(a).Subnets[0].Prefix.Addr().Next(), To: m.Plan.Site(b).Subnets[0].Prefix.Addr().Next()})
				var sites []int
				if got.Forward.End == Delivered {
					for _, s := range got.Forward.Steps {
						sites = append(sites, s.Site)
					}
					sites = append(sites, b)
					if !got.Symmetric || !got.Arrives() {
						t.Fatalf("%d to %d: %q, back %q", a, b, m.tell(&got.Forward), m.tell(got.Return))
					}
				}
				if !slices.Equal(sites, m.Path(0, a, b)) {
					t.Fatalf("%d to %d: followed %v, path %v", a, b, sites, m.Path(0, a, b))
				}
			}
		}
	}
}
