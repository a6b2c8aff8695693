package diff

import (
	"fmt"
	"path/filepath"
	"testing"

	"wideknot/core/sample"
	"wideknot/core/tunnel"
	"wideknot/golden"
)

// What is said of a day's edits of small estates of any features: what differs, what follows,
// and the edits themselves.
func TestEditsAreGolden(t *testing.T) {
	for _, seed := range []uint64{0, 2, 5, 9, 13, 18, 24} {
		e := sample.Mixed(seed)
		e.Allocations = tunnel.Derive(e).Allocations()
		edited := sample.Edit(sample.Edit(e, seed), seed+1)
		old, new := stateOf(e), stateOf(edited)
		golden.JSON(t, filepath.Join("testdata", fmt.Sprintf("%d.json", seed)), map[string]any{
			"words": Words(e, edited), "compared": Compare(old.Routes, new.Routes), "back": Compare(new.Routes, old.Routes), "follows": Weigh(old, new),
		})
	}
}
