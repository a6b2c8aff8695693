// Package judge has outside programs read what the renderings write.
package judge

import (
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/render/restconf"
	"wideknot/core/render/topology"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
	"wideknot/examples"
)

// modules are the folders of the standard models, from Debian's libyuma-base,
// and of our own.
var modules = []string{"/usr/share/yuma/nmda-modules/ietf", "/usr/share/yuma/modules/ietf", "../../../internal/line/yang"}

func yanglint(t *testing.T, data []byte, models ...string) {
	t.Helper()
	if out, accepted := lint(t, data, models...); !accepted {
		t.Errorf("yanglint %s:\n%s\n%.3000s", strings.Join(models, " "), out, data)
	}
}

func lint(t *testing.T, data []byte, models ...string) (said string, accepted bool) {
	t.Helper()
	if _, err := exec.LookPath("yanglint"); err != nil {
		t.Fatal("yanglint is missing; make test-tools installs it")
	}
	file := filepath.Join(t.TempDir(), "data.json")
	if err := os.WriteFile(file, data, 0o600); err != nil {
		t.Fatal(err)
	}
	arguments := []string{"-D"}
	for _, folder := range modules {
		arguments = append(arguments, "-p", folder)
	}
	kind := "config"
	if slices.Contains(models, "state") {
		kind, models = "get", slices.DeleteFunc(slices.Clone(models), func(m string) bool { return m == "state" })
	}
	arguments = append(arguments, "-t", kind)
	for _, m := range models {
		found, err := filepath.Glob("/usr/share/yuma/*modules/ietf/" + m + "@*.yang")
		if strings.HasPrefix(m, "wideknot-") {
			found, err = []string{"../../../internal/line/yang/" + m + ".yang"}, nil
		}
		if err != nil || len(found) == 0 {
			t.Fatalf("no module %s: %v", m, err)
		}
		newest := found[0]
		for _, f := range found {
			if filepath.Base(f) > filepath.Base(newest) {
				newest = f
			}
		}
		arguments = append(arguments, newest)
	}
	out, err := exec.Command("yanglint", append(arguments, file)...).CombinedOutput()
	return string(out), err == nil && !strings.Contains(string(out), "err :")
}

func example(t *testing.T, name string, change ...string) *route.Map {
	t.Helper()
	e, err := examples.Estate(name, change...)
	if err != nil {
		t.Fatal(err)
	}
	e.Allocations.Keys = map[string]string{}
	for i := range e.Sites {
		e.Allocations.Keys[e.Sites[i].Key] = "xTIBA5rboUvnH4htodjb6e697QjLERt1NAB4mZqp8Dg="
	}
	return route.Build(tunnel.Derive(e))
}

func TestYanglintAcceptsConfigurations(t *testing.T) {
	ipsec := "key: ops\n    transport: ipsec"
	for name, m := range map[string]*route.Map{
		"three sites": example(t, "three-sites"),
		"breakout":    example(t, "breakout"),
		"sharing":     example(t, "load-sharing", "key: ops,", "key: ops, probe: {target: far-lan, misses: 4},", "rank: 2", "rank: 2, zones: [control]"),
		"the demo":    example(t, "brindlewater", "    transit: [100.96.0.0/16]", "    transit: [100.96.0.0/16, 'fd3a:91c2:8::/64']"),
		"ipsec":       example(t, "three-sites", "key: ops", ipsec),
	} {
		sites := 0
		for i := range m.Plan.Estate.Sites {
			files, err := restconf.Site(m, i)
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range files {
				if strings.HasSuffix(f.Path, "acl.json") {
					continue // Debian has no module of RFC 8519; see acl_test.go
				}
				if sites++; sites > 8 {
					break // of each kind of site in the demo
				}
				yanglint(t, f.Text, "ietf-interfaces", "ietf-ip", "iana-if-type", "ietf-routing", "ietf-ipv4-unicast-routing", "ietf-ipv6-unicast-routing", "wideknot-tunnel")
			}
		}
		if sites == 0 {
			t.Errorf("%s: nothing was rendered", name)
		}
		file, err := topology.File(m.Plan)
		if err != nil {
			t.Fatal(err)
		}
		yanglint(t, file.Text, "ietf-network", "ietf-network-topology")
	}
}

