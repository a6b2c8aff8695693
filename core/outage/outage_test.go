package outage

import (
	"fmt"
	"math"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// small is two hubs and three spokes: "a" with fibre and cell on one mast, "b"
// with copper and satellite, "c" with one line.
func small() *estate.Estate {
	static := func(key string, last byte, mbps float64) estate.Link {
		return estate.Link{Key: key, Provider: "Lumenway", Reach: estate.Static, Addresses: []netip.Addr{netip.AddrFrom4([4]byte{203, 0, 113, last})}, Rank: 1, DownMbps: mbps, Availability: 99.9}
	}
	out := func(key, provider string, rank int, mbps, availability float64, fate ...string) estate.Link {
		return estate.Link{Key: key, Provider: provider, Reach: estate.NAT, Rank: rank, DownMbps: mbps, Availability: availability, SharedFate: fate}
	}
	site := func(key string, block byte, demand float64, links ...estate.Link) estate.Site {
		subnet := func(third byte, zone string) estate.Subnet {
			return estate.Subnet{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, block, third, 0}), 24), Zone: zone, Share: []string{"ops"}}
		}
		return estate.Site{Key: key, Name: key, Region: "north", DemandMbps: demand, Gateway: estate.Gateway{Switches: true}, Links: links, Subnets: []estate.Subnet{subnet(0, "control"), subnet(1, "office")}}
	}
	return &estate.Estate{
		Format: estate.Format, About: estate.About{Name: "Small", Regions: []estate.Region{{Key: "north"}}},
		Sites: []estate.Site{
			site("hub-1", 1, 20, static("wan", 1, 100)),
			site("hub-2", 2, 20, static("wan", 2, 100)),
			site("a", 3, 10, out("fibre", "Tallow", 1, 50, 99.9, "mast-1"), out("cell", "Skylark", 2, 20, 99, "mast-1")),
			site("b", 4, 10, out("copper", "Tallow", 1, 16, 99), out("sat", "Highorbit", 2, 2, 98)),
			site("c", 5, 1, out("line", "Tallow", 1, 16, 99)),
		},
		Overlays: []estate.Overlay{{
			Key: "ops", Shape: estate.HubAndSpoke, Transport: estate.WireGuard, Pairing: estate.Every, Numbering: estate.PerTunnel,
			Transit: []netip.Prefix{netip.MustParsePrefix("100.64.0.0/16")}, Hubs: []string{"hub-1", "hub-2"},
			Spokes: []estate.Spoke{{Site: "a"}, {Site: "b"}, {Site: "c"}},
		}},
	}
}

func modelOf(e *estate.Estate) *Model { return New(route.Build(tunnel.Derive(e))) }

func sheetOf(t *testing.T, m *Model, fail ...string) DetailSheet {
	t.Helper()
	var parts []Part
	for _, text := range fail {
		p, err := ParsePart(text)
		if err != nil {
			t.Fatal(err)
		}
		parts = append(parts, p)
	}
	d, err := m.Explain(parts...)
	if err != nil {
		t.Fatal(err)
	}
	return m.DetailSheet(d)
}

func TestVerdicts(t *testing.T) {
	m := modelOf(small())
	for _, c := range []struct {
		fail                 string
		cut, squeezed, moved int
		lost                 string
		sites                string
	}{
		{"link:a/fibre", 0, 0, 4, "", "a moved"},
		{"link:a/cell", 0, 0, 0, "", ""},
		{"fate:mast-1", 4, 0, 0, "a", "a cut"},
		{"link:b/copper", 0, 4, 0, "", "b squeezed"}, // 10 Mbit/s do not go through 2
		{"link:c/line", 4, 0, 0, "c", "c cut"},
		{"gateway:hub-2", 4, 0, 0, "", "hub-2 cut"},
		{"gateway:hub-1", 4, 0, 6, "", "hub-1 cut, hub-2 moved, a moved, b moved, c moved"},
		{"provider:Tallow", 4, 3, 2, "c", "a moved, b squeezed, c cut"},
		{"region:north", 10, 0, 0, "", "hub-1 cut, hub-2 cut, a cut, b cut, c cut"},
		{"link:a/fibre link:a/cell", 4, 0, 0, "a", "a cut"},
	} {
		d := sheetOf(t, m, strings.Fields(c.fail)...)
		var sites []string
		for _, s := range d.Sites {
			sites = append(sites, s.Site+" "+s.Verdict)
		}
		if d.Cut != c.cut || d.Squeezed != c.squeezed || d.Moved != c.moved || strings.Join(d.Lost, " ") != c.lost || strings.Join(sites, ", ") != c.sites {
			t.Errorf("%s: %d cut, %d squeezed, %d moved; lost %v; %s", c.fail, d.Cut, d.Squeezed, d.Moved, d.Lost, strings.Join(sites, ", "))
		}
	}
	for _, text := range []string{"link:a", "link", "mast:1", "fate:", "link:a/none", "gateway:none"} {
		p, err := ParsePart(text)
		if err == nil {
			_, err = m.Fail(p)
		}
		if err == nil {
			t.Errorf("%q is taken", text)
		}
	}
}

