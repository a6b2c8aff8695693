package addr

import (
	"math/rand/v2"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"testing"
)

func prefixes(text string) []netip.Prefix {
	var out []netip.Prefix
	for _, word := range strings.Fields(text) {
		out = append(out, netip.MustParsePrefix(word))
	}
	return out
}

func TestParsePrefix(t *testing.T) {
	for _, c := range []struct{ in, want, note, err string }{
		{"10.16.4.0/24", "10.16.4.0/24", "", ""},
		{" 10.16.4.0/24 ", "10.16.4.0/24", "became", ""},
		{"10.16.4.7/24", "10.16.4.0/24", "host bits", ""},
		{"FD3A:91C2:7::/48", "fd3a:91c2:7::/48", "became", ""},
		{"10.16.4.7", "", "", "no length"},
		{"10.16.4.0/33", "", "", "not an IPv4"},
		{"10.16.256.0/24", "", "", "not an IPv4"},
		{"::ffff:10.0.0.0/104", "", "", "IPv4 address in IPv6 form"},
		{"", "", "", "no length"},
	} {
		got, note, err := ParsePrefix(c.in)
		if c.err != "" {
			if err == nil || !strings.Contains(err.Error(), c.err) {
				t.Errorf("ParsePrefix(%q): error %v, want one with %q", c.in, err, c.err)
			}
			continue
		}
		if err != nil || got.String() != c.want || !strings.Contains(note, c.note) || (note == "") != (c.note == "") {
			t.Errorf("ParsePrefix(%q) = %v, %q, %v; want %s, note with %q", c.in, got, note, err, c.want, c.note)
		}
	}
}

func TestNth(t *testing.T) {
	for _, c := range []struct {
		super string
		bits  int
		n     uint64
		want  string
	}{
		{"100.96.0.0/16", 31, 0, "100.96.0.0/31"},
		{"100.96.0.0/16", 31, 300, "100.96.2.88/31"},
		{"100.96.0.0/16", 31, 32767, "100.96.255.254/31"},
		{"100.96.0.0/16", 31, 32768, ""},
		{"10.0.0.0/8", 24, 257, "10.1.1.0/24"},
		{"10.0.0.0/8", 9, 1, "10.128.0.0/9"},
		{"fd00::/64", 127, 1 << 40, "fd00::200:0:0/127"},
		{"10.0.0.0/24", 23, 0, ""},
		{"0.0.0.0/0", 32, 1<<32 - 1, "255.255.255.255/32"},
	} {
		got, ok := Nth(netip.MustParsePrefix(c.super), c.bits, c.n)
		if ok != (c.want != "") || ok && got.String() != c.want {
			t.Errorf("Nth(%s, %d, %d) = %v, %v; want %q", c.super, c.bits, c.n, got, ok, c.want)
		}
	}
}

func TestClashes(t *testing.T) {
	for _, c := range []struct {
		name string
		held []Held
		want [][]int
	}{
		{"equal prefixes of two owners", []Held{{netip.MustParsePrefix("192.168.40.0/24"), 0}, {netip.MustParsePrefix("192.168.40.0/24"), 1}}, [][]int{{0, 1}}},
		{"one inside the other", []Held{{netip.MustParsePrefix("10.1.2.0/24"), 0}, {netip.MustParsePrefix("10.1.0.0/16"), 1}}, [][]int{{1, 0}}},
		{"one owner only", []Held{{netip.MustParsePrefix("10.1.2.0/24"), 0}, {netip.MustParsePrefix("10.1.0.0/16"), 0}}, nil},
		{"neighbours", []Held{{netip.MustParsePrefix("10.1.2.0/24"), 0}, {netip.MustParsePrefix("10.1.3.0/24"), 1}}, nil},
		{"IPv6", []Held{{netip.MustParsePrefix("fd00::/48"), 0}, {netip.MustParsePrefix("fd00:0:0:7::/64"), 1}}, [][]int{{0, 1}}},
		{"the two families never meet", []Held{{netip.MustParsePrefix("0.0.0.0/0"), 0}, {netip.MustParsePrefix("::/0"), 1}}, nil},
		{"an inner prefix of the same owner as the outer is left out", []Held{
			{netip.MustParsePrefix("10.0.0.0/8"), 0}, {netip.MustParsePrefix("10.1.0.0/24"), 0}, {netip.MustParsePrefix("10.2.0.0/24"), 1},
		}, [][]int{{0, 2}}},
		{"an owner hidden between two others' prefixes", []Held{
			{netip.MustParsePrefix("10.0.0.0/8"), 0}, {netip.MustParsePrefix("10.1.0.0/16"), 1}, {netip.MustParsePrefix("10.1.1.0/24"), 0},
		}, [][]int{{0, 1, 2}}},
	} {
		if got := Clashes(c.held); !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %v, want %v", c.name, got, c.want)
		}
	}
}

