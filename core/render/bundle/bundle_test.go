package bundle

import (
	"path"
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

// A linux bundle holds nothing of an overlay that is not WireGuard's: no file, no
// route into a tunnel that it does not make.
func TestLinuxLeavesOutOtherTransports(t *testing.T) {
	e, err := examples.Estate("breakout")
	if err != nil {
		t.Fatal(err)
	}
	if len(e.Overlays) != 2 {
		t.Fatalf("%d overlays", len(e.Overlays))
	}
	e.Overlays[1].Transport = estate.IPsec
	m := route.Build(tunnel.Derive(e))
	made, foreign := 0, 0
	for site := range e.Sites {
		files, err := Site(m, site, Options{})
		if err != nil {
			t.Fatal(err)
		}
		whole := ""
		for _, f := range files {
			whole += string(f.Text)
			if strings.HasPrefix(path.Base(path.Dir(f.Path)), "wg") {
				made++
			}
		}
		for _, p := range m.Plan.Peers(site) {
			if p.Overlay.Spec.Transport != estate.IPsec {
				continue
			}
			foreign++
			for _, line := range strings.Split(whole, "\n") {
				if strings.Contains(line+" ", p.Interface+" ") && !strings.HasPrefix(line, "rule ") {
					t.Errorf("%s speaks of %s: %s", e.Sites[site].Key, p.Interface, line)
				}
			}
		}
	}
	if made == 0 || foreign == 0 {
		t.Errorf("%d files of WireGuard, %d tunnels of another kind", made, foreign)
	}
}
