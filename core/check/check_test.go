package check

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/outage"
	"wideknot/core/planning"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
	"wideknot/examples"
	"wideknot/golden"
)

// base is an estate without any finding of error or warning; the cases below
// each spoil one thing.
const base = `wideknot: 1
estate: {name: Base, regions: [{key: north, blocks: [10.16.0.0/16]}]}
sites:
  - key: hub
    name: Hub
    region: north
    gateway: {switches: true}
    links:
      - {key: a, reach: static, addresses: [203.0.113.1]}
      - {key: b, reach: static, addresses: [203.0.113.2], rank: 2}
    subnets: [{prefix: 10.16.0.0/24, share: [ops]}]
  - key: spoke
    name: Spoke
    region: north
    gateway: {switches: true}
    links:
      - {key: a, reach: nat}
      - {key: b, reach: nat, rank: 2}
    subnets: [{prefix: 10.16.1.0/24, share: [ops]}]
  - key: other
    name: Other
    region: north
    gateway: {switches: true}
    links:
      - {key: a, reach: nat}
      - {key: b, reach: nat, rank: 2}
    subnets: [{prefix: 10.16.2.0/24, share: [ops]}]
overlays:
  - {key: ops, shape: hub-and-spoke, transit: [100.96.0.0/24], hubs: [hub], spokes: [{site: spoke}, {site: other}]}
allocations:
  keys:
    hub: xTIBA5rboUvnH4htodjb6e697QjLERt1NAB4mZqp8Dg=
    spoke: bNXfpnSrj8jyPlpoEjVmkuDDm0GbOKdGfPRvqeRmYnc=
    other: HIgo9xNzJMWLKASShiTqIybxZ0U3wGLiUeJ1PKf8ykw=
`