// randomPrefixes draws from a small space so that overlaps are frequent.
func randomPrefixes(r *rand.Rand, n int) []netip.Prefix {
	out := make([]netip.Prefix, n)
	for i := range out {
		if r.IntN(3) == 0 {
			bytes := [16]byte{0xfd, 15: byte(r.IntN(256))}
			bytes[5], bytes[9] = byte(r.IntN(4)), byte(r.IntN(4))
			out[i] = netip.PrefixFrom(netip.AddrFrom16(bytes), 40+r.IntN(89)).Masked()
			continue
		}
		out[i] = netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(r.IntN(4)), byte(r.IntN(8)), byte(r.IntN(256))}), 8+r.IntN(25)).Masked()
	}
	return out
}

func TestOverlapsAgreesWithComparingEveryPair(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		ps := randomPrefixes(r, 1+r.IntN(40))
		got := map[[2]int]bool{}
		Overlaps(ps, func(outer, inner int) bool {
			if ps[outer].Bits() > ps[inner].Bits() {
				t.Fatalf("%v given as outer of %v", ps[outer], ps[inner])
			}
			pair := [2]int{min(outer, inner), max(outer, inner)}
			if got[pair] {
				t.Fatalf("pair %v twice", pair)
			}
			got[pair] = true
			return true
		})
		held := make([]Held, len(ps))
		clashing := map[int]bool{}
		for i := range ps {
			held[i] = Held{ps[i], i % 3}
		}
		for i := range ps {
			for j := range i {
				if ps[i].Overlaps(ps[j]) != got[[2]int{j, i}] {
					t.Fatalf("%v and %v: overlap %v, reported %v", ps[j], ps[i], ps[i].Overlaps(ps[j]), got[[2]int{j, i}])
				}
				if ps[i].Overlaps(ps[j]) && i%3 != j%3 {
					clashing[i], clashing[j] = true, true
				}
			}
		}
		found := map[int]bool{}
		for _, group := range Clashes(held) {
			for _, m := range group {
				found[m] = true
			}
		}
		if !reflect.DeepEqual(found, clashing) {
			t.Fatalf("Clashes found %v, want %v", found, clashing)
		}
	}
}

func TestFreeAndBestFit(t *testing.T) {
	super := netip.MustParsePrefix("10.20.0.0/22")
	used := prefixes("10.20.0.0/24 10.20.2.64/26")
	want := prefixes("10.20.1.0/24 10.20.2.0/26 10.20.2.128/25 10.20.3.0/24")
	if got := Free(super, used); !slices.Equal(got, want) {
		t.Errorf("Free = %v, want %v", got, want)
	}
	for _, c := range []struct {
		bits int
		want string
	}{{26, "10.20.2.0/26"}, {27, "10.20.2.0/27"}, {25, "10.20.2.128/25"}, {24, "10.20.1.0/24"}, {23, ""}} {
		got, ok := BestFit(super, used, c.bits)
		if ok != (c.want != "") || ok && got.String() != c.want {
			t.Errorf("BestFit /%d = %v, %v; want %q", c.bits, got, ok, c.want)
		}
	}
}

