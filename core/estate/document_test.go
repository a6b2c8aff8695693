package estate

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"strings"
	"testing"
)

const small = `wideknot: 1
estate: {name: Small, regions: [{key: north, blocks: [10.16.0.0/14, "fd3a:91c2:7::/48"]}]}
sites:
  - key: harrowmere
    name: Harrowmere Control
    region: north
    gateway: {placement: inline, max_tunnels: 200}
    links:
      - {key: fibre, reach: static, addresses: [203.0.113.14], mtu: 1500, shared_fate: [duct-4], availability: 99.9}
    subnets:
      - {prefix: 10.16.4.0/24, zone: control, share: [ops]}
  - key: tarnhollow
    name: "Tarn Hollow: Works"
    links:
      - {key: cell, reach: nat, metered: true}
overlays:
  - key: ops
    shape: hub-and-spoke
    transit: [100.96.0.0/16]
    hubs: [harrowmere]
    spokes: [{site: tarnhollow}]
    policy: {default: permit, rules: [{action: deny, from: {zone: guest}, to: {zone: control}, protocol: any}]}
allocations: {}
`

func TestReadWriteIsTheIdentity(t *testing.T) {
	e, notes, err := Read(strings.NewReader(small))
	if err != nil || len(notes) > 0 {
		t.Fatal(err, notes)
	}
	for name, write := range map[string]func(*Estate) ([]byte, error){"YAML": WriteYAML, "JSON": WriteJSON} {
		text, err := write(e)
		if err != nil {
			t.Fatal(name, err)
		}
		again, _, err := Read(bytes.NewReader(text))
		if err != nil {
			t.Fatalf("%s: %v\n%s", name, err, text)
		}
		if !reflect.DeepEqual(e, again) {
			t.Errorf("%s: reading what was written gives another estate:\n%s", name, text)
		}
		twice, _ := write(again)
		if !bytes.Equal(text, twice) {
			t.Errorf("%s: writing twice differs", name)
		}
	}
}

// Names that look like other YAML types must come back as they were.
func TestAwkwardNamesSurvive(t *testing.T) {
	for _, name := range []string{"no", "1e3", "0x1F", "~", "null", " a ", "#x", "a: b", "- a", "'", `"`, "2026-11-23", "ünï", "日本", "*a", "&a", "!t", "{}", "[", "%", "@", "`", "\\n"} {
		e := &Estate{Format: Format, About: About{Name: name}, Sites: []Site{{Key: "1e3", Name: name, Subnets: []Subnet{{Prefix: netip.MustParsePrefix("::/64"), Name: name}}}}}
		text, err := WriteYAML(e)
		if err != nil {
			t.Fatal(err)
		}
		again, _, err := Read(bytes.NewReader(text))
		if err != nil {
			t.Errorf("%q: %v\n%s", name, err, text)
		} else if again.About.Name != name || again.Sites[0].Name != name || again.Sites[0].Key != "1e3" || again.Sites[0].Subnets[0].Name != name {
			t.Errorf("%q came back as %q", name, again.About.Name)
		}
	}
}

