package addr_test

import (
	"fmt"
	"net/netip"

	"wideknot/core/addr"
)

func prefixes(words ...string) []netip.Prefix {
	out := make([]netip.Prefix, len(words))
	for i, w := range words {
		out[i] = netip.MustParsePrefix(w)
	}
	return out
}

func ExampleParsePrefix() {
	p, note, err := addr.ParsePrefix("10.16.4.7/24")
	fmt.Println(p, note, err)
	// Output: 10.16.4.0/24 host bits were set: 10.16.4.7/24 became 10.16.4.0/24 <nil>
}

func ExampleClashes() {
	held := []addr.Held{
		{Prefix: netip.MustParsePrefix("192.168.40.0/24"), Owner: 1},
		{Prefix: netip.MustParsePrefix("192.168.40.128/25"), Owner: 2},
		{Prefix: netip.MustParsePrefix("192.168.41.0/24"), Owner: 3},
	}
	fmt.Println(addr.Clashes(held))
	// Output: [[0 1]]
}

func ExampleBestFit() {
	region := netip.MustParsePrefix("10.20.0.0/14")
	free, ok := addr.BestFit(region, prefixes("10.20.0.0/24", "10.20.1.0/25"), 25)
	fmt.Println(free, ok)
	// Output: 10.20.1.128/25 true
}

func ExampleAggregate() {
	fmt.Println(addr.Aggregate(prefixes("10.0.1.0/24", "10.0.0.0/24", "10.0.3.0/24")))
	// Output: [10.0.0.0/23 10.0.3.0/24]
}

func ExampleSummarise() {
	for _, s := range addr.Summarise(prefixes("10.16.0.0/14"), prefixes("10.16.4.0/24", "10.16.7.0/24")) {
		fmt.Println(s.Prefix, "with the holes", s.Holes)
	}
	// Output: 10.16.4.0/22 with the holes [10.16.5.0/24 10.16.6.0/24]
}
