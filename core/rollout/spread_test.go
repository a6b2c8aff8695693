package rollout

import (
	"slices"
	"sync"
	"testing"
)

// Each number is taken once, however few they are.
func TestSpreadTakesEachNumberOnce(t *testing.T) {
	for _, n := range []int{0, 1, 2, 3, 100} {
		var mu sync.Mutex
		var taken, want []int
		for i := range n {
			want = append(want, i)
		}
		spread(n, func(i int) {
			mu.Lock()
			defer mu.Unlock()
			taken = append(taken, i)
		})
		if slices.Sort(taken); !slices.Equal(taken, want) {
			t.Errorf("of %d: %v", n, taken)
		}
	}
}