func TestRankingPutsWhoCutsOthersFirst(t *testing.T) {
	m := modelOf(small())
	singles := m.Singles(m.Parts())
	if singles[0].Lost == 0 {
		t.Errorf("first comes %v", singles[0].Parts)
	}
	for i := 1; i < len(singles); i++ {
		if worse(&singles[i-1], &singles[i]) > 0 {
			t.Errorf("%v stands before %v", singles[i-1].Parts, singles[i].Parts)
		}
	}
	// The two links of a cut more than each alone; that of c cuts no more with them.
	pairs := m.Pairs([]Part{{Kind: Link, Name: "a/fibre"}, {Kind: Link, Name: "a/cell"}, {Kind: Link, Name: "c/line"}})
	if len(pairs) != 1 || pairs[0].Cut != 4 || pairs[0].Lost != 1 {
		t.Errorf("%+v", pairs)
	}
}

// Whatever fails, what a bench did before does not matter.
func TestBenchForgets(t *testing.T) {
	for seed := range uint64(20) {
		m := New(route.Build(tunnel.Derive(random(seed))))
		parts := m.Parts()
		again := map[string]Outcome{}
		for _, o := range m.Singles(parts) {
			again[o.Parts[0].String()] = o
		}
		for _, p := range parts {
			alone, err := m.Fail(p)
			if err != nil {
				t.Fatal(err)
			}
			if b := again[p.String()]; b.Cut != alone.Cut || b.Squeezed != alone.Squeezed || b.Moved != alone.Moved || b.Lost != alone.Lost || !slices.Equal(b.Sites, alone.Sites) {
				t.Errorf("estate %d, %s: %+v and alone %+v", seed, p, b, alone)
			}
		}
	}
}

func TestTakeoversAndLoads(t *testing.T) {
	m := modelOf(small())
	d := sheetOf(t, m, "link:a/fibre")
	if len(d.Takeovers) != 1 || d.Takeovers[0].From.Link != "fibre" || d.Takeovers[0].To.Link != "cell" || d.Takeovers[0].To.Via != "hub-1" || d.Takeovers[0].Pairs != 4 {
		t.Errorf("%+v", d.Takeovers)
	}
	d = sheetOf(t, m, "gateway:hub-1")
	for _, x := range d.Takeovers {
		if x.To == nil || x.Site != "hub-2" && x.To.Via != "hub-2" {
			t.Errorf("%+v", x)
		}
	}
	// A demand of 10 among partners of 20, 20, 10 and 1 goes out whole only
	// where the partners' own views are not less.
	load, capacity := m.Load(3, 0)
	want := 10*20/51.0*1 + 10*20/51.0 + 10*10/51.0 + 10*1/60.0
	if capacity != 16 || math.Abs(load-want) > 1e-9 {
		t.Errorf("b/copper carries %v of %v, not %v", load, capacity, want)
	}
	if sum, _ := m.GatewayLoad(3); math.Abs(sum-want) > 1e-9 {
		t.Errorf("b's gateway carries %v", sum)
	}
	d = sheetOf(t, m, "link:b/copper")
	if d.Another == 0 || d.Moved != 0 || d.Squeezed != d.Another {
		t.Errorf("%d pairs take another way, %d of them with room, %d squeezed", d.Another, d.Moved, d.Squeezed)
	}
	if l := d.Lines[0]; l.Site != "b" || l.Link != "sat" || l.Capacity != 2 || math.Abs(l.After-want) > 1e-6 {
		t.Errorf("%+v", l)
	}
}

// What gives way is the excess, in the order the engineer wants; without one,
// everybody alike.
// Where nobody asks for anything there is no load, and nothing divides by it.
func TestNoDemandIsNoLoad(t *testing.T) {
	e := small()
	for i := range e.Sites {
		e.Sites[i].DemandMbps = 0
	}
	m := modelOf(e)
	for i := range e.Sites {
		if load, _ := m.GatewayLoad(i); load != 0 {
			t.Errorf("%s carries %v", e.Sites[i].Key, load)
		}
	}
	if d := sheetOf(t, m, "link:b/copper"); d.Squeezed != 0 || d.Moved == 0 {
		t.Errorf("%d squeezed, %d moved", d.Squeezed, d.Moved)
	}
}

