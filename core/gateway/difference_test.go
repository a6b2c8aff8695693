package gateway

import (
	"slices"
	"strings"
	"testing"

	"wideknot/core/sample"
)

// What leads from one configuration to another names each thing once, adds before
// it takes away, and takes nothing away that something left still needs.
func TestDifferenceIsInASafeOrder(t *testing.T) {
	for seed := range uint64(30) {
		e := sample.Mixed(seed)
		before := mapOf(e)
		e.Allocations = before.Plan.Allocations()
		edited := e.Clone()
		edited.Sites[0].Links = edited.Sites[0].Links[:1]
		edited.Sites[len(edited.Sites)-1].Subnets = edited.Sites[len(edited.Sites)-1].Subnets[:1]
		after := mapOf(edited)
		for i := range e.Sites {
			was, is := Of(before, i), Of(after, i)
			for _, pair := range [][2]*Config{{was, is}, {is, was}, {nil, is}, {was, nil}} {
				checkOrder(t, pair[0], pair[1])
			}
		}
	}
}

func checkOrder(t *testing.T, was, is *Config) {
	t.Helper()
	rank := map[Kind]int{OfDiscard: 0, OfLink: 1, OfList: 2, OfTunnel: 3, OfFilter: 4, OfWay: 5, OfRoute: 6, OfRule: 7}
	last := -1
	seen := map[string]bool{}
	for _, o := range Difference(was, is) {
		at := rank[o.Kind]
		if o.Act == Remove {
			at = 20 - at
		}
		if at < last {
			t.Fatalf("%s comes too late", o.Words)
		}
		last = at
		if o.Kind != OfFilter && seen[o.Words] {
			t.Errorf("%s: twice", o.Words)
		}
		seen[o.Words] = true
		from := is
		if o.Act == Remove {
			from = was
		}
		if n := lengthOf(from, o.Kind); o.Kind != OfFilter && (o.Index < 0 || o.Index >= n) {
			t.Errorf("%s: place %d of %d", o.Words, o.Index, n)
		}
	}
}

func lengthOf(c *Config, k Kind) int {
	if c == nil {
		return 0
	}
	return map[Kind]int{OfDiscard: len(c.Discards), OfLink: len(c.Links), OfList: len(c.Lists), OfTunnel: len(c.Tunnels), OfWay: len(c.Ways), OfRoute: len(c.Routes), OfRule: len(c.Rules)}[k]
}

func TestDifferenceInWords(t *testing.T) {
	was, is := full(), full()
	is.Tunnels[0].MTU, is.Tunnels[0].WireGuard.Endpoint = 1400, ""
	is.Ways = []Way{{ID: FirstWay + 2, Groups: []Group{{1, []Member{{"weir-2", 1}}}, {2, []Member{{"weir-1", 1}}}}}}
	is.Routes[0].Way = FirstWay + 2
	is.Discards = nil
	var got []string
	for _, o := range Difference(was, is) {
		got = append(got, o.Words)
	}
	want := []string{
		"tunnel weir-1 to weir/fibre changes: MTU 1420 → 1400, endpoint 198.51.100.1:51820 → none",
		"way by weir-2, then weir-1 is new",
		"route to 10.2.0.0/16 moves from weir-1 + weir-2 to weir-2, then weir-1",
		"way by weir-1 + weir-2 goes",
		"discard for 10.2.0.0/16 in table 8600 goes",
	}
	if !slices.Equal(got, want) {
		t.Errorf("%s", strings.Join(got, "\n"))
	}
}