// Whatever a gateway is to be, and what it reports, is what the module publishes.
func TestYanglintAcceptsGateways(t *testing.T) {
	ipsec, told := 0, 0
	for seed := range uint64(6) {
		e := sample.Mixed(seed)
		if len(e.Overlays) > 1 {
			e.Overlays[1].Transport = estate.IPsec
		}
		for j := range e.Overlays {
			e.Overlays[j].HubsTell = true
			if zones := e.Zones(); j < estate.MaxLimited && len(zones) > 0 {
				e.Overlays[j].Probe = &estate.Probe{Limits: &estate.Limits{LatencyMs: 150, JitterMs: 20.5, LossPercent: 1, Zones: zones[:1]}}
			}
		}
		for j := range e.Sites {
			e.Sites[j].Gateway.Switches = true
		}
		m := route.Build(tunnel.Derive(e))
		for i := range e.Sites {
			c := gateway.Of(m, i)
			told += len(c.Tellings)
			if c.Carries(estate.IPsec) {
				ipsec++
			}
			text, err := gateway.Write(c)
			if err != nil {
				t.Fatal(err)
			}
			yanglint(t, text, "wideknot-gateway")
			if seed > 0 || len(c.Tunnels) == 0 {
				continue
			}
			for _, change := range [][2]string{{`"rank": 1`, `"rank": 0`}, {`"mtu"`, `"em-tee-you"`}, {`"weight": 1`, `"weight": 0`}, {`"site": "`, `"site": " `}} {
				spoiled := strings.Replace(string(text), change[0], change[1], 1)
				if _, accepted := lint(t, []byte(spoiled), "wideknot-gateway"); accepted {
					t.Errorf("accepted with %s", change[1])
				}
			}
		}
	}
	if ipsec == 0 {
		t.Error("no gateway has IPsec")
	}
	const at = gateway.Time("2026-11-30T12:00:00Z")
	state := &gateway.State{
		Site: "tarn", At: at, Release: 3, Digest: "ab12", Line: gateway.LineState{Up: true, Since: at, Server: "one"}, Clock: gateway.ClockState{Synchronised: true},
		Links:   []gateway.LinkState{{Link: "fibre", Addresses: []netip.Addr{netip.MustParseAddr("203.0.113.2")}, NextHopUp: true, NamesUp: true, SeenOutside: netip.MustParseAddr("203.0.113.2"), PathMTU: 1492}},
		Tunnels: []gateway.TunnelState{{Interface: "weir-1", Up: true, Since: at, HandshakeS: 12, BytesIn: 1 << 63, Endpoint: netip.MustParseAddrPort("[2001:db8::1]:51820"), LossOutPPM: 1000, PathMTU: 1420, Beyond: true, KeptOff: 5}},
		Ways:    []gateway.WayState{{ID: gateway.FirstWay, Group: 1}}, HeldWays: []gateway.WayState{{ID: gateway.FirstWay + 2*gateway.WayNumbers, Group: 2}}, Rules: []gateway.RuleState{{Overlay: "ops", Rule: 1, Packets: 3, Bytes: 300}},
	}
	text, err := gateway.WriteState(state)
	if err != nil {
		t.Fatal(err)
	}
	yanglint(t, text, "state", "wideknot-gateway")
	if _, accepted := lint(t, []byte(strings.Replace(string(text), `"9223372036854775808"`, `9223372036854775808`, 1)), "state", "wideknot-gateway"); accepted {
		t.Error("a number of 64 bits may be a number")
	}
}

// A judge that accepts everything is none.
func TestYanglintRefusesWhatIsWrong(t *testing.T) {
	m := example(t, "three-sites")
	files, err := restconf.Site(m, 0)
	if err != nil {
		t.Fatal(err)
	}
	for _, change := range [][2]string{{`"rank": 1`, `"rank": 0`}, {`"listen-port"`, `"listening-port"`}, {`"ip": "100.96.0.0"`, `"ip": "100.96.0.999"`}, {`"outgoing-interface": "stonebeck-1"`, `"outgoing-interface": "nowhere-1"`}} {
		spoiled := strings.Replace(string(files[0].Text), change[0], change[1], 1)
		if spoiled == string(files[0].Text) {
			t.Fatalf("nothing to spoil: %s", change[0])
		}
		if _, accepted := lint(t, []byte(spoiled), "ietf-interfaces", "ietf-ip", "iana-if-type", "ietf-routing", "ietf-ipv4-unicast-routing", "ietf-ipv6-unicast-routing", "wideknot-tunnel"); accepted {
			t.Errorf("accepted with %s", change[1])
		}
	}
}

func TestTheTwoEndsOfAnIPsecTunnelMirror(t *testing.T) {
	m := example(t, "three-sites", "key: ops", "key: ops\n    transport: ipsec")
	p := m.Plan
	seen := map[string]tunnel.SA{}
	for i := range p.Estate.Sites {
		for _, e := range p.Ends(i) {
			_, _, tun := p.At(e)
			sa := p.SecurityAssociation(e)
			other, ok := seen[p.Ident(tun)]
			if !ok {
				seen[p.Ident(tun)] = sa
				continue
			}
			if sa.LocalID != other.RemoteID || sa.RemoteID != other.LocalID || strings.Join(sa.IKE, " ") != strings.Join(other.IKE, " ") ||
				strings.Join(sa.ESP, " ") != strings.Join(other.ESP, " ") || sa.UDPEncapsulation != other.UDPEncapsulation || !sa.Initiates && !other.Initiates {
				t.Errorf("%+v\n%+v", sa, other)
			}
		}
	}
	if len(seen) != 3 {
		t.Errorf("%d tunnels", len(seen))
	}
}