// Pairs that move onto a gateway which has no room are squeezed, as on a link;
// from exactly its capacity on they are not.
func TestFullGatewaysSqueeze(t *testing.T) {
	quietHubs := func() *estate.Estate {
		e := small()
		e.Sites[0].DemandMbps, e.Sites[1].DemandMbps = 1, 1 // so that hub-2 has more to carry without hub-1
		return e
	}
	full := sheetOf(t, modelOf(quietHubs()), "gateway:hub-1")
	var after float64
	for _, l := range full.Lines {
		if l.Site == "hub-2" && l.Link == "" {
			after = l.After
		}
	}
	if after == 0 {
		t.Fatalf("hub-2's gateway is not among %+v", full.Lines)
	}
	for _, c := range []struct {
		throughput float64
		squeezes   bool
	}{{after - 1, true}, {after, false}, {after + 1, false}, {0, false}} {
		e := quietHubs()
		e.Sites[1].Gateway.ThroughputMbps = c.throughput
		d := sheetOf(t, modelOf(e), "gateway:hub-1")
		if d.Squeezed > full.Squeezed != c.squeezes {
			t.Errorf("a gateway of %v for %v squeezes %d pairs, one of any size %d", c.throughput, after, d.Squeezed, full.Squeezed)
		}
	}
}

// What only the other state can fail by is compared too: a fate that is new
// there, but no link or gateway that is gone.
func TestComparedWithWhatOnlyTheOtherStateHas(t *testing.T) {
	old, e := small(), small()
	e.Sites[2].Links[0].SharedFate, e.Sites[2].Links[1].SharedFate = nil, nil // the mast is gone
	a, b := modelOf(e), modelOf(old)
	changes := Compare(b, a, b.Singles(b.Parts()), a.Singles(a.Parts()))
	if !slices.ContainsFunc(changes, func(c Change) bool { return c.Part.String() == "fate:mast-1" && c.Was > c.Now }) {
		t.Errorf("%+v", changes)
	}
}

func TestShedOrder(t *testing.T) {
	for _, c := range []struct {
		order string
		zones string
	}{{"", "control office"}, {"office", "office control"}, {"control office", "control office"}} {
		e := small()
		e.About.Shed = strings.Fields(c.order)
		l := sheetOf(t, modelOf(e), "link:b/copper").Lines[0]
		sum := 0.0
		var zones []string
		for _, s := range l.Shed {
			sum += s.Mbps
			zones = append(zones, s.Zone)
		}
		if math.Abs(sum-(l.After-l.Capacity)) > 1e-6 || strings.Join(zones, " ") != c.zones {
			t.Errorf("order %q: %+v of %v", c.order, l.Shed, l.After-l.Capacity)
		}
		if c.order != "" && math.Abs(l.Shed[0].Mbps-l.After/2) > 1e-6 {
			t.Errorf("order %q: the first gives %v, all it has is %v", c.order, l.Shed[0].Mbps, l.After/2)
		}
	}
}

// A link for one zone lets the others drop, and what is left fits.
// What a zone gives way is its part of what is shared; a zone of subnets that are
// shared nowhere has none.
func TestShedCountsSharedZonesOnly(t *testing.T) {
	e := small()
	e.Sites[3].Subnets = append(e.Sites[3].Subnets, estate.Subnet{Prefix: netip.MustParsePrefix("10.4.9.0/24"), Zone: "guest"})
	with, without := sheetOf(t, modelOf(e), "link:b/copper").Lines[0], sheetOf(t, modelOf(small()), "link:b/copper").Lines[0]
	if !reflect.DeepEqual(with.Shed, without.Shed) {
		t.Errorf("%+v, without the guests %+v", with.Shed, without.Shed)
	}
}

// What two profiles have in common is the same from each of its places: worked
// out before, on demand, or each time.
func TestLanesFromEveryPlace(t *testing.T) {
	for seed := range uint64(30) {
		m := New(route.Build(tunnel.Derive(sample.Mixed(seed))))
		n := len(m.profiles.kinds)
		if m.profiles.known == nil {
			t.Fatalf("seed %d has %d profiles", seed, n)
		}
		lazy := *m
		lazy.profiles.known, lazy.profiles.lanes = nil, make([]atomic.Pointer[[]lane], n*n)
		for range 2 { // the second time from what the first one kept
			for x := range n {
				for y := range n {
					if want := m.lanes(x, y); !reflect.DeepEqual(m.lanesBetween(x, y), want) || !reflect.DeepEqual(lazy.lanesBetween(x, y), want) {
						t.Errorf("seed %d: profiles %d and %d", seed, x, y)
					}
				}
			}
		}
	}
}

