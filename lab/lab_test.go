package main

import (
	"fmt"
	"os"
	"testing"
)

// Some estates of the many on which predictions were tried; make lab tries others.
func TestPredictionsHoldOnThisKernel(t *testing.T) {
	t.Parallel()
	total := try(t, 0, 20, 4, false)
	if total.Ways < 2000 || total.MTUs < 300 || total.Failures < 40 {
		t.Errorf("only %+v was compared", total)
	}
}

// The same with agents, which see by themselves what failed.
func TestAgentsDoAsPredicted(t *testing.T) {
	total := try(t, 2, 6, 2, true)
	if total.Ways < 500 || total.Failures < 8 {
		t.Errorf("only %+v was compared", total)
	}
	// How soon deaths were seen is in the log above: on a busy machine it is no promise.
}

// What is held to limits and goes out by a hub leaves a lossy link, and so do its answers,
// whose own addresses are behind the hub's translation.
func TestAnswersFromTheInternetAreHeldToLimits(t *testing.T) {
	needsNamespaces(t)
	counts, differences, err := Try(1, 0, true, "lossy:link:tarn/copper")
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range differences {
		t.Error(d)
	}
	t.Logf("%+v", counts)
}

func needsNamespaces(t *testing.T) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("SKIPPED, NOT PASSED: this test makes network namespaces and needs root")
	}
	if _, err := os.Stat("/dev/net/tun"); err != nil {
		t.Skip("SKIPPED, NOT PASSED: there is no /dev/net/tun here")
	}
}

// try compares the estates of some seeds, with some failures each.
func try(t *testing.T, first, seeds, failures int, agents bool) (total Counts) {
	needsNamespaces(t)
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