func TestBadDocuments(t *testing.T) {
	change := func(old, new string) string {
		if !strings.Contains(small, old) {
			t.Fatalf("the document has no %q", old)
		}
		return strings.Replace(small, old, new, 1)
	}
	for _, c := range []struct{ name, text, where, message string }{
		{"empty", "", "line 1, column 1", "the document is empty"},
		{"not a mapping", "- a\n", "line 1, column 1", "expected a block of keys"},
		{"not well formed", "wideknot: [1\n", "line", "not well-formed"},
		{"unknown key", change("max_tunnels", "max_tunels"), "line 7, column 34", `unknown key "max_tunels"`},
		{"duplicate key", change("    region: north\n", "    region: north\n    region: north\n"), "line 7, column 5", "is listed twice"},
		{"wrong type", change("mtu: 1500", "mtu: wide"), "line 9, column 69", "expected a whole number"},
		{"list for a text", change("name: Harrowmere Control", "name: [a]"), "line 5, column 11", "expected a text"},
		{"impossible prefix", change("10.16.4.0/24", "10.16.4.0/40"), "line 11, column 18", "not an IPv4 or IPv6 prefix"},
		{"dangling region", change("region: north", "region: south"), "line 6, column 13", `no region "south"`},
		{"dangling overlay", change("share: [ops]", "share: [opps]"), "line 11, column 55", `no overlay "opps"`},
		{"dangling spoke", change("{site: tarnhollow}", "{site: tarnholow}"), "line 21, column 21", `no site "tarnholow"`},
		{"no hub", change("hubs: [harrowmere]", "hubs: []"), "line 20, column 11", "has spokes but no hub"},
		{"hub as spoke", change("{site: tarnhollow}", "{site: harrowmere}"), "line 21, column 21", "cannot be its spoke too"},
		{"spoke twice", change("{site: tarnhollow}", "{site: tarnhollow}, {site: tarnhollow}"), "line 21, column 41", "is listed twice among the spokes"},
		{"own hub list with a stranger", change("{site: tarnhollow}", "{site: tarnhollow, hubs: [tarnhollow]}"), "line 21, column 40", "not a hub of this overlay"},
		{"duplicate site", change("key: tarnhollow", "key: harrowmere"), "line 12, column 10", `site key "harrowmere" is given twice`},
		{"key form", change("key: tarnhollow", "key: Tarn Hollow"), "line 12, column 10", "cannot be a site key"},
		{"static without address", change("addresses: [203.0.113.14], ", ""), "line 9", "needs its fixed address"},
		{"map of another length", change("zone: control,", "zone: control, map: 10.99.0.0/23,"), "line 11, column 52", "same family and length"},
		{"other format", change("wideknot: 1", "wideknot: 2"), "line 1, column 11", "this version reads format 1"},
		{"key that is an option", change("key: tarnhollow", "key: -rf"), "line 12, column 10", "not beginning with -"},
		{"key that is a device", change("key: tarnhollow", "key: con"), "line 12, column 10", "for a device"},
		{"address with a zone", change("reach: nat,", `reach: nat, next_hop: ["fe80::1%lo]:51820\n[Peer]"],`), "line 15", "zone"},
		{"outside with a zone", change("reach: nat,", `reach: nat, outside: "fe80::1%lo",`), "line 15", "zone"},
		{"upstream with a zone", change("max_tunnels: 200", `upstream: "fe80::1%lo"`), "line 7", "zone"},
		{"LAN address with a zone", change("max_tunnels: 200", `lan_address: "fe80::1%lo"`), "line 7", "zone"},
		{"second LAN address with a zone", change("max_tunnels: 200", `lan_address6: "fe80::1%lo"`), "line 7", "zone"},
		{"second upstream with a zone", change("max_tunnels: 200", `upstream6: "fe80::1%lo"`), "line 7", "zone"},
		{"second LAN address of IPv4", change("max_tunnels: 200", "lan_address6: 192.0.2.1"), "line 7", "no IPv6 address"},
		{"second upstream of IPv4", change("max_tunnels: 200", "upstream6: 192.0.2.1"), "line 7", "no IPv6 address"},
		{"line end in a key", change("max_tunnels: 200", `public_key: "xTIBA5rboUvnH4htodjb6e697\nQjLERt1NAB4mZqp8Dg="`), "line 7", "45 characters"},
		{"space around a key", change("max_tunnels: 200", `public_key: "xTIBA5rboUvnH4htodjb6e697QjLERt1NAB4mZqp8Dg= "`), "line 7", "space around"},
		{"name with a line end", change(`"Tarn Hollow: Works"`, `"Tarn\nHollow"`), "line 13, column 11", "cannot be seen"},
		{"name with a turning character", change(`"Tarn Hollow: Works"`, `"Tarn\u202eHollow"`), "line 13, column 11", "cannot be seen"},
		{"name that shows nothing", change(`"Tarn Hollow: Works"`, `"\u3164"`), "line 13, column 11", "cannot be seen"},
		{"reservation with a line end", change("regions:", `reserved: [{prefix: 10.9.0.0/16, for: "a\nb"}], regions:`), "line 2", "cannot be seen"},
		{"zone of a rule", change("{zone: guest}", `{zone: "a; b"}`), "line 22", "cannot be a zone"},
		{"port that there is not", change("protocol: any", `protocol: tcp, ports: ["99999"]`), "line 22", "port of 0 to 65535"},
		{"ports the wrong way round", change("protocol: any", `protocol: tcp, ports: ["90-80"]`), "line 22", "in order"},
		{"forwarded port 0", change("reach: nat,", `reach: nat, forwards: ["0"],`), "line 15", "port of 1 to 65535"},
		{"device with a quote", change("reach: nat,", `reach: nat, device: "eth0\" accept",`), "line 15", "not an interface name"},
		{"allocated slot out of range", change("allocations: {}", "allocations: {tunnels: {ops: {a/x b/x: {slots: [1000000000000, 1], ports: [1, 1]}}}}"), "line 23", "slots of 1 to 65535"},
		{"allocated port below 0", change("allocations: {}", "allocations: {tunnels: {ops: {a/x b/x: {slots: [1, 1], ports: [-1, 1]}}}}"), "line 23", "ports of 1 to 65535"},
		{"tunnel of no form", change("allocations: {}", `allocations: {tunnels: {ops: {"a b": {slots: [1, 1], ports: [1, 1]}}}}`), "line 23", "SITE/LINK SITE/LINK"},
		{"alias", change("allocations: {}", "allocations: &a {keys: *a}"), "line 23", "aliases"},
		{"deep nesting", strings.Repeat("[", 10<<20), "line 1, column 101", "nested deeper"},
		{"deep nesting further down", "a: '[[[' # {{\nb: " + strings.Repeat("[", 101), "line 2, column 104", "nested deeper"},
		{"nesting as deep as may be", "a: \"\\\"[\" # [\nb: " + strings.Repeat("[", 100) + strings.Repeat("]", 100), "", "unknown key"},
		{"more values than may be", "a: 1\n" + strings.Repeat("1,", maxValues), "line 2, column 5999998", "more than 3000000 values"},
		{"deep block nesting", deepBlocks(20000), "", ""},
	} {
		_, _, err := Read(strings.NewReader(c.text))
		var problems Problems
		if !errors.As(err, &problems) || len(problems) == 0 {
			t.Errorf("%s: error %v, want problems", c.name, err)
			continue
		}
		first := problems[0].String()
		if !strings.HasPrefix(first, c.where) || !strings.Contains(first, c.message) {
			t.Errorf("%s: %s\nwant %s … %s", c.name, first, c.where, c.message)
		}
	}
}

