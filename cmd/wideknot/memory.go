package main

import (
	"context"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// How memory is kept: how often that is looked at, how much garbage may lie beside what lives until
// it is collected, by default and as parts of what lives, and how much is worth a collection while
// nothing asks for one.
const (
	tideEvery    = 10 * time.Second
	garbage      = 96 << 20
	mostPercent  = 300 // an edit of a small estate makes much at once
	leastPercent = 50
	worthIt      = 64 << 20
)

// keepSmall lets garbage lie in proportion to what there is room for, not to what lives, and returns
// to the operating system what an edit or a rush of gateways once needed. It ends with the context.
func keepSmall(ctx context.Context) {
	debug.SetGCPercent(mostPercent)
	tick := time.NewTicker(tideEvery)
	defer tick.Stop()
	sizes := []metrics.Sample{
		{Name: "/gc/heap/live:bytes"}, {Name: "/memory/classes/heap/objects:bytes"}, {Name: "/memory/classes/heap/unused:bytes"}, {Name: "/memory/classes/heap/free:bytes"},
	}
	for set := mostPercent; ; {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		metrics.Read(sizes)
		live := sizes[0].Value.Uint64()
		if percent := percentOf(live); percent != set {
			set = percent
			debug.SetGCPercent(percent)
		}
		if sizes[1].Value.Uint64()+sizes[2].Value.Uint64()+sizes[3].Value.Uint64() > live+worthIt {
			debug.FreeOSMemory()
		}
	}
}

// percentOf is how much garbage may lie beside so many living bytes, in tens of per cent of them.
func percentOf(live uint64) int {
	if live == 0 {
		return mostPercent
	}
	return int(min(max(garbage*10/live*10, leastPercent), mostPercent))
}