func run(t *testing.T, text string) []Finding {
	t.Helper()
	e, _, err := estate.Read(strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	return findings(e)
}

func findings(e *estate.Estate) []Finding {
	p := tunnel.Derive(e)
	return Run(p, route.Build(p))
}

func TestCleanEstateHasNoFindings(t *testing.T) {
	if found := run(t, base); len(found) > 0 {
		t.Errorf("%+v", found)
	}
}

// Equal ranks that somebody asked for are no surprise.
func TestSharedLoadIsNoFinding(t *testing.T) {
	text := strings.Replace(base, "      - {key: a, reach: nat}\n      - {key: b, reach: nat, rank: 2}", "      - {key: a, reach: nat, weight: 3}\n      - {key: b, reach: nat, weight: 1}", 1)
	if found := run(t, text); text == base || len(found) > 0 {
		t.Errorf("%+v", found)
	}
}

func TestFindings(t *testing.T) {
	tried := map[string]bool{"path/asymmetric": true} // which has a test of its own, below
	var said strings.Builder
	for _, c := range []struct {
		code     string
		severity Severity
		old, new string
		title    string
	}{
		{"address/collision", Error, "10.16.2.0/24", "10.16.1.0/24", "spoke and other both use 10.16.1.0/24 in ops"},
		{"address/collision", Error, "10.16.2.0/24", "10.16.1.128/25", "10.16.1.128/25 at other lies inside 10.16.1.0/24 at spoke in ops"},
		{"address/collision", Error, "prefix: 10.16.2.0/24", "prefix: 192.168.1.0/24, map: 10.16.1.0/24", "spoke and other both use 10.16.1.0/24 in ops"},
		{"address/latent", Note, "prefix: 10.16.2.0/24, share: [ops]", "prefix: 10.16.1.0/24", "spoke and other both use 10.16.1.0/24, not shared together"},
		{"address/same-site", Error, "{prefix: 10.16.2.0/24", "{prefix: 10.16.2.128/25}, {prefix: 10.16.2.0/24", "other has 10.16.2.128/25 inside its own 10.16.2.0/24"},
		{"address/idle-map", Note, "prefix: 10.16.2.0/24, share: [ops]", "prefix: 10.16.2.0/24, map: 10.16.9.0/24", "mapped to 10.16.9.0/24 but shared nowhere"},
		{"address/special", Warning, "10.16.2.0/24", "169.254.2.0/24", "lies in link-local"},
		{"address/special", Warning, "10.16.2.0/24", "'2001:db8::/64'", "lies in documentation"},
		{"pool/subnet", Error, "10.16.2.0/24", "100.96.0.128/25", "transit pool 100.96.0.0/24 of ops overlaps subnet 100.96.0.128/25 at other"},
		{"pool/link", Error, "addresses: [203.0.113.2]", "addresses: [100.96.0.77]", "holds the address of hub/b"},
		{"pool/underlay", Error, "estate: {name: Base, ", "estate: {name: Base, underlays: [{key: ring, blocks: [100.96.0.0/20]}], ", "overlaps 100.96.0.0/20 of underlay ring"},
		{"address/underlay", Error, "estate: {name: Base, ", "estate: {name: Base, underlays: [{key: ring, blocks: [10.16.2.0/23]}], ", "10.16.2.0/24 at other lies in underlay ring (10.16.2.0/23)"},
		{"address/endpoint", Error, "prefix: 10.16.2.0/24", "prefix: 203.0.113.0/24", "hub/a (203.0.113.1) lies in 203.0.113.0/24, which other shares"},
		{"address/link", Warning, "- {key: b, reach: nat, rank: 2}\n    subnets: [{prefix: 10.16.1.0/24", "- {key: b, reach: nat, addresses: [10.16.2.9], rank: 2}\n    subnets: [{prefix: 10.16.1.0/24", "spoke/b (10.16.2.9) lies in 10.16.2.0/24, which other shares"},
		{"link/first-backup", Note, "      - {key: a, reach: nat}\n      - {key: b, reach: nat, rank: 2}\n    subnets: [{prefix: 10.16.2.0/24", "      - {key: a, reach: nat, shared_fate: [mast-1]}\n      - {key: b, reach: nat, rank: 2, shared_fate: [mast-1]}\n      - {key: c, reach: nat, rank: 3}\n    subnets: [{prefix: 10.16.2.0/24", "the first two links of other share mast-1"},
		{"pool/pool", Error, "overlays:\n", "overlays:\n  - {key: extra, shape: hub-and-spoke, transit: [100.96.0.0/16]}\n", "overlaps transit pool"},
		{"pool/room", Error, "100.96.0.0/24", "100.96.0.0/30", "ops has addresses for 2 of its 8 tunnels"},
		{"pool/room", Error, "transit: [100.96.0.0/24], ", "", "ops has no transit pool"},
		{"pool/carrier", Warning, "- {key: b, reach: nat, rank: 2}\n    subnets: [{prefix: 10.16.2.0/24", "- {key: b, reach: nat, addresses: [100.70.1.1], rank: 2}\n    subnets: [{prefix: 10.16.2.0/24", "other/b is numbered from carrier space"},
		{"shape/no-hub", Error, "rank: 2}\n    subnets: [{prefix: 10.16.2.0/24", "rank: 2}\n      - {key: c, reach: nat}\n    subnets: [{prefix: 10.16.2.0/24", ""},
		{"shape/hub-address", Warning, "- {key: a, reach: static, addresses: [203.0.113.1]}\n      - {key: b, reach: static, addresses: [203.0.113.2], rank: 2}", "- {key: a, reach: dynamic, hostname: a.example.net}\n      - {key: b, reach: dynamic, hostname: b.example.net}", "no link with a static address"},
		{"shape/apart", Warning, "shape: hub-and-spoke, ", "shape: custom, direct: [[spoke, other]], ", "spoke cannot be joined in ops; hub carries their traffic"},
		{"shape/no-overlay", Note, ", {site: other}", "", "other is in no overlay"},
		{"shape/share-outside", Warning, ", {site: other}", "", "of which the site is no member"},
		{"shape/unshared", Note, "prefix: 10.16.2.0/24, share: [ops]", "prefix: 10.16.2.0/24", "10.16.2.0/24 at other is shared into no overlay"},
		{"link/single", Warning, "      - {key: b, reach: nat, rank: 2}\n    subnets: [{prefix: 10.16.2.0/24", "    subnets: [{prefix: 10.16.2.0/24", "other has a single WAN link"},
		{"link/shared-fate", Warning, "      - {key: a, reach: nat}\n      - {key: b, reach: nat, rank: 2}\n    subnets: [{prefix: 10.16.2.0/24", "      - {key: a, reach: nat, shared_fate: [mast-1]}\n      - {key: b, reach: nat, rank: 2, shared_fate: [mast-2, mast-1]}\n    subnets: [{prefix: 10.16.2.0/24", "all 2 links of other share mast-1"},
		{"gateway/limit", Error, "name: Hub\n    region: north\n    gateway: {switches: true}\n", "name: Hub\n    region: north\n    gateway: {switches: true, max_tunnels: 7}\n", "hub terminates 8 tunnels; its gateway is limited to 7"},
		{"gateway/limit", Warning, "name: Hub\n    region: north\n    gateway: {switches: true}\n", "name: Hub\n    region: north\n    gateway: {switches: true, max_tunnels: 8}\n", "hub terminates 8 tunnels; its gateway is limited to 8"},
		{"gateway/ports", Error, "name: Hub\n    region: north\n    gateway: {switches: true}\n", "name: Hub\n    region: north\n    gateway: {switches: true, listen_port: 65530}\n", "hub has no UDP port left for 2"},
		{"gateway/interface", Error, "name: Spoke\n    region: north\n    gateway: {switches: true}\n", "name: Spoke\n    region: north\n    gateway: {switches: true, lan_device: hub-1}\n", "tunnel interface hub-1 at spoke has the name of a device"},
		{"mtu/small", Warning, "- {key: a, reach: static", "- {key: a, mtu: 1300, reach: static", "has room for 1240 bytes"},
		{"link/equal-rank", Warning, "      - {key: b, reach: nat, rank: 2}\n    subnets: [{prefix: 10.16.2.0/24", "      - {key: b, reach: nat}\n    subnets: [{prefix: 10.16.2.0/24", "other/a and other/b have the same rank 1"},
		{"link/weight", Note, "      - {key: b, reach: nat, rank: 2}\n    subnets: [{prefix: 10.16.2.0/24", "      - {key: b, reach: nat, rank: 2, weight: 3}\n    subnets: [{prefix: 10.16.2.0/24", "other/b has a weight, but shares the load with no other link"},
		{"link/sharing-zones", Error, "      - {key: a, reach: nat}\n      - {key: b, reach: nat, rank: 2}\n    subnets: [{prefix: 10.16.2.0/24", "      - {key: a, reach: nat, weight: 1}\n      - {key: b, reach: nat, weight: 2, zones: [control]}\n    subnets: [{prefix: 10.16.2.0/24", "other/a and other/b share the load, but let different zones through"},
		{"link/name", Warning, "- {key: b, reach: static, addresses: [203.0.113.2], rank: 2}", "- {key: b, reach: dynamic, hostname: gw.hub.local, rank: 2}", "a name that resolves only on a local network"},
		{"gateway/throughput", Warning, "name: Hub\n    region: north\n    gateway: {switches: true}\n", "name: Hub\n    region: north\n    gateway: {switches: true, throughput_mbps: 5}\n", "need 9 Mbit/s; its gateway handles 5"},
		{"gateway/no-switching", Error, "name: Hub\n    region: north\n    gateway: {switches: true}\n", "name: Hub\n    region: north\n", "no automatic failover at the gateway of hub"},
		{"gateway/clock", Warning, "name: Hub\n    region: north\n    gateway: {switches: true}\n", "name: Hub\n    region: north\n    gateway: {switches: true, clock_skew_s: -90}\n", "clock of hub is off by -90 s"},
		{"gateway/not-forwarded", Error, "- {key: a, reach: static, addresses: [203.0.113.1]}", "- {key: a, reach: forwarded, outside: 203.0.113.1, forwards: [51820-51821]}", "3 tunnels of hub/a listen on ports that are not forwarded"},
		{"gateway/not-forwarded", Error, "- {key: a, reach: static, addresses: [203.0.113.1]}", "- {key: a, reach: forwarded, outside: 203.0.113.1, forwards: [51820-51824]}", "1 tunnel of hub/a listens on a port that is not forwarded"},
		{"mtu/mixed", Note, "- {key: b, reach: static, addresses: [203.0.113.2], rank: 2}", "- {key: b, reach: static, addresses: [203.0.113.2], rank: 2, mtu: 1492}", "at 2 pairs of ops a backup tunnel is narrower"},
		{"crypto/transport", Error, "name: Hub\n    region: north\n    gateway: {switches: true}\n", "name: Hub\n    region: north\n    gateway: {switches: true, transports: [ipsec]}\n", "the gateway of hub cannot do wireguard"},
		{"crypto/proposals", Error, "shape: hub-and-spoke, ", "shape: hub-and-spoke, transport: ipsec, crypto: {ike: [ENCR_AES_CBC-256/PRF_HMAC_SHA2_256/AUTH_HMAC_SHA2_256_128/Curve25519]}, ", "other and hub have no IPsec proposal in common"},
		{"policy/dead", Warning, policy, "policy: {default: permit, rules: [{action: deny, from: {zone: guest}}]}}", "rule 1 of ops (deny guest to anywhere) can never match"},
		{"policy/shadowed", Warning, policy, "policy: {default: permit, rules: [{action: deny, to: {prefix: 10.0.0.0/8}}, {action: permit, from: {site: spoke}, to: {site: hub}, protocol: tcp}]}}", "rule 2 of ops (permit at spoke to at hub tcp) is shadowed by rule 1"},
		{"policy/shadowed", Note, policy, "policy: {default: permit, rules: [{action: permit}, {action: permit, from: {site: spoke}}]}}", "is shadowed"},
		{"policy/return", Warning, policy, "policy: {default: deny, rules: [{action: deny, from: {site: hub}, to: {site: spoke}}, {action: permit, from: {site: spoke}, to: {site: hub}, protocol: tcp, ports: [443]}]}}", "rule 2 of ops (permit at spoke to at hub tcp 443) permits sessions whose replies rule 1 denies"},
		{"policy/one-way", Warning, policy, "policy: {default: permit, rules: [{action: deny, from: {site: hub}, to: {site: spoke}}]}}", "also denies replies"},
		{"breakout/nat", Error, policy, "breakout: {hubs: [hub], sites: [spoke]}}", "no internet device of hub"},
		{"breakout/pins", Error, policy, "breakout: {hubs: [hub], sites: [spoke]}}", "the tunnels of spoke over a would be sent into themselves"},
		{"breakout/family", Error, policy, "breakout: {hubs: [hub], sites: [spoke]}}", "hub has no way to the internet for IPv6, which spoke should reach"},
		{"gateway/no-lan-address", Error, "name: Spoke\n    region: north\n    gateway: {switches: true}\n", "name: Spoke\n    region: north\n    gateway: {switches: true, placement: one-armed, lan_address: 'fd00::2'}\n", "the gateway of spoke has no IPv4 address on its LAN, but shares 10.16.1.0/24"},
		{"breakout/no-hub", Error, "hubs: [hub], spokes: [{site: spoke}, {site: other}]}", "hubs: [hub, other], spokes: [{site: spoke, hubs: [hub]}], breakout: {hubs: [other], sites: [spoke]}}", "has no tunnel to other"},
		{"shape/nothing-told", Warning, policy, "hubs_tell: true}", "hubs of ops cannot tell which sites they reach: there is one hub at most"},
		{"limits/zone", Warning, policy, "probe: {limits: {loss_percent: 1, zones: [voice]}}}", "zone voice is held to the limits of ops, and has no subnet there"},
		{"limits/unkept", Warning, policy, "transport: ipsec, probe: {limits: {loss_percent: 1, zones: [control]}}}", "3 gateways of ops do not put tunnels in order by its limits"},
		{"limits/unkept", Warning, "name: Spoke\n    region: north\n    gateway: {switches: true}\n", "name: Spoke\n    region: north\n    gateway: {switches: true, target: restconf}\n", "1 gateway of ops does not put tunnels in order by its limits"},
		{"limits/beyond", Warning, policy, "probe: {limits: {latency_ms: 150, zones: [control]}}}", "no tunnel between spoke and hub keeps to the limits of ops: latency 300 ms of at most 150"},
		{"pending/probe-profile", Warning, policy, "probe: {interval_ms: 500}}", "probe"},
		{"load/link", Warning, "- {key: a, reach: static, addresses: [203.0.113.1]}", "- {key: a, reach: static, addresses: [203.0.113.1], down_mbps: 1}", "a of hub has"},
		{"load/gateway", Warning, "name: Hub\n    region: north\n    gateway: {switches: true}\n", "name: Hub\n    region: north\n    gateway: {switches: true, throughput_mbps: 1}\n", "gateway of hub"},
		{"key/missing", Note, "    other: HIgo9xNzJMWLKASShiTqIybxZ0U3wGLiUeJ1PKf8ykw=\n", "", "1 gateway has no key yet"},
		{"key/reused", Error, "HIgo9xNzJMWLKASShiTqIybxZ0U3wGLiUeJ1PKf8ykw=", "bNXfpnSrj8jyPlpoEjVmkuDDm0GbOKdGfPRvqeRmYnc=", "spoke and other use the same public key"},
	} {
		tried[c.code] = true
		if c.old == policy {
			c.old, c.new = "{site: other}]}", "{site: other}], "+c.new
		}
		if !strings.Contains(base, c.old) {
			t.Fatalf("%s: the base has no %q", c.code, c.old)
		}
		text := strings.Replace(base, c.old, c.new, 1)
		switch c.code { // these need a second change
		case "crypto/proposals":
			text = strings.Replace(text, "name: Other\n    region: north\n    gateway: {switches: true}\n", "name: Other\n    region: north\n    gateway: {switches: true, proposals: [ENCR_AES_GCM_16-256]}\n", 1)
		case "breakout/pins": // the gateway leaves by its LAN's router
			text = strings.NewReplacer("name: Spoke\n    region: north\n    gateway: {switches: true}", "name: Spoke\n    region: north\n    gateway: {placement: one-armed, lan_address: 10.16.1.2, upstream: 10.16.1.1, lan_device: lan0, switches: true}",
				"- {key: a, reach: nat}\n      - {key: b, reach: nat, rank: 2}\n    subnets: [{prefix: 10.16.1.0/24", "- {key: a, reach: nat, device: lan0}\n    subnets: [{prefix: 10.16.1.0/24").Replace(text)
		case "breakout/family":
			text = strings.NewReplacer("addresses: [203.0.113.1]", "addresses: [203.0.113.1], device: wan0", "[{prefix: 10.16.1.0/24, share: [ops]}]", "[{prefix: 10.16.1.0/24, share: [ops]}, {prefix: 'fd00:1::/64', share: [ops]}]").Replace(text)
		case "limits/unkept":
			text = strings.Replace(text, "{site: other}]}", "{site: other}], probe: {limits: {loss_percent: 1, zones: [control]}}}", 1)
		case "limits/beyond":
			text = strings.ReplaceAll(text, "reach: nat", "reach: nat, latency_ms: 300")
		case "gateway/throughput", "load/link", "load/gateway":
			text = strings.NewReplacer("name: Spoke\n", "name: Spoke\n    demand_mbps: 4\n", "name: Other\n", "name: Other\n    demand_mbps: 5\n").Replace(text)
		}
		if c.code == "shape/no-hub" {
			text = strings.ReplaceAll(strings.ReplaceAll(base, "reach: static", "reach: nat"), "spokes: [{site: spoke}, ", "spokes: [")
			c.title = "other reaches no hub of ops"
		}
		found := run(t, text)
		for i := range found {
			fmt.Fprintln(&said, inWords(&found[i]))
		}
		fmt.Fprintln(&said)
		i := slices.IndexFunc(found, func(f Finding) bool { return f.Code == c.code })
		if i < 0 {
			t.Errorf("%s: not found among %v", c.code, codes(found))
			continue
		}
		f := found[i]
		if f.Severity != c.severity || !strings.Contains(f.Title, c.title) {
			t.Errorf("%s: %s %q, want %s %q", c.code, f.Severity, f.Title, c.severity, c.title)
		}
		if f.Why == "" || f.Fix == "" || len(f.Subjects) == 0 || f.ID == "" {
			t.Errorf("%s: incomplete: %+v", c.code, f)
		}
	}
	for _, check := range Checks {
		for _, code := range check.Codes {
			if !tried[code.Name] {
				t.Errorf("%s has no case", code.Name)
			}
		}
	}
	golden.Text(t, "testdata/findings.txt", []byte(said.String()))
}

// inWords writes all of a finding.
func inWords(f *Finding) string {
	out := fmt.Sprintf("%s %s: %s\n\tid %s\n\twhy %s\n\tfix %s\n\tof %v", f.Severity, f.Code, f.Title, f.ID, f.Why, f.Fix, f.Subjects)
	for _, e := range f.Evidence {
		out += "\n\tseen " + e
	}
	for _, r := range f.Repairs {
		out += fmt.Sprintf("\n\trepair %+v", r)
	}
	return out
}

// What is found in some small estates of any features, in its order.
func TestFindingsOfMixedEstates(t *testing.T) {
	var said strings.Builder
	for seed := range uint64(16) {
		fmt.Fprintf(&said, "seed %d\n", seed)
		for _, f := range findings(sample.Mixed(seed)) {
			fmt.Fprintln(&said, inWords(&f))
		}
	}
	golden.Text(t, "testdata/mixed.txt", []byte(said.String()))
}

// What is found is listed, with the severity it can have at worst and by a check
// that lists it; the list is in docs, too.
func TestTheListIsWhatIsFound(t *testing.T) {
	for seed := range uint64(150) {
		e := sample.Mixed(seed)
		p := tunnel.Derive(e)
		for _, f := range Run(p, route.Build(p)) {
			if code, listed := byName()[f.Code]; !listed || f.Severity.order() < code.Severity.order() || f.Stage() == "" {
				t.Errorf("seed %d: %s, a %s, is listed as %+v", seed, f.Code, f.Severity, code)
			}
		}
	}
	var text strings.Builder
	text.WriteString("# What is checked\n\nWritten from the list in `core/check`; a severity is the worst that a finding can have.\n\n| code | severity | fixed in | |\n|---|---|---|---|\n")
	for _, check := range Checks {
		for _, code := range check.Codes {
			fmt.Fprintf(&text, "| `%s` | %s | %s | %s |\n", code.Name, code.Severity, code.Stage, code.Doc)
		}
	}
	golden.Text(t, "../../docs/findings.md", []byte(text.String()))
}

// policy marks the cases that add something to the overlay.
const policy = "+"

func TestPinsMakeAsymmetry(t *testing.T) {
	text, err := os.ReadFile("../../examples/two-hubs.yaml")
	if err != nil {
		t.Fatal(err)
	}
	found := run(t, strings.Replace(string(text), "hubs: [first, second]", "hubs: [first, second], pins: [{site: tarn, via: second}]", 1))
	i := slices.IndexFunc(found, func(f Finding) bool { return f.Code == "path/asymmetric" })
	if i < 0 || len(found[i].Evidence) == 0 || !strings.Contains(found[i].Evidence[0], "tarn → second → first, and back first → tarn") {
		t.Errorf("%+v", found)
	}
}

func codes(found []Finding) []string {
	var out []string
	for _, f := range found {
		out = append(out, f.Code)
	}
	return out
}

func TestErrorsComeFirst(t *testing.T) {
	found := run(t, strings.Replace(strings.Replace(base, "10.16.2.0/24", "10.16.1.0/24", 1), "10.16.0.0/24, share: [ops]", "10.16.0.0/24", 1))
	if !slices.IsSortedFunc(found, func(a, b Finding) int { return a.Severity.order() - b.Severity.order() }) {
		t.Errorf("%v", codes(found))
	}
}

// Every repair that a finding offers must make that finding go away and leave
// a valid estate without a new error.
func TestRepairsRepair(t *testing.T) {
	for name, text := range map[string]string{
		"collision": strings.Replace(base, "10.16.2.0/24", "10.16.1.0/24", 1),
		"inside":    strings.Replace(base, "10.16.2.0/24", "10.16.1.128/25", 1),
		"same site": strings.Replace(base, "{prefix: 10.16.2.0/24", "{prefix: 10.16.2.128/25}, {prefix: 10.16.2.0/24", 1),
		"pool":      strings.Replace(base, "10.16.2.0/24", "100.96.0.128/25", 1),
		"special":   strings.Replace(base, "10.16.2.0/24", "169.254.2.0/24", 1),
	} {
		e, _, err := estate.Read(strings.NewReader(text))
		if err != nil {
			t.Fatal(err)
		}
		before := findings(e)
		repairs := 0
		for _, f := range before {
			for _, r := range f.Repairs {
				repairs++
				repaired, err := planning.Apply(e, r)
				if err != nil {
					t.Errorf("%s: %s: %v", name, r.Label, err)
					continue
				}
				if problems := estate.Validate(repaired); len(problems) > 0 {
					t.Errorf("%s: %s makes an invalid estate: %v", name, r.Label, problems)
				}
				after := findings(repaired)
				if slices.ContainsFunc(after, func(g Finding) bool { return g.ID == f.ID }) {
					t.Errorf("%s: %s does not fix %q", name, r.Label, f.Title)
				}
				if Count(after)[Error] >= Count(before)[Error] && f.Severity == Error {
					t.Errorf("%s: %s leaves %d errors", name, r.Label, Count(after)[Error])
				}
			}
		}
		if repairs == 0 {
			t.Errorf("%s: no repair offered", name)
		}
		if _, err := planning.Apply(e, planning.Repair{Action: planning.Renumber, Site: "gone"}); err == nil {
			t.Error("a repair at a site that is not there was carried out")
		}
	}
}

func ExampleRun() {
	e, _, err := estate.Read(strings.NewReader(strings.Replace(base, "10.16.2.0/24", "10.16.1.0/24", 1)))
	if err != nil {
		panic(err)
	}
	p := tunnel.Derive(e)
	for _, f := range Run(p, route.Build(p)) {
		fmt.Println(f.Severity, f.Title)
		fmt.Println(f.Repairs[0].Label)
	}
	// Output:
	// error spoke and other both use 10.16.1.0/24 in ops
	// Renumber 10.16.1.0/24 at spoke to 10.16.2.0/24
}

// What Outages calls too full while nothing fails is a finding, and nothing else is.
func TestLoadIsWhatOutagesSays(t *testing.T) {
	for name, change := range map[string][]string{
		"two-hubs":     nil,
		"brindlewater": nil,
	} {
		e, err := examples.Estate(name, change...)
		if err != nil {
			t.Fatal(err)
		}
		for i := range e.Sites {
			e.Sites[i].DemandMbps *= 3
			e.Sites[i].Gateway.ThroughputMbps = min(e.Sites[i].Gateway.ThroughputMbps, 60)
		}
		p := tunnel.Derive(e)
		m := route.Build(p)
		var got []string
		for _, f := range Run(p, m) {
			if strings.HasPrefix(f.Code, "load/") {
				got = append(got, fmt.Sprintf("%s %s", f.Code, f.Subjects[0]))
			}
		}
		var want []string
		for _, c := range outage.New(m).Crowded() {
			s := Subject{Site: p.Site(c.Site).Key}
			code := "load/gateway"
			if c.Link >= 0 {
				s.Link, code = p.Site(c.Site).Links[c.Link].Key, "load/link"
			}
			want = append(want, fmt.Sprintf("%s %s", code, s))
		}
		if slices.Sort(got); !slices.Equal(got, slices.Sorted(slices.Values(want))) || name == "brindlewater" && len(got) == 0 {
			t.Errorf("%s: findings %q, Outages %q", name, got, want)
		}
	}
}

// A rule covers another when it is about all the other is about: the protocol,
// each port, and both sides.
func TestRulesCover(t *testing.T) {
	rule := func(protocol string, ports ...string) *route.Clause {
		return &route.Clause{Spec: estate.Rule{Protocol: protocol, Ports: ports}, From: route.Party{Any: true}, To: route.Party{Any: true}}
	}
	in := &Input{}
	for _, c := range []struct {
		outer, inner *route.Clause
		covers       bool
	}{
		{rule("any"), rule("tcp", "80"), true}, {rule(""), rule("udp"), true}, {rule("tcp"), rule("tcp", "80"), true},
		{rule("tcp"), rule("udp"), false}, {rule("tcp"), rule("any"), false}, {rule("tcp"), rule(""), false},
		{rule("tcp", "80"), rule("tcp"), false}, {rule("tcp", "80"), rule("tcp", "80"), true}, {rule("tcp", "80"), rule("tcp", "79-80"), false}, {rule("tcp", "80"), rule("tcp", "80-81"), false},
		{rule("tcp", "80-90"), rule("tcp", "80-90"), true}, {rule("tcp", "80-90"), rule("tcp", "82", "91"), false}, {rule("tcp", "1-79", "80-90"), rule("tcp", "5", "85-90"), true},
	} {
		if got := in.covers(c.outer, c.inner); got != c.covers {
			t.Errorf("%+v covers %+v: %v", c.outer.Spec, c.inner.Spec, got)
		}
	}
}
