package rollout

import (
	"fmt"
	"path/filepath"
	"testing"

	"wideknot/core/sample"
	"wideknot/examples"
	"wideknot/golden"
)

// How a day's edits of small estates, and of the demo's, are brought to their gateways.
func TestPlansAreGolden(t *testing.T) {
	demo, err := examples.Estate("brindlewater")
	if err != nil {
		t.Fatal(err)
	}
	plans := map[string]*Plan{}
	for seed := range uint64(30) {
		name, e := fmt.Sprintf("mixed %02d", seed), sample.Mixed(seed)
		if seed%10 == 0 {
			name, e = fmt.Sprintf("demo %02d", seed), demo
		}
		if seed%4 == 3 {
			watched(e, true)
		}
		_, _, gateways := edited(e, seed)
		if gateways == nil {
			continue
		}
		p, err := Make(gateways, nil)
		if err != nil {
			t.Fatal(name, err)
		}
		plans[name] = p
	}
	golden.JSON(t, filepath.Join("testdata", "plans.json"), plans)
}
