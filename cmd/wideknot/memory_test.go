package main

import "testing"

func TestGarbageHasTheSameRoomWhateverLives(t *testing.T) {
	for live, percent := range map[uint64]int{0: 300, 1 << 20: 300, 32 << 20: 300, 33 << 20: 290, 48 << 20: 200, 96 << 20: 100, 120 << 20: 80, 192 << 20: 50, 1 << 30: 50} {
		if got := percentOf(live); got != percent {
			t.Errorf("beside %d MB: %d %%, and should be %d", live>>20, got, percent)
		}
	}
}
