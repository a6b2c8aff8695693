package estate

import (
	"strings"
	"testing"
)

// A part is read as it would be in a document, and what cannot be read is named.
func TestReadPart(t *testing.T) {
	for _, c := range []struct{ text, key, wrong string }{
		{"key: tarn", "tarn", ""},
		{"\ufeff{\"key\": \"tarn\"}", "tarn", ""},
		{"", "", "nothing was given"},
		{"key: [", "", "did not find expected node content"},
		{"key: tarn\nkeys: x", "tarn", "keys"},
		{"key: tarn\nlinks: 7", "tarn", "links"},
		{strings.Repeat(",", maxValues+1), "", "values"},
	} {
		var site Site
		problems := ReadPart([]byte(c.text), &site)
		if len(problems) > 0 != (c.wrong != "") || site.Key != c.key {
			t.Errorf("%.20q: %q, %v", c.text, site.Key, problems)
			continue
		}
		for _, p := range problems {
			if !strings.Contains(p.Path+": "+p.Message, c.wrong) || p.Path != "" && p.Line+p.Column != 0 {
				t.Errorf("%.20q: %+v", c.text, p)
			}
		}
	}
}
