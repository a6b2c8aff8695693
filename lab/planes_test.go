package main

import (
	"fmt"
	"sync/atomic"
	"testing"
)

// Stand-ins do with packets what kernels do: same configuration, same packets, same verdicts.
// Some estates of the many that were tried; make planes tries others.
func TestStandInsDoAsKernels(t *testing.T) {
	needsNamespaces(t)
	var total atomic.Int64
	t.Run("seeds", func(t *testing.T) {
		for _, seed := range []uint64{6, 8, 11, 16} {
			t.Run(fmt.Sprint(seed), func(t *testing.T) {
				t.Parallel()
				arrived, differ, err := Planes(seed, 1)
				if err != nil {
					t.Fatal(err)
				}
				for _, d := range differ {
					t.Error(d)
				}
				total.Add(int64(arrived))
			})
		}
	})
	if t.Logf("%d packets arrived", total.Load()); total.Load() < 150 {
		t.Error("that shows little")
	}
}