func deepBlocks(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "%sa:\n", strings.Repeat(" ", i%900))
	}
	return b.String()
}

func TestReadNamesEveryMistake(t *testing.T) {
	text := strings.NewReplacer("mtu: 1500", "mtu: x", "10.16.4.0/24", "10.16.4.0", "metered: true", "metered: maybe").Replace(small)
	_, _, err := Read(strings.NewReader(text))
	var problems Problems
	if !errors.As(err, &problems) || len(problems) != 3 {
		t.Errorf("got %v, want three problems", err)
	}
}

// What could not be read does not hide what is wrong elsewhere, and is not told a
// second time as what follows from it.
func TestReadNamesMistakesOfBothKinds(t *testing.T) {
	text := strings.NewReplacer("mtu: 1500", "mtu: x", "region: north\n    gateway", "region: south\n    gateway", "hubs: [harrowmere]", "hubs: [harowmere]").Replace(small)
	_, _, err := Read(strings.NewReader(text))
	if err == nil || strings.Count(err.Error(), "\n") != 2 || !strings.Contains(err.Error(), "whole number") || !strings.Contains(err.Error(), "no region") || !strings.Contains(err.Error(), "no site") {
		t.Errorf("got %v, want three problems", err)
	}
	for _, broken := range []string{
		strings.Replace(small, "key: harrowmere", "key: [harrowmere]", 1),                     // its name is used by the overlay
		strings.Replace(small, "addresses: [203.0.113.14]", "addresses: [203.0.113.1400]", 1), // a static link needs one
	} {
		_, _, err := Read(strings.NewReader(broken))
		var problems Problems
		if !errors.As(err, &problems) || len(problems) != 1 {
			t.Errorf("got %v, want one problem", err)
		}
	}
}

func TestProblemsAreCappedAndCounted(t *testing.T) {
	var text strings.Builder
	text.WriteString("wideknot: 1\nestate: {name: Many}\n")
	for i := range 100000 {
		fmt.Fprintf(&text, "key%d: 1\n", i)
	}
	_, _, err := Read(strings.NewReader(text.String()))
	var problems Problems
	if !errors.As(err, &problems) || len(problems) != MaxProblems+1 || problems[MaxProblems].Message != "and 99800 more like these" {
		t.Errorf("%d problems, the last %v", len(problems), problems[len(problems)-1])
	}
	if _, _, err := Read(strings.NewReader("a: " + strings.Repeat("1,", maxValues+10))); err == nil || !strings.Contains(err.Error(), "more than") {
		t.Errorf("%v", err)
	}
}

