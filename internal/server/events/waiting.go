package events

import (
	"slices"
	"time"

	"wideknot/core/diagnose"
)

// waiting are troubles that were not told, by name.
type waiting map[string]wait

// A wait is that of one trouble: since when it is seen, and since when any that it turned out to
// be was, as tunnels die one by one before their circuit is seen to be dead.
type wait struct {
	since, first time.Time
	tunnels      []string
}

// of returns the wait of a trouble that is seen now.
func (w waiting) of(t *diagnose.Trouble, at time.Time) wait {
	if is, ok := w[t.Name()]; ok {
		is.tunnels = t.All
		return is
	}
	is := wait{at, at, t.All}
	for _, other := range w {
		if other.first.Before(is.first) && slices.ContainsFunc(other.tunnels, func(tunnel string) bool { return slices.Contains(t.All, tunnel) }) {
			is.first = other.first
		}
	}
	return is
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