func TestLinkForOneZone(t *testing.T) {
	e := small()
	e.Sites[3].Links[1].Zones = []string{"control"}
	e.Sites[3].Links[1].DownMbps = 6
	d := sheetOf(t, modelOf(e), "link:b/copper")
	// Each site keeps off what is for its own subnets: of the two zones at both
	// ends, a quarter passes where one tunnel joins them, else half.
	want := 10*(20/4.0+20/2.0+10/2.0)/51 + 10/60.0/2
	if d.Squeezed != 4 || len(d.Over) != 0 || math.Abs(d.Lines[0].After-want) > 1e-6 {
		t.Errorf("%d squeezed, %+v", d.Squeezed, d.Lines)
	}
	e.Sites[3].Subnets[1].Zone = "" // a subnet without a zone is kept out like office
	if d := sheetOf(t, modelOf(e), "link:b/copper"); d.Squeezed != 4 {
		t.Errorf("no zone: %d squeezed", d.Squeezed)
	}
	e.Sites[3].Links[1].Zones = []string{"camera"}
	if d := sheetOf(t, modelOf(e), "link:b/copper"); d.Cut != 4 || len(d.Lost) != 1 {
		t.Errorf("a link for a zone that nobody has: %d cut", d.Cut)
	}
}
func TestSuggestionsGainWhatTheySay(t *testing.T) {
	e := small()
	m := modelOf(e)
	fates := m.CommonFates()
	if len(fates) != 1 || !fates[0].All || fates[0].Group != "mast-1" || len(fates[0].Links) != 2 {
		t.Fatalf("%+v", fates)
	}
	list := m.Suggest()
	if !slices.IsSortedFunc(list, func(a, b Suggestion) int { return int(b.Gain()*1e6) - int(a.Gain()*1e6) }) || m.key(list[0].Site) != "c" {
		t.Errorf("%+v", list)
	}
	// c: down when its line and the new link are, or both hubs.
	if want := (1 - (1-0.01*0.01)*(1-0.001*0.001)) * MinutesPerYear; math.Abs(list[0].Then-want) > 1e-6 {
		t.Errorf("another link leaves %v minutes, not %v", list[0].Then, want)
	}
	i := slices.IndexFunc(list, func(s Suggestion) bool { return s.Kind == "another-path" })
	if i < 0 || list[i].Link != "cell" {
		t.Fatalf("%+v", list)
	}
	e.Sites[2].Links[1].SharedFate = nil // as suggested; its downtime is its own then
	if then := modelOf(e).Availability(2).Minutes; then > list[i].Now/50 || math.Abs(then-list[i].Then) > 1 {
		t.Errorf("%v minutes, %v were promised", then, list[i].Then)
	}
}

func TestTimeline(t *testing.T) {
	e := small()
	e.Overlays[0].Probe = &estate.Probe{IntervalMs: 500, Misses: 4, Successes: 6, TimeoutMs: 300}
	m := modelOf(e)
	if got := TimingOf(e.Overlays[0].Probe); got.Detect != 2.3 || got.Return != 3 || got.Best != 1.8 {
		t.Errorf("%+v", got)
	}
	if got := TimingOf(nil); got.Detect != 3.8 || got.Return != 5 {
		t.Errorf("%+v", got)
	}
	if far, lan := TimingOf(nil), TimingOf(&estate.Probe{Target: estate.FarLAN}); !strings.Contains(far.Ignores, "a dead LAN") || !strings.Contains(lan.Proves, "LAN") || lan.Detect != far.Detect {
		t.Errorf("%+v, %+v", far, lan)
	}
	phases := func(list []Moment) string {
		var out []string
		for _, m := range list {
			out = append(out, m.Phase)
		}
		return strings.Join(out, " ")
	}
	list, err := m.Timeline(2, 3, Part{Kind: Link, Name: "a/fibre"})
	if err != nil || phases(list) != "fail missed missed missed detect switch recover repair hold return" {
		t.Errorf("%s, %v", phases(list), err)
	}
	for i, want := range []float64{0, 0.8, 1.3, 1.8, 2.3, 2.3, 2.3, 0, 3, 3} {
		if math.Abs(list[i].After-want) > 1e-9 {
			t.Errorf("%s comes after %v s, not %v", list[i].Phase, list[i].After, want)
		}
	}
	// a's hub dies on the way to hub-2: what a notices, not what hub-2 does.
	list, err = m.Timeline(2, 1, Part{Kind: Gateway, Name: "hub-1"})
	if err != nil || !strings.Contains(list[0].Text, "a/fibre hub-1/wan") || !strings.HasSuffix(list[4].Text, "a declares the tunnel down") || !strings.Contains(list[5].Text, "a/fibre hub-2/wan") {
		t.Errorf("%+v, %v", list, err)
	}
	if list, _ := m.Timeline(2, 3, Part{Kind: Fate, Name: "mast-1"}); !strings.HasSuffix(phases(list), "detect switch") {
		t.Errorf("a cut ends in %s", phases(list))
	}
	if list, _ := m.Timeline(3, 4, Part{Kind: Link, Name: "a/fibre"}); list != nil {
		t.Errorf("untouched: %s", phases(list))
	}
}

