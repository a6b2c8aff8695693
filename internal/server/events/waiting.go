package events

import (
	"time"

	"wideknot/core/diagnose"
)

// waiting are troubles that were not told.
type waiting struct {
	waits   map[string]wait      // by name
	tunnels map[string]time.Time // since when each of their tunnels is in one
}

// A wait is that of one trouble: since when it is seen, and since when any that it turned out to
// be was, as tunnels die one by one before their circuit is seen to be dead.
type wait struct{ since, first time.Time }

// of returns the wait of a trouble that is seen now. What was seen long before is another death.
func (w *waiting) of(t *diagnose.Trouble, at time.Time) wait {
	if is, ok := w.waits[t.Name()]; ok {
		return is
	}
	is := wait{at, at}
	for _, tunnel := range t.All {
		if first, ok := w.tunnels[tunnel]; ok && first.Before(is.first) && at.Sub(first) <= settles {
			is.first = first
		}
	}
	return is
}

// add lets a trouble wait.
func (w *waiting) add(t *diagnose.Trouble, is wait) {
	if w.waits == nil {
		w.waits, w.tunnels = map[string]wait{}, map[string]time.Time{}
	}
	w.waits[t.Name()] = is
	for _, tunnel := range t.All {
		if first, ok := w.tunnels[tunnel]; !ok || is.first.Before(first) {
			w.tunnels[tunnel] = is.first
		}
	}
}

// over reports whether a trouble lasted for long enough to be told.
func (w *wait) over(t *diagnose.Trouble, at time.Time) bool {
	lasts := at.Sub(w.since)
	switch {
	case t.Fresh:
		return false
	case t.Patient:
		return lasts >= settlesPatient
	case t.Unsettled:
		return lasts >= settlesLate
	}
	return at.Sub(w.first) >= settles && lasts >= settlesGrown
}
