package main

import (
	"fmt"
	"testing"
)

// Stand-ins do with packets what kernels do: same configuration, same packets, same verdicts.
func TestStandInsDoAsKernels(t *testing.T) {
	needsNamespaces(t)
	total := 0
	for seed := range uint64(7) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			arrived, differ, err := Planes(seed, 2)
			if err != nil {
				t.Fatal(err)
			}
			for _, d := range differ {
				t.Error(d)
			}
			total += arrived
		})
	}
	if t.Logf("%d packets arrived", total); total < 500 {
		t.Error("that shows little")
	}
}
