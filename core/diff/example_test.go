package diff_test

import (
	"fmt"

	"wideknot/core/diff"
)

func ExampleUnified() {
	fmt.Print(diff.Unified("mtu 1440\nup\n", "mtu 1432\nup\n"))
	// Output:
	// @@ -1,2 +1,2 @@
	// -mtu 1440
	// +mtu 1432
	//  up
}
