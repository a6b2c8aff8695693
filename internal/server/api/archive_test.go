package api

import (
	"archive/zip"
	"bytes"
	"io"
	"strings"
	"testing"
)

// An archive of what changed since a release holds the sites whose gateways are to be
// something else, and says so.
func TestArchiveOfChanges(t *testing.T) {
	s := start(t)
	base := s.demo()
	names := func(body map[string]any) (sites map[string]bool, manifest string) {
		t.Helper()
		r := s.send("POST", base+"/archive", body)
		archive, err := zip.NewReader(bytes.NewReader(r.body), int64(len(r.body)))
		if err != nil {
			t.Fatalf("%v: %s", err, r.body)
		}
		sites = map[string]bool{}
		for _, f := range archive.File {
			if site, _, inFolder := strings.Cut(f.Name, "/"); inFolder {
				sites[site] = true
				continue
			}
			open, err := f.Open()
			if err != nil {
				t.Fatal(err)
			}
			text, err := io.ReadAll(open)
			if err != nil {
				t.Fatal(err)
			}
			manifest = string(text)
		}
		return sites, manifest
	}
	released(s, base)
	all, _ := names(map[string]any{"keys": false})
	same, manifest := names(map[string]any{"keys": false, "since": 1})
	if len(all) != 38 || len(same) != 0 || !strings.HasPrefix(manifest, "# brindlewater, what differs from release 1\n") {
		t.Errorf("%d sites; %d differ from what they are; %s", len(all), len(same), manifest)
	}
	must[EstateHead](s, "PUT", base+"/link-order", map[string]any{"sites": []string{"alderfold"}, "first": []map[string]any{{"key": "cell"}}})
	must[EstateHead](s, "DELETE", base+"/sites/eelgate", nil)
	some, manifest := names(map[string]any{"keys": false, "since": 1})
	if !some["alderfold"] || !some["harrowmere"] || some["eelgate"] || !strings.Contains(manifest, "\nremove eelgate\n") {
		t.Errorf("%v\n%s", some, manifest)
	}
	s.refused(404, "POST", base+"/archive", map[string]any{"keys": false, "since": 99})
}
