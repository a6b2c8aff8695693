package rollouts

import (
	"testing"
	"time"
)

// Rounds begin between two times of day only, over midnight too; without them at any time.
func TestHours(t *testing.T) {
	for _, c := range []struct {
		from, to, now string
		may           bool
	}{
		{"", "", "12:00", true},
		{"22:30", "05:00", "22:29", false},
		{"22:30", "05:00", "22:30", true},
		{"22:30", "05:00", "00:00", true},
		{"22:30", "05:00", "05:00", false},
		{"01:00", "04:00", "03:59", true},
		{"01:00", "04:00", "04:00", false},
		{"01:00", "04:00", "12:00", false},
		{"23:00", "", "12:00", true}, // one of them alone says nothing
	} {
		now, err := time.Parse("15:04", c.now)
		if err != nil {
			t.Fatal(err)
		}
		s := Settings{From: c.from, To: c.to}
		if got := s.within(now); got != c.may {
			t.Errorf("from %q to %q at %s: %v", c.from, c.to, c.now, got)
		}
	}
}
