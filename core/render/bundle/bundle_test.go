package bundle

import (
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/render/linux"
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

// An agent's document comes with the keys it needs, each in a file of its own, where
// they are asked for.
func TestAgentsGetTheirKeysApart(t *testing.T) {
	e, err := examples.Estate("three-sites", "key: ops", "key: ops\n    preshared_keys: true")
	if err != nil {
		t.Fatal(err)
	}
	m := route.Build(tunnel.Derive(e))
	keys := linux.Keys{
		Private: func(site string) (string, bool) { return "private-of-" + site, true },
		Shared:  func(overlay, tunnel string) (string, bool) { return "shared", true },
	}
	files, err := Site(m, 0, Options{Target: Gateway, Keys: keys})
	if err != nil {
		t.Fatal(err)
	}
	has := map[string]string{}
	for _, f := range files {
		has[f.Path] = string(f.Text)
	}
	site := e.Sites[0].Key
	if has[site+"/secrets/private.key"] != "private-of-"+site+"\n" || len(files) != 2+len(m.Plan.Peers(0)) {
		t.Errorf("got %v", has)
	}
	if strings.Contains(has[site+"/gateway.json"], "private-of") {
		t.Error("a key is in the document")
	}
	if files, err = Site(m, 0, Options{Target: Gateway}); err != nil || len(files) != 1 {
		t.Errorf("unasked for: %d files, %v", len(files), err)
	}
}
