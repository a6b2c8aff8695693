package linux_test

import (
	"fmt"
	"net/netip"
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

// A link is marked where its gateway has others too, and both its device and its
// next hop are known.
func TestLinksThatAreMarked(t *testing.T) {
	for _, c := range []struct{ change, marked string }{
		{"", "fwmark 0x20d0/0xffff|fwmark 0x20d1/0xffff"}, {"next_hop", "fwmark 0x20d1/0xffff"}, {"device", "fwmark 0x20d1/0xffff"},
	} {
		m, keys := example(t, "load-sharing")
		site := m.Plan.SiteIndex("tarn")
		s := m.Plan.Site(site)
		for i := range s.Links {
			s.Links[i].Device, s.Links[i].NextHop = fmt.Sprint("wan", i), []netip.Addr{netip.MustParseAddr("192.0.2.254")}
		}
		switch c.change {
		case "next_hop":
			s.Links[0].NextHop = nil
		case "device":
			s.Links[0].Device = ""
		}
		text := ""
		for _, f := range bundle(t, m, site, keys) {
			if strings.HasSuffix(f.Path, "rules.ip") {
				text = string(f.Text)
			}
		}
		for _, mark := range []string{"fwmark 0x20d0/0xffff", "fwmark 0x20d1/0xffff"} {
			if strings.Contains(text, mark) != strings.Contains(c.marked, mark) {
				t.Errorf("%s: %s in\n%s", c.change, mark, text)
			}
		}
	}
}
