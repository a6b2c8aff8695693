package check

import (
	"testing"

	"wideknot/core/estate"
	"wideknot/core/planning"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// Each repair is offered as if it were the only one; carried out together they
// must not take one free block twice.
func TestRepairsCarriedOutTogether(t *testing.T) {
	e, err := sample.Estate(sample.Options{Sites: 400, Trouble: true, Seed: 2})
	if err != nil {
		t.Fatal(err)
	}
	findings := func(e *estate.Estate) []Finding {
		p := tunnel.Derive(e)
		return Run(p, route.Build(p))
	}
	for _, action := range []planning.RepairAction{planning.Renumber, planning.MapTo, planning.Unshare} {
		var chosen []planning.Repair
		for _, f := range findings(e) {
			for _, r := range f.Repairs {
				if r.Action == action {
					chosen = append(chosen, r)
					break
				}
			}
		}
		if len(chosen) < 2 {
			t.Fatalf("%s: %d repairs; the sample has too little trouble", action, len(chosen))
		}
		after, err := planning.ApplyAll(e, chosen)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range findings(after) {
			if f.Severity == Error {
				t.Errorf("%s: %s", action, f.Title)
			}
		}
	}
}
