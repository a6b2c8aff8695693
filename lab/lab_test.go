package main

import (
	"fmt"
	"os"
	"testing"
)

// Some estates of the many on which predictions were tried; make lab tries others.
func TestPredictionsHoldOnThisKernel(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("SKIPPED, NOT PASSED: this test makes network namespaces and needs root")
	}
	if _, err := os.Stat("/dev/net/tun"); err != nil {
		t.Skip("SKIPPED, NOT PASSED: there is no /dev/net/tun here")
	}
	counts := make([]Counts, 20)
	t.Run("seeds", func(t *testing.T) {
		for seed := range counts {
			t.Run(fmt.Sprint(seed), func(t *testing.T) {
				t.Parallel()
				var differences []string
				var err error
				if counts[seed], differences, err = Try(uint64(seed), 4, false); err != nil {
					t.Fatal(err)
				}
				for _, d := range differences {
					t.Error(d)
				}
			})
		}
	})
	var total Counts
	for _, c := range counts {
		total.add(c)
	}
	t.Logf("%+v", total)
	if total.Ways < 2000 || total.MTUs < 300 || total.Failures < 40 {
		t.Errorf("only %+v was compared", total)
	}
}

func TestProbesAreKnownWhereverTheyPass(t *testing.T) {
	packet := append(make([]byte, 28), payload(77, 'Q', 100)...)
	if number, kind, ok := read(packet); !ok || number != 77 || kind != 'Q' || len(packet) != 128 {
		t.Errorf("%d %c %v", number, kind, ok)
	}
	if _, _, ok := read(packet[:40]); ok {
		t.Error("half a probe is one")
	}
}
