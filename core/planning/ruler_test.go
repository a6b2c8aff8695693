package planning

import (
	"errors"
	"fmt"
	"math"
	"math/big"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"wideknot/core/addr"

	"wideknot/core/estate"
)

func heldOf(prefixes ...string) []Held {
	var out []Held
	for _, p := range prefixes {
		out = append(out, Held{Prefix: netip.MustParsePrefix(p), What: "subnet"})
	}
	slices.SortFunc(out, func(a, b Held) int { return netip.Prefix.Compare(a.Prefix, b.Prefix) })
	return out
}

// text writes lines shortly: a title as [prefix used], a run as prefix×count and
// what fills it, a stretch as prefix{bars}.
func text(lines []Line, held []Held) string {
	var out []string
	for _, l := range lines {
		switch l.Kind {
		case "title":
			out = append(out, fmt.Sprintf("[%s %s %d]", l.Name, l.Prefix, l.Used))
		case "run":
			what := "free"
			if l.Block != nil {
				what = held[*l.Block].Prefix.String()
			}
			out = append(out, fmt.Sprintf("%s×%d %s", l.Prefix, l.Count, what))
		default:
			var bars []string
			for _, b := range l.Bars {
				bars = append(bars, fmt.Sprintf("%s %g+%g/%d", held[b.Block].Prefix, b.From, b.Width, b.Lane))
			}
			out = append(out, fmt.Sprintf("%s{%s}", l.Prefix, strings.Join(bars, ", ")))
		}
	}
	return strings.Join(out, "; ")
}

func TestRuler(t *testing.T) {
	region := []Room{{Region: "vale", Block: netip.MustParsePrefix("10.16.0.0/16")}}
	for _, c := range []struct {
		name, within, want string
		rooms              []Room
		held               []Held
	}{
		{name: "nothing in a region", rooms: region, want: "[vale 10.16.0.0/16 0]; 10.16.0.0/20×16 free"},
		{
			name: "two subnets far apart are a line each, as fine as shows them", rooms: region, held: heldOf("10.16.0.0/24", "10.16.128.0/24"),
			want: "[vale 10.16.0.0/16 2]; 10.16.0.0/21{10.16.0.0/24 0+0.125/0}; 10.16.8.0/21×15 free; 10.16.128.0/21{10.16.128.0/24 0+0.125/0}; 10.16.136.0/21×15 free",
		},
		{
			name: "a block of several lines, and one that overlaps it", rooms: region, held: heldOf("10.16.0.0/18", "10.16.1.0/24"),
			want: "[vale 10.16.0.0/16 2]; 10.16.0.0/21{10.16.0.0/18 0+1/0, 10.16.1.0/24 0.125+0.125/1}; 10.16.8.0/21×7 10.16.0.0/18; 10.16.64.0/21×24 free",
		},
		{
			name: "outside of all regions by /16 and /48", rooms: region, held: heldOf("172.20.3.0/24", "172.20.4.0/24", "fd00:1:2:3::/64"),
			want: "[vale 10.16.0.0/16 0]; 10.16.0.0/20×16 free; [outside the regions 172.20.0.0/16 2]; 172.20.0.0/21{172.20.3.0/24 0.375+0.125/0, 172.20.4.0/24 0.5+0.125/0}; 172.20.8.0/21×31 free; " +
				"[outside the regions fd00:1:2::/48 1]; fd00:1:2::/58{fd00:1:2:3::/64 0.046875+0.015625/0}; fd00:1:2:40::/58×1023 free",
		},
		{name: "within a prefix whose host bits are set", within: "10.16.1.7/24", held: heldOf("10.16.1.0/25"), want: "[ 10.16.1.0/24 1]; 10.16.1.0/28×8 10.16.1.0/25; 10.16.1.128/28×8 free"},
		{name: "within a single address", within: "10.0.0.1/32", held: heldOf("10.0.0.0/8"), want: "[ 10.0.0.1/32 1]; 10.0.0.1/32×1 10.0.0.0/8"},
		{name: "all of IPv4", within: "0.0.0.0/0", held: heldOf("0.0.0.0/0"), want: "[ 0.0.0.0/0 1]; 0.0.0.0/4×16 0.0.0.0/0"},
	} {
		var within netip.Prefix
		if c.within != "" {
			within = netip.MustParsePrefix(c.within)
		}
		if got := text(Ruler(c.held, c.rooms, within), c.held); got != c.want {
			t.Errorf("%s:\n%s\nwant\n%s", c.name, got, c.want)
		}
	}
}