func TestFreeAndUsedTileTheSpace(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	super := netip.MustParsePrefix("10.0.0.0/8")
	for range 100 {
		var used []netip.Prefix
		for _, p := range randomPrefixes(r, 12) {
			if p.Addr().Is4() && p.Bits() > 8 {
				used = append(used, p)
			}
		}
		gaps := Free(super, used)
		for _, g := range gaps {
			for _, u := range used {
				if g.Overlaps(u) {
					t.Fatalf("gap %v overlaps %v", g, u)
				}
			}
		}
		if all := Aggregate(append(gaps, used...)); len(all) != 1 || all[0] != super {
			t.Fatalf("gaps and used make %v, want %v", all, super)
		}
	}
}

func TestAggregate(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"", ""},
		{"10.0.0.0/25 10.0.0.128/25", "10.0.0.0/24"},
		{"10.0.1.0/24 10.0.2.0/24", "10.0.1.0/24 10.0.2.0/24"},
		{"10.0.0.0/24 10.0.1.0/24 10.0.2.0/24 10.0.3.0/24", "10.0.0.0/22"},
		{"10.0.0.0/8 10.1.0.0/16", "10.0.0.0/8"},
		{"10.0.0.0/24 10.0.0.0/24", "10.0.0.0/24"},
		{"0.0.0.0/1 128.0.0.0/1 fd00::/8", "0.0.0.0/0 fd00::/8"},
	} {
		if got := Aggregate(prefixes(c.in)); !slices.Equal(got, prefixes(c.want)) {
			t.Errorf("Aggregate(%s) = %v, want %s", c.in, got, c.want)
		}
	}
}

func TestAggregateIsExactAndFewest(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for range 200 {
		ps := randomPrefixes(r, 20)
		out := Aggregate(ps)
		for _, p := range ps {
			if !slices.ContainsFunc(out, func(o netip.Prefix) bool { return Covers(o, p) }) {
				t.Fatalf("%v is not covered by %v", p, out)
			}
		}
		for _, o := range out {
			if rest := Free(o, ps); len(rest) != 0 {
				t.Fatalf("%v covers %v, which was not given", o, rest)
			}
		}
		if again := Aggregate(out); !slices.Equal(again, out) {
			t.Fatalf("aggregating twice differs: %v, %v", out, again)
		}
	}
}

func FuzzParsePrefix(f *testing.F) {
	for _, seed := range []string{"10.0.0.0/8", " fd00::1/64", "1.2.3.4", "/", "::ffff:1.2.3.4/96", "1.2.3.4/-1"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, _, err := ParsePrefix(text)
		if err == nil && (!p.IsValid() || p != p.Masked()) {
			t.Errorf("ParsePrefix(%q) = %v without error", text, p)
		}
	})
}

// An address keeps its place in the prefix that stands for its own.
func TestMoved(t *testing.T) {
	for _, test := range [][4]string{
		{"192.168.40.77", "192.168.40.0/24", "10.99.3.0/24", "10.99.3.77"}, {"192.168.41.77", "192.168.40.0/23", "10.99.2.0/23", "10.99.3.77"},
		{"192.168.40.130", "192.168.40.128/25", "10.1.2.0/25", "10.1.2.2"}, {"fd00:1::5", "fd00:1::/64", "fd00:2::/64", "fd00:2::5"},
	} {
		if got := Moved(netip.MustParseAddr(test[0]), netip.MustParsePrefix(test[1]), netip.MustParsePrefix(test[2])); got.String() != test[3] {
			t.Errorf("%v in place of %v is %v, not %v", test[2], test[1], got, test[3])
		}
	}
}

func TestAlike(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{
		{"10.0.0.1", "10.0.0.1", 32}, {"10.0.0.1", "138.0.0.1", 0}, {"10.0.0.0", "10.0.0.1", 31}, {"10.1.0.0", "10.0.0.0", 15},
		{"2001:db8::1", "2001:db8::1", 128}, {"2001:db8::", "2001:db8:8000::", 32}, {"fd00::1", "2001:db8::1", 0},
	} {
		if got := Alike(netip.MustParseAddr(c.a), netip.MustParseAddr(c.b)); got != c.want {
			t.Errorf("%s and %s: %d, not %d", c.a, c.b, got, c.want)
		}
	}
}
