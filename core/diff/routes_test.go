package diff

import "testing"

func TestRoutesBeforeAndAfter(t *testing.T) {
	old := derived(t, nil)
	if lines, moved := Routes(old, old, "tarn"); moved != 0 || len(lines) == 0 {
		t.Errorf("%d of %d lines move to where they are", moved, len(lines))
	}
	turned := derived(t, old, "{site: tarn}", "{site: tarn, hubs: [second, first]}")
	lines, moved := Routes(old, turned, "tarn")
	n := 0
	for _, l := range lines {
		if l.Moved != (l.Was != l.Is) {
			t.Errorf("%+v", l)
		}
		if l.Moved {
			n++
		}
		if l.Prefix.String() == "10.50.2.0/24" && (l.Was != "first-1 via first" || l.Is != "second-2 via second" || l.To != "second" || len(l.Behind) != 1) {
			t.Errorf("%+v", l)
		}
	}
	if n != moved || moved == 0 {
		t.Errorf("%d moved, %d counted", n, moved)
	}
	gone := derived(t, old, "10.50.4.0/24", "10.50.8.0/24")
	lines, _ = Routes(old, gone, "tarn")
	if last := lines[len(lines)-1]; last.Prefix.String() != "10.50.4.0/24" || last.Is != "" || !last.Moved {
		t.Errorf("a prefix that is gone: %+v", last)
	}
	if lines, moved := Routes(old, old, "nowhere"); len(lines) != 0 || moved != 0 {
		t.Error("a site that there is not has routes")
	}
}
