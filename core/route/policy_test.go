package route

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// Sides tell subnets apart as the rules do: what passes between the sides of two
// subnets is what some packet between their hosts finds permitted, there and back.
func TestSidesOpenWhatRulesPermit(t *testing.T) {
	open, shut := 0, 0
	for seed := range uint64(150) {
		e := sample.Mixed(seed)
		random := rand.New(rand.NewPCG(seed, 3))
		m := Build(tunnel.Derive(e))
		for i := range m.graphs {
			p := m.Policy(i)
			if p == nil {
				continue
			}
			sides, ok := p.Sides(m, i)
			if !ok {
				t.Fatalf("seed %d: too many to tell apart", seed)
			}
			list := m.shared[i].list
			at := func(n int) place {
				h := list[n]
				return place{site: h.site, subnet: h.subnet, seen: h.prefix.Addr()}
			}
			passes := func(a, b place) bool {
				for _, protocol := range protocols {
					ports := []int{0}
					if protocol != "icmp" {
						ports = append(ports, 1, 65535)
						for _, r := range p.Rules {
							for _, text := range r.Spec.Ports {
								low, high := PortRange(text)
								ports = append(ports, max(1, low-1), low, high, min(65535, high+1))
							}
						}
					}
					for _, port := range ports {
						there, _ := p.verdict(a, b, protocol, port, false)
						back, _ := p.verdict(b, a, protocol, port, true)
						if there == estate.Permit && back == estate.Permit {
							return true
						}
					}
				}
				return false
			}
			for range 30 {
				x, y := random.IntN(len(list)), random.IntN(len(list))
				a, b := at(x), at(y)
				got := p.Opens(sides[Member{a.site, a.subnet}], sides[Member{b.site, b.subnet}])
				want := passes(a, b) || passes(b, a)
				if got != want {
					t.Errorf("seed %d: %s and %s: %v by sides, %v by the rules", seed, list[x].prefix, list[y].prefix, got, want)
				}
				if want {
					open++
				} else {
					shut++
				}
			}
		}
	}
	if open < 100 || shut < 20 {
		t.Errorf("only %d pairs were open and %d shut", open, shut)
	}
}

// A rule speaks of the ports it lists, both ends included, and of no port that
// nobody names.
func TestRulesSpeakOfTheirPorts(t *testing.T) {
	r := Clause{Spec: estate.Rule{Protocol: "tcp", Ports: []string{"80", "8000-8080"}}}
	for port, want := range map[int]bool{0: false, 79: false, 80: true, 81: false, 7999: false, 8000: true, 8080: true, 8081: false} {
		if r.speaks("tcp", port) != want || r.speaks("udp", port) {
			t.Errorf("port %d: %v", port, !want)
		}
	}
	if all := (&Clause{Spec: estate.Rule{Protocol: "any"}}); !all.speaks("icmp", 0) || !all.speaks("udp", 5) {
		t.Error("a rule of any protocol leaves some out")
	}
	if !slices.Contains(protocols, "icmp") {
		t.Error(protocols)
	}
}

// Ports go from 0 to 65535 and belong to tcp and udp; 0 is none.
func TestPacketsAreChecked(t *testing.T) {
	from, to := netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("10.0.1.1")
	for _, c := range []struct {
		protocol string
		port     int
		ok       bool
	}{
		{"", 0, true}, {"icmp", 0, true}, {"tcp", 0, true}, {"tcp", 1, true}, {"udp", 65535, true},
		{"udp", 65536, false}, {"tcp", -1, false}, {"icmp", 1, false}, {"", 1, false}, {"sctp", 0, false},
	} {
		if err := (Packet{From: from, To: to, Protocol: c.protocol, Port: c.port}).Check(); (err == nil) != c.ok {
			t.Errorf("%s %d: %v", c.protocol, c.port, err)
		}
	}
	if (Packet{From: netip.MustParseAddr("fe80::1%eth0"), To: to}).Check() == nil {
		t.Error("an address with a zone is taken")
	}
}

// Which parties are within which, and which meet: a prefix of a rule that names nothing else holds
// whatever has an address there.
func TestPartiesWithinOthers(t *testing.T) {
	prefix := netip.MustParsePrefix
	e := &estate.Estate{Sites: []estate.Site{
		{Key: "tarn", Subnets: []estate.Subnet{{Prefix: prefix("10.1.1.0/24")}, {Prefix: prefix("10.2.1.0/24"), Map: prefix("10.1.2.0/24")}}},
		{Key: "weir", Subnets: []estate.Subnet{{Prefix: prefix("10.9.0.0/16")}}},
	}}
	m := Build(tunnel.Derive(e))
	tarn, mapped, weir := Member{0, 0}, Member{0, 1}, Member{1, 0}
	parties := map[string]Party{
		"any": {Any: true}, "nothing": {}, "10.1/16": {Literal: prefix("10.1.0.0/16")}, "10.1.1/25": {Literal: prefix("10.1.1.0/25")}, "10.9.4/24": {Literal: prefix("10.9.4.0/24")},
		"tarn": {Members: []Member{tarn, mapped}}, "mapped": {Members: []Member{mapped}}, "all": {Members: []Member{tarn, mapped, weir}},
	}
	within := map[string]string{ // what each holds whole, but itself, nothing, and what any does
		"10.1/16": "10.1.1/25 mapped tarn", "tarn": "mapped", "all": "mapped tarn", "any": "10.1.1/25 10.1/16 10.9.4/24 all mapped tarn",
	}
	meet := map[string]string{ // but with itself and any
		"10.1/16": "10.1.1/25 all mapped tarn", "10.1.1/25": "10.1/16 all tarn", "10.9.4/24": "all", "tarn": "10.1.1/25 10.1/16 all mapped",
		"mapped": "10.1/16 all tarn", "all": "10.1.1/25 10.1/16 10.9.4/24 mapped tarn",
	}
	for a, inner := range parties {
		for b, outer := range parties {
			is := slices.Contains(strings.Fields(within[b]), a)
			if want := a == b || a == "nothing" || is; m.Within(&inner, &outer) != want {
				t.Errorf("%s within %s: %v", a, b, !want)
			}
			is = slices.Contains(strings.Fields(meet[a]), b)
			if want := a != "nothing" && b != "nothing" && (a == b || a == "any" || b == "any" || is); m.Meet(&inner, &outer) != want {
				t.Errorf("%s meets %s: %v", a, b, !want)
			}
		}
	}
}
