package agent

import (
	"time"

	"golang.org/x/sys/unix"
)

// bootClock is the time since the machine started, its sleep included.
func bootClock() time.Duration {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &t) != nil {
		return 0
	}
	return time.Duration(t.Nano())
}

// synchronised reports whether something keeps the clock right.
func synchronised() bool {
	var t unix.Timex
	state, err := unix.Adjtimex(&t)
	return err == nil && state != unix.TIME_ERROR
}