func TestReadTellsWhatItNormalised(t *testing.T) {
	e, notes, err := Read(strings.NewReader(strings.Replace(small, "10.16.4.0/24", "10.16.4.9/24", 1)))
	if err != nil || len(notes) != 1 || !strings.Contains(notes[0].String(), "host bits were set: 10.16.4.9/24 became 10.16.4.0/24") {
		t.Fatal(err, notes)
	}
	if got := e.Sites[0].Subnets[0].Prefix.String(); got != "10.16.4.0/24" {
		t.Error(got)
	}
}

func TestParseKeySaysWhichSlipWasMade(t *testing.T) {
	good := "xTIBA5rboUvnH4htodjb6e697QjLERt1NAB4mZqp8Dg="
	for _, c := range []struct{ key, message string }{
		{good, ""},
		{" " + good + "\n", ""},
		{good[:43], "the = at its end was lost"},
		{good[:40], "40 characters"},
		{"-" + good[1:], "URL-safe"},
		{"!" + good[1:], "a character was changed"},
		{strings.Repeat("A", 43) + "=", "all zeros"},
	} {
		_, err := ParseKey(c.key)
		if (err == nil) != (c.message == "") || err != nil && !strings.Contains(err.Error(), c.message) {
			t.Errorf("ParseKey(%q): %v, want %q", c.key, err, c.message)
		}
	}
}

func TestWithoutSite(t *testing.T) {
	e, _, err := Read(strings.NewReader(small))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := e.WithoutSite("harrowmere"); err == nil || !strings.Contains(err.Error(), "no hub") {
		t.Errorf("the only hub was let go: %v", err)
	}
	e.Overlays[0].Pins = []Pin{{Site: "tarnhollow", Via: "harrowmere"}}
	e.Overlays[0].Direct = [][]string{{"harrowmere", "tarnhollow"}}
	e.Overlays[0].Policy.Rules[0].To.Site = "tarnhollow"
	out, err := e.WithoutSite("tarnhollow")
	if err != nil || len(out.Sites) != 1 || len(out.Overlays[0].Spokes)+len(out.Overlays[0].Pins)+len(out.Overlays[0].Direct)+len(out.Overlays[0].Policy.Rules) != 0 {
		t.Error(out, err)
	}
	if len(e.Sites) != 2 || len(e.Overlays[0].Spokes) != 1 {
		t.Error("the estate itself was changed")
	}
}

func TestMergeIntoNothingGivesTheDocument(t *testing.T) {
	e, _, err := Read(strings.NewReader(small))
	if err != nil {
		t.Fatal(err)
	}
	merged := Merge(&Estate{Format: Format}, e)
	a, _ := WriteYAML(e)
	b, _ := WriteYAML(merged)
	if !bytes.Equal(a, b) {
		t.Errorf("merged:\n%s\nwant:\n%s", b, a)
	}
	again := Merge(merged, e)
	if c, _ := WriteYAML(again); !bytes.Equal(a, c) {
		t.Error("merging twice changes something")
	}
}

// TestRandomEstatesSurvive writes and reads estates of random values.
func TestRandomEstatesSurvive(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for range 50 {
		e := randomEstate(r)
		if problems := Validate(e); len(problems) > 0 {
			t.Fatalf("the generator made an invalid estate: %v", problems)
		}
		text, err := WriteYAML(e)
		if err != nil {
			t.Fatal(err)
		}
		again, _, err := Read(bytes.NewReader(text))
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		if !reflect.DeepEqual(e, again) {
			t.Fatalf("differs after reading:\n%s", text)
		}
		sheets := WriteSheets(e)
		bare := e.Clone()
		bare.Sites = nil
		reading := ReadSheets(bare, sheets, nil)
		if n := reading.BadRows(); n > 0 {
			t.Fatalf("%d bad rows in written sheets: %+v", n, reading.Remarks)
		}
		if !reflect.DeepEqual(reading.Estate.Sites, e.Sites) {
			t.Fatalf("sheets give other sites:\n%+v\nwant\n%+v", reading.Estate.Sites, e.Sites)
		}
	}
}

