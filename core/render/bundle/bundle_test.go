package bundle

import (
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
)

// Each site gets what its target takes, or what is asked for.
func TestSitesGetWhatTheirTargetTakes(t *testing.T) {
	for _, c := range []struct{ target, asked, has, hasNot estate.Target }{
		{"", "", "wg", "json"}, {estate.TargetLinux, "", "wg", "json"}, {estate.TargetRestconf, "", "json", "wg"},
		{estate.TargetLinux, estate.TargetRestconf, "json", "wg"}, {estate.TargetRestconf, estate.TargetLinux, "wg", "json"},
	} {
		e, err := examples.Estate("three-sites")
		if err != nil {
			t.Fatal(err)
		}
		e.Sites[0].Gateway.Target = c.target
		files, err := Site(route.Build(tunnel.Derive(e)), 0, Options{Target: c.asked})
		if err != nil || len(files) == 0 {
			t.Fatal(files, err)
		}
		for _, f := range files {
			kind := estate.Target("wg")
			if strings.HasSuffix(f.Path, ".json") {
				kind = "json"
			}
			if kind == c.hasNot {
				t.Errorf("%+v gave %s", c, f.Path)
			}
		}
	}
}
