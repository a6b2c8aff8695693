package restconf

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
	"wideknot/golden"
)

func example(t *testing.T, name string, change ...string) *route.Map {
	t.Helper()
	e, err := examples.Estate(name, change...)
	if err != nil {
		t.Fatal(err)
	}
	return route.Build(tunnel.Derive(e))
}

func TestGolden(t *testing.T) {
	for name, m := range map[string]*route.Map{
		"breakout": example(t, "breakout"),
		"ipsec":    example(t, "three-sites", "key: ops", "key: ops\n    transport: ipsec"),
	} {
		for site := range m.Plan.Estate.Sites {
			files, err := Site(m, site)
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range files {
				golden.Text(t, filepath.Join("testdata", name, f.Path), f.Text)
			}
		}
	}
}

// An entry as the standard has it, read back for judging.
type entry struct {
	Name    string
	Matches struct {
		IPv4 *struct {
			Source      string `json:"source-ipv4-network"`
			Destination string `json:"destination-ipv4-network"`
			Protocol    int
		}
		TCP, UDP *ports
		ICMP     *struct{ Type, Code int } // what is followed here are requests and answers, no errors
	}
	Actions struct{ Forwarding string }
}

type ports struct {
	Source      *portMatch `json:"source-port"`
	Destination *portMatch `json:"destination-port"`
}

type portMatch struct {
	Operator string
	Port     int
	Lower    int `json:"lower-port"`
	Upper    int `json:"upper-port"`
}

func (p *portMatch) matches(port int) bool {
	return p == nil || p.Operator == "eq" && p.Port == port || p.Operator == "" && p.Lower <= port && port <= p.Upper
}

// judge asks the entries in order, as a gateway would.
func judge(entries []entry, from, to netip.Addr, protocol, source, target int) bool {
	i := slices.IndexFunc(entries, func(e entry) bool {
		if e.Matches.ICMP != nil {
			return false
		}
		if m := e.Matches.IPv4; m != nil {
			if m.Source != "" && !netip.MustParsePrefix(m.Source).Contains(from) || m.Destination != "" && !netip.MustParsePrefix(m.Destination).Contains(to) ||
				m.Protocol != 0 && m.Protocol != protocol {
				return false
			}
		}
		for number, p := range map[int]*ports{6: e.Matches.TCP, 17: e.Matches.UDP} {
			if p != nil && (protocol != number || !p.Source.matches(source) || !p.Destination.matches(target)) {
				return false
			}
		}
		return true
	})
	return i >= 0 && strings.HasSuffix(entries[i].Actions.Forwarding, "accept")
}

// The access control lists at both ends must let through just what following
// the packet says the policy does, the answer included.
func TestListsSayWhatThePolicySays(t *testing.T) {
	rules := "rules:\n        - {action: permit, from: {zone: field}, to: {site: tarn}, protocol: tcp, ports: [443]}\n        - {action: deny, from: {site: weir}, protocol: udp}"
	r := rand.New(rand.NewPCG(61, 62))
	verdicts := map[route.Ending]int{}
	ranges := strings.Replace(rules, "[443]", "[440-443, 500]", 1)
	for _, change := range [][]string{nil, {"rules:", ranges}, {"default: permit", "default: deny"}, {"rules:", rules}, {"rules:", rules, "default: permit", "default: deny"}} {
		m := example(t, "breakout", append(change, "share: [ops, works]", "share: [ops]")...)
		lists := make([][]entry, len(m.Plan.Estate.Sites))
		for site := range lists {
			files, err := Site(m, site)
			if err != nil {
				t.Fatal(err)
			}
			var document struct {
				Acls struct {
					ACL []struct{ Aces struct{ Ace []entry } }
				} `json:"ietf-access-control-list:acls"`
			}
			if err := json.Unmarshal(files[1].Text, &document); err != nil {
				t.Fatal(err)
			}
			lists[site] = document.Acls.ACL[0].Aces.Ace
		}
		host := func(site int) netip.Addr { return m.Plan.Site(site).Subnets[0].Prefix.Addr().Next() }
		for range 400 {
			a, b := r.IntN(len(lists)), r.IntN(len(lists))
			if a == b {
				continue
			}
			name := []string{"tcp", "udp", "icmp"}[r.IntN(3)]
			protocol, port := protocols[name], []int{443, 80}[r.IntN(2)]
			if name == "icmp" {
				port = 0
			}
			got := m.Follow(route.Packet{From: host(a), To: host(b), Protocol: name, Port: port})
			verdicts[got.Forward.End]++
			// Without ports, lists cannot tell a start from an answer.
			other := m.Follow(route.Packet{From: host(b), To: host(a), Protocol: name, Port: 9})
			answers := other.Return != nil && other.Return.End == route.Delivered
			for _, site := range []int{a, b} {
				if judge(lists[site], host(a), host(b), protocol, 50000, port) != (got.Forward.End == route.Delivered || answers) {
					t.Fatalf("%v: %s to %s, %s %d: followed: %s; the list of %s differs", change, m.Plan.Site(a).Key, m.Plan.Site(b).Key, name, port, got.Forward.End, m.Plan.Site(site).Key)
				}
				if got.Return != nil && !answers && judge(lists[site], host(b), host(a), protocol, port, 50000) != (got.Return.End == route.Delivered) {
					t.Fatalf("%v: the answer of %s to %s, %s %d: followed: %s; the list of %s differs", change, m.Plan.Site(b).Key, m.Plan.Site(a).Key, name, port, got.Return.End, m.Plan.Site(site).Key)
				}
			}
		}
	}
	if verdicts[route.Delivered] == 0 || verdicts[route.Denied] == 0 {
		t.Errorf("the cases decide nothing: %v", verdicts)
	}
}

// A probe asks the far end of the tunnel, or the far gateway's LAN address.
func TestProbesAskWhatTheProfileNames(t *testing.T) {
	for target, want := range map[estate.ProbeTarget]string{estate.FarEnd: "100.96.0.", estate.FarLAN: "10.40.9.1"} {
		m := example(t, "three-sites")
		hub := m.Plan.SiteIndex("millgate")
		m.Plan.Estate.Sites[hub].Gateway.LANAddress = netip.MustParseAddr("10.40.9.1")
		m.Plan.Estate.Overlays[0].Probe = &estate.Probe{Target: target}
		asked := 0
		for _, one := range interfaces(gateway.Of(m, m.Plan.SiteIndex("withybrook"))) {
			if of, isTunnel := one["wideknot-tunnel:tunnel"].(object); isTunnel {
				asked++
				if got := fmt.Sprint(of["probe"].(object)["address"]); !strings.HasPrefix(got, want) {
					t.Errorf("%s asks %s", target, got)
				}
			}
		}
		if asked == 0 {
			t.Errorf("%s: no tunnel", target)
		}
	}
}
