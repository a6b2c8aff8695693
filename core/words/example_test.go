package words_test

import (
	"fmt"

	"wideknot/core/words"
)

func ExampleMany() {
	for _, n := range []int{0, 1, 2} {
		fmt.Println(words.Many(n, "gateway has", "gateways have"), "no key yet")
	}
	// Output:
	// 0 gateways have no key yet
	// 1 gateway has no key yet
	// 2 gateways have no key yet
}