// The lines of a stretch cover it in order without a gap, and bars lie where big
// numbers say that their blocks do.
func TestRulerIsToScale(t *testing.T) {
	number := func(a netip.Addr) *big.Int { return new(big.Int).SetBytes(a.AsSlice()) }
	size := func(p netip.Prefix) *big.Int {
		return new(big.Int).Lsh(big.NewInt(1), uint(p.Addr().BitLen()-p.Bits()))
	}
	part := func(n, of *big.Int) float64 { f, _ := new(big.Rat).SetFrac(n, of).Float64(); return f }
	for seed := range uint64(200) {
		random := rand.New(rand.NewPCG(seed, 0))
		whole := netip.MustParsePrefix([]string{"10.0.0.0/8", "10.16.0.0/14", "10.16.4.0/24", "fd00:7::/32", "fd00:7:1:2::/64"}[random.IntN(5)])
		var held []Held
		for range random.IntN(40) {
			bits := whole.Bits() + random.IntN(min(24, whole.Addr().BitLen()-whole.Bits()+1))
			if p, ok := addr.Nth(whole, bits, random.Uint64()>>max(1, 64-(bits-whole.Bits()))); ok {
				held = append(held, heldOf(p.String())...)
			}
		}
		slices.SortFunc(held, func(a, b Held) int { return netip.Prefix.Compare(a.Prefix, b.Prefix) })
		next := number(whole.Addr())
		for _, l := range Ruler(held, nil, whole)[1:] {
			if number(l.Prefix.Addr()).Cmp(next) != 0 {
				t.Fatalf("seed %d: after a gap comes %s", seed, l.Prefix)
			}
			next.Add(next, new(big.Int).Mul(size(l.Prefix), big.NewInt(int64(max(1, l.Count)))))
			if want := slices.ContainsFunc(held, func(h Held) bool { return h.Prefix.Overlaps(l.Prefix) }); want != (l.Block != nil || len(l.Bars) > 0) {
				t.Errorf("seed %d: %s says %v", seed, l.Prefix, !want)
			}
			for _, b := range l.Bars {
				p := held[b.Block].Prefix
				from := max(0, part(new(big.Int).Sub(number(p.Addr()), number(l.Prefix.Addr())), size(l.Prefix)))
				width := min(1, part(size(p), size(l.Prefix)))
				if !p.Overlaps(l.Prefix) || math.Abs(b.From-from) > 1e-9 || math.Abs(b.Width-width) > 1e-9 {
					t.Errorf("seed %d: %s in %s at %g+%g, want %g+%g", seed, p, l.Prefix, b.From, b.Width, from, width)
				}
			}
		}
		if next.Cmp(new(big.Int).Add(number(whole.Addr()), size(whole))) != 0 {
			t.Errorf("seed %d: the lines of %s end early", seed, whole)
		}
	}
}

func TestHoldings(t *testing.T) {
	e, _, err := estate.Read(strings.NewReader(patterned))
	if err != nil {
		t.Fatal(err)
	}
	clashes := Clashes{}
	clashes.Add("one", netip.MustParsePrefix("10.0.1.0/25"), "error") // the worst comes first
	clashes.Add("one", netip.MustParsePrefix("10.0.1.0/25"), "note")
	clashes.Add("", netip.MustParsePrefix("100.96.0.0/24"), "warning")
	var got []string
	for _, h := range Holdings(e, clashes) {
		got = append(got, strings.TrimSpace(fmt.Sprint(h.What, " ", h.Prefix, " ", h.Site, h.Overlay, h.Name, " ", h.Clash)))
	}
	want := "subnet 10.0.0.0/24 hub|subnet 10.0.1.0/25 one error|reserved 10.0.2.0/24 the new works|transit 100.96.0.0/24 o warning|subnet 192.168.1.0/24 one|subnet fd00:0:0:1::/64 one"
	if strings.Join(got, "|") != want {
		t.Errorf("%s\nwant\n%s", strings.Join(got, "|"), want)
	}
}

// A repair is of one subnet; the site's others stay.
func TestRepairsAreOfOneSubnet(t *testing.T) {
	e, _, err := estate.Read(strings.NewReader(patterned))
	if err != nil {
		t.Fatal(err)
	}
	second := netip.MustParsePrefix("fd00:0:0:1::/64")
	out, err := Apply(e, Repair{Action: Unshare, Site: "one", Prefix: second, From: "o"})
	if err != nil {
		t.Fatal(err)
	}
	for i, n := range out.Site("one").Subnets {
		if was := e.Site("one").Subnets[i]; (n.Prefix == second) != (len(n.Share) != len(was.Share)) {
			t.Errorf("%s is shared into %v, was into %v", n.Prefix, n.Share, was.Share)
		}
	}
	for _, r := range []Repair{{Action: Unshare, Site: "nobody", Prefix: second}, {Action: "fold", Site: "one", Prefix: second}, {Action: Unshare, Site: "one", Prefix: netip.MustParsePrefix("10.99.0.0/24")}} {
		if _, err := Apply(e, r); !errors.Is(err, ErrOutdated) {
			t.Errorf("%+v: %v", r, err)
		}
	}
}