func TestCompareFindsWhatGotWorse(t *testing.T) {
	old, e := modelOf(small()), small()
	e.Sites[2].Links[1].SharedFate = nil // better: the mast takes the fibre only
	e.Sites[3].Links[1].NoTunnels = true // worse: nothing stands by
	now := modelOf(e)
	changes := Compare(old, now, old.Singles(old.Parts()), now.Singles(now.Parts()))
	var got []string
	for i := range changes {
		s := changes[i].Sheet()
		got = append(got, s.Fail+" "+s.Site+" "+s.Was+" "+s.Now)
	}
	want := []string{"link:b/copper b squeezed cut", "provider:Tallow b squeezed cut", "fate:mast-1 a cut moved"}
	if !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	if len(Compare(old, old, old.Singles(old.Parts()), old.Singles(old.Parts()))) != 0 {
		t.Error("a state differs from itself")
	}
}

// Whatever somebody types as a part is either refused or reads back the same.
func FuzzParsePart(f *testing.F) {
	for _, seed := range []string{"link:a/fibre", "fate:mast-1", "provider:Skylark Mobile", "underlay:internet", "region:", "gateway", "link:/", ":"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, err := ParsePart(text)
		if err != nil {
			return
		}
		if again, err := ParsePart(p.String()); err != nil || again != p || p.String() != text {
			t.Errorf("%q is read as %v and back as %v, %v", text, p, again, err)
		}
	})
}

// A link that carries no tunnels is no part that fails.
func TestPartsAreOfTunnels(t *testing.T) {
	e := small()
	e.Sites[2].Links = append(e.Sites[2].Links, estate.Link{Key: "office", Reach: estate.NAT, Rank: 3, NoTunnels: true})
	of := func(e *estate.Estate) (out []string) {
		for _, p := range modelOf(e).Parts() {
			out = append(out, p.String())
		}
		return out
	}
	if is := of(e); !slices.Equal(is, of(small())) || !slices.Contains(is, "link:"+e.Sites[2].Key+"/"+e.Sites[2].Links[0].Key) {
		t.Errorf("%q", is)
	}
}

// Fates that take all of a site's links come first.
func TestFatesOfAllLinksComeFirst(t *testing.T) {
	e := small()
	e.Sites[2].Links = append(e.Sites[2].Links, estate.Link{Key: "sat", Reach: estate.NAT, Rank: 3})
	for j := range e.Sites[3].Links {
		e.Sites[3].Links[j].SharedFate = []string{"duct"}
	}
	var got []string
	for _, f := range modelOf(e).CommonFates() {
		got = append(got, fmt.Sprint(e.Sites[f.Site].Key, " ", f.Group, " ", f.All))
	}
	if !slices.Equal(got, []string{"b duct true", "a mast-1 false"}) {
		t.Errorf("%q", got)
	}
}

// A zone gives no more than it sends through the place, a hub's gateway too.
func TestShedAtAHub(t *testing.T) {
	e := small()
	e.Sites[0].DemandMbps, e.Sites[1].DemandMbps = 1, 1
	e.Sites[1].Gateway.ThroughputMbps = 0.5
	e.About.Shed = []string{"office", "control"}
	d := sheetOf(t, modelOf(e), "gateway:hub-1")
	i := slices.IndexFunc(d.Lines, func(l LineSheet) bool { return l.Site == "hub-2" && l.Link == "" })
	l := d.Lines[i]
	if len(l.Shed) != 2 || math.Abs(l.Shed[0].Mbps-l.After/2) > 1e-9 || math.Abs(l.Shed[1].Mbps-(l.After/2-0.5)) > 1e-9 {
		t.Errorf("%v is shed as %+v", l.After, l.Shed)
	}
}
