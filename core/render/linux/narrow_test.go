package linux_test

import (
	"os/exec"
	"strings"
	"testing"

	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// A link that is for one zone keeps the site's other subnets off its tunnels,
// both ways, at both ends of each tunnel; other tunnels let them through.
func TestLinksForSomeZones(t *testing.T) {
	m, keys := example(t, "three-sites")
	e := m.Plan.Estate.Clone()
	for i := range e.Sites {
		for j := range e.Sites[i].Subnets {
			e.Sites[i].Subnets[j].Zone = "office"
		}
	}
	spoke := &e.Sites[len(e.Sites)-1]
	spoke.Links[0].Zones = []string{"control"}
	m = route.Build(tunnel.Derive(e))
	for i := range e.Sites {
		limited, drops := map[string]bool{}, 0
		for _, end := range m.Plan.Ends(i) {
			local, remote := m.Plan.Sides(end)
			limited[local.Interface] = !m.Plan.Link(local).Carries("office") || !m.Plan.Link(remote).Carries("office")
		}
		for _, f := range bundle(t, m, i, keys) {
			if !strings.HasSuffix(f.Path, ".nft") {
				continue
			}
			for name, is := range limited {
				rule := `oifname "` + name + `" ip saddr {`
				if strings.Contains(string(f.Text), rule) != is {
					t.Errorf("%s: %s is limited: %v", e.Sites[i].Key, name, is)
				}
				if is {
					drops++
				}
			}
			command := exec.Command("nft", "-c", "-f", "-")
			command.Stdin = strings.NewReader(string(f.Text))
			if out, err := command.CombinedOutput(); err != nil {
				t.Errorf("%s: %v: %s", f.Path, err, out)
			}
		}
		if e.Sites[i].Key == spoke.Key && drops == 0 {
			t.Errorf("nothing is limited at %s", spoke.Key)
		}
	}
}
