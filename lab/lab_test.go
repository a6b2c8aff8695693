package main

import (
	"fmt"
	"os"
	"testing"
)

// Some estates of the many on which predictions were tried; make lab tries others.
func TestPredictionsHoldOnThisKernel(t *testing.T) {
	total := try(t, 0, 20, 4, false)
	if total.Ways < 2000 || total.MTUs < 300 || total.Failures < 40 {
		t.Errorf("only %+v was compared", total)
	}
}

// The same with agents, which see by themselves what failed.
func TestAgentsDoAsPredicted(t *testing.T) {
	total := try(t, 0, 8, 2, true)
	if total.Ways < 700 || total.Failures < 12 {
		t.Errorf("only %+v was compared", total)
	}
	// How soon deaths were seen is in the log above: on a busy machine it is no promise.
}

// try compares the estates of some seeds, with some failures each.
func try(t *testing.T, first, seeds, failures int, agents bool) (total Counts) {
	if os.Geteuid() != 0 {
		t.Skip("SKIPPED, NOT PASSED: this test makes network namespaces and needs root")
	}
	if _, err := os.Stat("/dev/net/tun"); err != nil {
		t.Skip("SKIPPED, NOT PASSED: there is no /dev/net/tun here")
	}
	counts := make([]Counts, seeds)
	at := make(chan bool, seeds)
	if agents { // those of more estates at once are late with probes
		at = make(chan bool, 2)
	}
	t.Run("seeds", func(t *testing.T) {
		for i := range counts {
			t.Run(fmt.Sprint(first+i), func(t *testing.T) {
				t.Parallel()
				at <- true
				defer func() { <-at }()
				var differences []string
				var err error
				if counts[i], differences, err = Try(uint64(first+i), failures, agents); err != nil {
					t.Fatal(err)
				}
				for _, d := range differences {
					t.Error(d)
				}
			})
		}
	})
	for _, c := range counts {
		total.add(c)
	}
	t.Logf("%+v", total)
	return total
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
