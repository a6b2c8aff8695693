package estate

import (
	"bytes"
	"errors"
	"net/netip"
	"strings"
	"testing"
)

const commented = `# our estate
wideknot: 1
estate: {name: Three} # not many
sites:
  # the hub
  - {key: a, name: A, links: [{key: fibre, reach: static, addresses: [203.0.113.1]}]}
  - {key: b, name: B, links: [{key: cell, reach: nat}]}
`

const overlaysOf = `# what joins them
overlays:
  - {key: ops, shape: full-mesh, transit: [100.96.0.0/24], direct: [[a, b]]}
`

// What is recorded stands in the document, and every other byte is as it was.
func TestWithAllocations(t *testing.T) {
	record := Allocations{
		Keys: map[string]string{"a": "AQEBAQEBAQEBAQEBAQEBAQEBAQEBAQEBAQEBAQEBAQE="},
		Tunnels: map[string]map[string]TunnelLot{"ops": {"a/fibre b/cell": {
			Transit: []netip.Prefix{netip.MustParsePrefix("100.96.0.0/31")}, Slots: [2]int{1, 1}, Ports: [2]int{51820, 51820},
		}}},
	}
	for name, c := range map[string]struct{ text, before, after string }{
		"none yet":           {commented, commented, ""},
		"no line end":        {strings.TrimSuffix(commented, "\n"), commented, ""},
		"last":               {commented + "allocations:\n  keys: {}\n  # old\n", commented, ""},
		"between":            {commented + "allocations: {keys: {}}\n\n" + overlaysOf, commented, "\n" + overlaysOf},
		"JSON, none":         {`{"wideknot": 1, "estate": {"name": "x"}, "sites": [], "overlays": []}`, `{"wideknot": 1, "estate": {"name": "x"}, "sites": [], "overlays": []`, "}"},
		"JSON, in the midst": {`{"wideknot": 1, "allocations": {"keys": {}}, "estate": {"name": "x"}}`, `{"wideknot": 1, "allocations"`, `, "estate": {"name": "x"}}`},
	} {
		out, err := WithAllocations([]byte(c.text), record)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if got := string(out); !strings.HasPrefix(got, c.before) || !strings.HasSuffix(got, c.after) {
			t.Errorf("%s:\n%s", name, got)
		}
		e, _, err := Read(bytes.NewReader(out))
		if err != nil || !sameRecord(e.Allocations, record) {
			t.Errorf("%s: %v, %+v", name, err, e.Allocations)
		}
		if again, err := WithAllocations(out, record); err != nil || !bytes.Equal(again, out) {
			t.Errorf("%s: recording the same again changes it: %v\n%s", name, err, again)
		}
	}
	for _, text := range []string{"{wideknot: 1, estate: {name: x}}", "wideknot: 1\nestate: {nam: x}\n", "wideknot: 1\nestate: {name: x}\nallocations: &a\n  keys: {}\n...\n"} {
		if out, err := WithAllocations([]byte(text), record); err == nil {
			if e, _, err := Read(bytes.NewReader(out)); err != nil || !sameRecord(e.Allocations, record) {
				t.Errorf("%q: %v\n%s", text, err, out)
			}
		}
	}
}

// Whatever is recorded in whatever text, the rest of it says the same.
func FuzzWithAllocations(f *testing.F) {
	f.Add([]byte(commented), 7)
	f.Add([]byte(commented+"allocations: {keys: {}}\n\n"+overlaysOf), 1)
	f.Add([]byte(`{"wideknot": 1, "estate": {"name": "x"}}`), 2)
	f.Fuzz(func(t *testing.T, text []byte, port int) {
		record := Allocations{Tunnels: map[string]map[string]TunnelLot{"ops": {"a/x b/y": {Slots: [2]int{1, 2}, Ports: [2]int{1 + port&0xffff, 2}}}}}
		out, err := WithAllocations(text, record)
		if err != nil {
			return
		}
		if e, _, err := Read(bytes.NewReader(out)); err != nil || !sameRecord(e.Allocations, record) {
			t.Errorf("%v\n%s", err, out)
		}
	})
}

// Problems come in the order of the text: by line, and in a line by column.
func TestProblemsAreInTheOrderOfTheText(t *testing.T) {
	_, _, err := Read(strings.NewReader("wideknot: 1\nestate: {name: x}\nsites: [{key: a, name: A, links: [{key: x, reach: nope, mtu: 1}, {key: y, reach: never}]}, {key: B, name: B}]\noverlays:\n  - {key: o, shape: star}\n"))
	var problems Problems
	if !errors.As(err, &problems) || len(problems) < 5 {
		t.Fatalf("%v", err)
	}
	for i := 1; i < len(problems); i++ {
		a, b := problems[i-1], problems[i]
		if a.Line > b.Line || a.Line == b.Line && a.Column > b.Column {
			t.Errorf("%v comes before %v", a, b)
		}
	}
}
