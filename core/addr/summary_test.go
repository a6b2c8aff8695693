package addr

import (
	"slices"
	"testing"
)

func TestSummarise(t *testing.T) {
	got := Summarise(prefixes("10.16.0.0/14 10.20.0.0/14 fd00::/48"), prefixes("10.16.4.0/24 10.16.5.0/24 10.16.7.0/24 192.168.1.0/24 fd00:0:0:7::/64"))
	want := []struct{ prefix, covers, holes string }{
		{"10.16.4.0/22", "10.16.4.0/23 10.16.7.0/24", "10.16.6.0/24"},
		{"fd00:0:0:7::/64", "fd00:0:0:7::/64", ""},
	}
	if len(got) != len(want) {
		t.Fatalf("%+v", got)
	}
	for i, w := range want {
		if got[i].Prefix.String() != w.prefix || !slices.Equal(got[i].Covers, prefixes(w.covers)) || !slices.Equal(got[i].Holes, prefixes(w.holes)) {
			t.Errorf("%+v, want %+v", got[i], w)
		}
	}
}

// A prefix list as a sheet's cell has it: whatever is in it, reading, summing
// up and finding room must end, and agree.
func FuzzPrefixList(f *testing.F) {
	f.Add("10.0.0.0/8 10.1.0.0/16 fd00::/8")
	f.Add("0.0.0.0/0 ::/0 1.2.3.4/32")
	f.Fuzz(func(t *testing.T, text string) {
		if len(text) > 2000 {
			return
		}
		var list = prefixes("")
		for start := 0; start < len(text); {
			end := start
			for end < len(text) && text[end] != ' ' {
				end++
			}
			if p, _, err := ParsePrefix(text[start:end]); err == nil {
				list = append(list, p)
			}
			start = end + 1
		}
		all := Aggregate(list)
		for _, s := range Summarise(all, list) {
			if !slices.Contains(all, s.Prefix) || len(s.Holes) > 0 {
				t.Errorf("%v within itself: %+v", s.Prefix, s)
			}
		}
		if len(Subtract(all, list)) > 0 {
			t.Errorf("%v covers more than %v", all, list)
		}
	})
}