func randomEstate(r *rand.Rand) *Estate {
	pick := func(words ...string) string { return words[r.IntN(len(words))] }
	e := &Estate{Format: Format, About: About{Name: pick("A", "B, \"quoted\"", "ünï"), Regions: []Region{{Key: "north"}}}}
	e.Overlays = []Overlay{{Key: "ops", Shape: HubAndSpoke}}
	for i := range 1 + r.IntN(5) {
		s := Site{Key: fmt.Sprintf("s%d", i), Name: pick("Tarn", "a;b", "two\"quotes", "x, y"), Region: pick("", "north"), DemandMbps: float64(r.IntN(1000)) / 8}
		if r.IntN(2) == 0 {
			s.Gateway = Gateway{Placement: OneArmed, LANAddress: netip.MustParseAddr("10.0.0.2"), UsedPorts: []int{500, 4500}, MaxTunnels: r.IntN(50)}
		}
		for j := range r.IntN(3) {
			l := Link{Key: fmt.Sprintf("l%d", j), Reach: NAT, Metered: r.IntN(2) == 0, Rank: r.IntN(4), Availability: float64(r.IntN(100000)) / 1000}
			if r.IntN(2) == 0 {
				l.Reach, l.Addresses = Static, []netip.Addr{netip.MustParseAddr("203.0.113.1"), netip.MustParseAddr("2001:db8::1")}
				l.SharedFate = []string{"mast-1", "duct-2"}
			}
			s.Links = append(s.Links, l)
		}
		for j := range r.IntN(3) {
			n := Subnet{Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(i), byte(j), 0}), 24), Zone: pick("", "control")}
			if r.IntN(2) == 0 {
				n.Share = []string{"ops"}
				n.Map = netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 99, byte(j), 0}), 24)
			}
			s.Subnets = append(s.Subnets, n)
		}
		e.Sites = append(e.Sites, s)
	}
	return e
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(small))
	f.Add([]byte("wideknot: 1\nestate: {name: x}\n"))
	f.Add([]byte(`{"wideknot": 1, "sites": [{"key": "a", "links": [{"key": "b", "reach": "nat"}]}]}`))
	f.Add([]byte("a: &a [*a]"))
	f.Fuzz(func(t *testing.T, text []byte) {
		e, _, err := Read(bytes.NewReader(text))
		if err != nil {
			return
		}
		written, err := WriteYAML(e)
		if err != nil {
			t.Fatal(err)
		}
		again, _, err := Read(bytes.NewReader(written))
		if err != nil {
			t.Fatalf("cannot read what was written: %v\n%s", err, written)
		}
		if !reflect.DeepEqual(e, again) {
			t.Fatalf("differs after reading:\n%s", written)
		}
	})
}

func FuzzParseKey(f *testing.F) {
	f.Add("xTIBA5rboUvnH4htodjb6e697QjLERt1NAB4mZqp8Dg=")
	f.Add("")
	f.Fuzz(func(t *testing.T, text string) {
		if key, err := ParseKey(text); err == nil && key == ([KeyBytes]byte{}) {
			t.Errorf("%q is taken for a key", text)
		}
	})
}

// Documents are written for people: blocks down to a list of links, which have
// a line each.
func TestDocumentsAreWrittenToBeRead(t *testing.T) {
	e, _, err := Read(strings.NewReader(small))
	if err != nil {
		t.Fatal(err)
	}
	text, err := WriteYAML(e)
	if err != nil || string(text) != readable {
		t.Errorf("%v\n%s\nwant\n%s", err, text, readable)
	}
}

const readable = `wideknot: 1
estate:
  name: Small
  regions:
    - key: north
      blocks: [10.16.0.0/14, 'fd3a:91c2:7::/48']
sites:
  - key: harrowmere
    name: Harrowmere Control
    region: north
    gateway:
      placement: inline
      max_tunnels: 200
    links:
      - {key: fibre, reach: static, addresses: [203.0.113.14], mtu: 1500, shared_fate: [duct-4], availability: 99.9}
    subnets:
      - {prefix: 10.16.4.0/24, zone: control, share: [ops]}
  - key: tarnhollow
    name: 'Tarn Hollow: Works'
    links:
      - {key: cell, reach: nat, metered: true}
overlays:
  - key: ops
    shape: hub-and-spoke
    transit: [100.96.0.0/16]
    hubs: [harrowmere]
    spokes:
      - {site: tarnhollow}
    policy:
      default: permit
      rules: [{action: deny, from: {zone: guest}, to: {zone: control}, protocol: any}]
allocations: {}
`
