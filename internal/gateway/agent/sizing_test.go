package agent

import (
	"slices"
	"testing"
	"testing/synctest"
	"time"
)

// Whatever a path takes is found to within a step, and never more than it takes.
func TestSizeIsFound(t *testing.T) {
	for _, mtu := range []int{1280, 1420, 1440, 9000} {
		for path := 500; path <= mtu+100; path += 7 {
			s := sizer{}
			s.begin(mtu)
			tries := 0
			for done := false; !done; tries++ {
				if tries > 60 {
					t.Fatalf("MTU %d, path %d: no end", mtu, path)
				}
				if s.size > mtu {
					t.Fatalf("MTU %d, path %d: %d is tried", mtu, path, s.size)
				}
				if s.size <= path {
					done = s.answered()
				} else {
					done = s.missed()
				}
			}
			want := min(path, mtu)
			if path < leastSize {
				want = 0
			}
			if s.found > want || want > 0 && want-s.found > sizeStep && want >= leastSize+sizeStep || path >= mtu && s.found != mtu {
				t.Errorf("MTU %d, path %d: found %d after %d tries", mtu, path, s.found, tries)
			}
		}
	}
}

// A path that swallows large packets, on which small probes say nothing, is told.
func TestBlackHoleIsTold(t *testing.T) { synctest.Test(t, blackHoleIsTold) }

func blackHoleIsTold(t *testing.T) {
	n, a, _, _, _ := pair(t, 20)
	n.swallow(1200)
	a.prober.each(func(w *watched) { w.sizer.next = time.Now() })
	eventually(t, "it is told", func() bool { return slices.Contains(a.kinds(t), PathMTU) })
	eventually(t, "it is measured", func() bool { s, err := a.State(t.Context()); return err == nil && s.Tunnels[0].PathMTU > 0 })
	s, err := a.State(t.Context())
	if err != nil || !s.Tunnels[0].Up || s.Tunnels[0].PathMTU > 1200 || s.Tunnels[0].PathMTU < 1180 {
		t.Errorf("%+v, %v", s.Tunnels[0], err)
	}
}

// swallow loses packets that are larger, headers included, from now on.
func (n *testNet) swallow(size int) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.most = size
}
