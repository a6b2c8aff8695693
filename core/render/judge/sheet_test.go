package judge

import (
	"bytes"
	"encoding/csv"
	"testing"

	"wideknot/core/render/sheet"
)

func TestSheetsAreReadBack(t *testing.T) {
	m := example(t, "breakout")
	rows := map[string]int{}
	for _, f := range sheet.Files(m) {
		read, err := csv.NewReader(bytes.NewReader(f.Text)).ReadAll()
		if err != nil {
			t.Errorf("%s: %v", f.Path, err)
		}
		rows[f.Path] = len(read) - 1
	}
	want := 0
	for i := range m.Plan.Estate.Sites {
		for _, r := range m.Table(i) {
			want += max(1, len(r.Hops))
		}
	}
	if rows["tunnels.csv"] != m.Plan.Tunnels() || rows["routes.csv"] != want {
		t.Errorf("%v, want %d tunnels and %d hops", rows, m.Plan.Tunnels(), want)
	}
}
