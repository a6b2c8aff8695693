package gateway

import (
	"fmt"
	"net/netip"
	"reflect"
	"strings"
	"testing"

	"wideknot/core/route"
)

// full is a configuration in which nothing is missing.
func full() *Config {
	p := func(texts ...string) (out []netip.Prefix) {
		for _, s := range texts {
			out = append(out, netip.MustParsePrefix(s))
		}
		return out
	}
	a := netip.MustParseAddr
	return &Config{
		Site:  "tarn",
		Links: []Link{{Key: "fibre", Device: "wan0", NextHops: []netip.Addr{a("203.0.113.1")}, Mark: 8400, Up: 1, Down: 2}},
		Tunnels: []Tunnel{
			{
				Interface: "weir-1", Overlay: "ops", Rank: 1, Link: "fibre", Peer: "weir", PeerLink: "fibre", NextHop: Blackhole + 1, MTU: 1420,
				Addresses: p("100.96.0.1/31"), Limited: true, Zones: []string{"control"},
				Probe:     &Probe{Target: "far-end", Address: a("100.96.0.0"), Interval: 1000, Timeout: 800, Misses: 3, Successes: 5, Limits: Limits{Latency: 150_000, Jitter: 20_000, Loss: 10_000, Window: 30_000}},
				WireGuard: &WireGuard{Port: 51820, Mark: 8400, PublicKey: "k", Preshared: true, Allowed: p("10.2.0.0/16"), List: 1, Endpoint: "198.51.100.1:51820", Keepalive: 25},
			},
			{
				Interface: "weir-2", Overlay: "ops", Rank: 2, Link: "fibre", Peer: "weir", PeerLink: "cell", NextHop: Blackhole + 2, MTU: 1400,
				IPsec: &IPsec{
					LocalID: "a", RemoteID: "b", Local: a("203.0.113.2"), Remote: a("198.51.100.2"), RemoteName: "n", Initiates: true, Encapsulate: true,
					IKE: []string{"x"}, ESP: []string{"y"}, IKELifetime: 1, ChildLifetime: 2, LocalTS: p("0.0.0.0/0"), RemoteTS: p("0.0.0.0/0"), InterfaceID: 2, Mark: 8400,
				},
			},
		},
		Lists:  []List{{ID: 1, Prefixes: p("10.4.0.0/16", "10.5.0.0/16")}},
		Ways:   []Way{{ID: FirstWay + 1, Groups: []Group{{Place: 1, Members: []Member{{"weir-1", 2}, {"weir-2", 1}}}}}},
		Routes: []Route{{Prefix: p("10.2.0.0/16")[0], Way: FirstWay + 1, Telling: 1, To: 3}, {Table: 8400, Prefix: p("0.0.0.0/0")[0], Via: a("203.0.113.1"), Device: "wan0"}},
		Tellings: []Telling{{
			Overlay: "ops", Version: "0123456789abcdef", Sites: 3, Me: 1, Hubs: []int{2}, Peers: []Numbered{{2, "weir"}},
			Orders: []Order{{ID: 1, Paths: []Path{{ID: 1}, {ID: 2, Via: []int{2}}}}}, To: []Destination{{Number: 3, Order: 1}},
		}},
		Discards: []Discard{{Table: 8600, Prefix: p("10.2.0.0/16")[0]}},
		Rules:    []Rule{{Priority: 8600, Family: IPv4, Mark: PlaceUnit, Mask: PlaceMask, Arriving: []string{"wan0"}, From: p("10.1.0.0/16"), Table: 8600}},
		Forward6: true,
		Held:     Held{Here: p("10.1.0.0/16"), Overlays: []HeldIn{{Overlay: "ops", Mark: LimitUnit, Zones: []string{"voice"}, Own: p("10.1.9.0/24"), Prefixes: p("10.3.9.0/24")}}},
		Filter: Filter{
			Arrivals: []Arrival{{Port: 51820, From: a("198.51.100.1")}}, Kept: []Kept{{Interface: "weir-1", Prefixes: p("10.1.1.0/24")}}, Own: p("10.1.0.0/16"),
			Overlays: []Passing{{
				Overlay: "ops", Interfaces: []string{"weir-1"}, Relays: true, Back: []string{"weir-1"}, BackFrom: p("10.1.0.0/16"), Policed: true, Deny: true,
				Policy: []Entry{{Index: 1, Rule: 1, Permit: true, Family: IPv4, Leaving: true, From: p("10.1.0.0/16"), To: p("10.2.0.0/16"), Protocol: "tcp", Ports: []string{"80"}, Reply: true}},
			}},
		},
		Places:    []Place{{Mark: PlaceUnit, Interfaces: []string{"weir-1"}}},
		Maps:      []Map{{Inside: p("10.9.0.0/24")[0], Outside: p("10.8.0.0/24")[0]}},
		Breakouts: []Breakout{{Overlay: "ops", Family: IPv4, Devices: []string{"wan0"}, From: p("10.3.0.0/16"), Except: p("10.2.0.0/16")}},
		Shaping:   []Class{{Zone: "bulk", Here: p("10.1.2.0/24"), Beyond: p("10.2.2.0/24")}},
		Neighbours: Neighbours{
			Upstream: []netip.Addr{a("10.1.0.1")}, Routes: []LANRoute{{Index: 1, From: p("10.1.0.0/16")[0], Prefix: p("10.2.0.0/16")[0], Via: a("10.1.0.9")}},
			Without: []Unreached{{IPv6, 3}}, Forwards: []PortForward{{Link: "fibre", Outside: a("203.0.113.9"), Inside: a("192.168.0.2"), Ports: []int{51820}}}, Unknown: []string{"cell"},
		},
	}
}

// What cannot be applied is refused by name: one spoiled value at a time.
func TestCheckRefuses(t *testing.T) {
	if err := full().Check(); err != nil {
		t.Fatal(err)
	}
	for says, spoil := range map[string]func(c *Config){
		"told is \"x\"":              func(c *Config) { c.Tellings[0].Version = "x" },
		"site's number is 4":         func(c *Config) { c.Routes[0].To = 4 },
		"of which nobody tells":      func(c *Config) { c.Routes[0].Telling = 0 },
		"which is no hub":            func(c *Config) { c.Tellings[0].Orders[0].Paths[1].Via[0] = 3 },
		"hubs on a path":             func(c *Config) { c.Tellings[0].Orders[0].Paths[1].Via = []int{2, 2, 2} },
		"an order is 2":              func(c *Config) { c.Tellings[0].To[0].Order = 2 },
		"place of an order":          func(c *Config) { c.Tellings[0].Orders = append(c.Tellings[0].Orders, Order{ID: 3}, Order{ID: 2}) },
		"order of their numbers":     func(c *Config) { c.Tellings[0].To = append(c.Tellings[0].To, Destination{2, 1}) },
		"the site":                   func(c *Config) { c.Site = "a b" },
		"no plain word":              func(c *Config) { c.Tunnels[0].Overlay = "x;y" },
		"can be called":              func(c *Config) { c.Tunnels[0].Interface = "sixteen-bytes-16" },
		"weir-1 is there twice":      func(c *Config) { c.Tunnels[1].Interface = "weir-1" },
		"next hop 84000001":          func(c *Config) { c.Tunnels[1].NextHop-- },
		"by link \"dsl\"":            func(c *Config) { c.Tunnels[1].Link = "dsl" },
		"an MTU is 67":               func(c *Config) { c.Tunnels[0].MTU = 67 },
		"an MTU is 65536":            func(c *Config) { c.Tunnels[0].MTU = 65536 },
		"of WireGuard or of IPsec":   func(c *Config) { c.Tunnels[0].IPsec = c.Tunnels[1].IPsec },
		"a port is 65536":            func(c *Config) { c.Tunnels[0].WireGuard.Port = 65536 },
		"a list is 2":                func(c *Config) { c.Tunnels[0].WireGuard.List = 2 },
		"an allowed prefix":          func(c *Config) { c.Tunnels[0].WireGuard.Allowed[0] = netip.MustParsePrefix("10.2.0.1/16") },
		"no plain address":           func(c *Config) { c.Routes[1].Via = netip.MustParseAddr("fe80::1%lo") },
		"which is not there":         func(c *Config) { c.Routes[0].Way++ },
		"by a way or by":             func(c *Config) { c.Routes[0].Via = c.Routes[1].Via },
		"device and no next hop":     func(c *Config) { c.Routes[0].Device = "wan0" },
		"is no tunnel here":          func(c *Config) { c.Ways[0].Groups[0].Members[0].Interface = "tarn-9" },
		"a weight is 0":              func(c *Config) { c.Ways[0].Groups[0].Members[0].Weight = 0 },
		"a weight is 256":            func(c *Config) { c.Ways[0].Groups[0].Members[0].Weight = 256 },
		"is empty or out":            func(c *Config) { c.Ways[0].Groups[0].Members = nil },
		"has no group":               func(c *Config) { c.Ways[0].Groups = nil },
		"a way's number":             func(c *Config) { c.Ways[0].ID = FirstWay - 1; c.Routes[0].Way = FirstWay - 1 },
		"outside its mask":           func(c *Config) { c.Rules[0].Mask = 1 },
		"asks no table, or two":      func(c *Config) { c.Rules[0].NoLonger = true },
		"no address family":          func(c *Config) { c.Rules[0].Family = "ip" },
		"no port or range":           func(c *Config) { c.Filter.Overlays[0].Policy[0].Ports[0] = "80-79" },
		"protocol is":                func(c *Config) { c.Filter.Overlays[0].Policy[0].Protocol = "gre" },
		"ports without tcp":          func(c *Config) { c.Filter.Overlays[0].Policy[0].Protocol = "icmp" },
		"has no interface":           func(c *Config) { c.Places[0].Interfaces = nil },
		"the mark of a place":        func(c *Config) { c.Places[0].Mark = 1 },
		"not equally large":          func(c *Config) { c.Maps[0].Outside = netip.MustParsePrefix("10.8.0.0/25") },
		"a probe's target":           func(c *Config) { c.Tunnels[0].Probe.Target = "moon" },
		"open to no address":         func(c *Config) { c.Filter.Arrivals[0].From = netip.Addr{} },
		"256":                        func(c *Config) { c.Links = make([]Link, 257) },
		"10.2.0.0/16 is there twice": func(c *Config) { c.Routes[1] = c.Routes[0] },
	} {
		c := full()
		spoil(c)
		if err := c.Check(); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", says, err)
		}
	}
	for _, text := range []string{"", "{}", "null", `{"wideknot-gateway:gateway": null}`, `{"wideknot-gateway:gateway": {"site": "a", "sight": 1}}`, `{"wideknot-gateway:gateway": {"site": "a"}} {}`,
		`{"wideknot-gateway:gateway": {"site": "a"}, "wideknot-gateway:state": {"site": "a"}}`, strings.Repeat(" ", MaxDocument+1)} {
		if c, err := Parse([]byte(text)); err == nil {
			t.Errorf("%.80q is taken: %+v", text, c)
		}
	}
}

// Nothing that could not be applied passes in any field: no prefix with host bits, no
// address with a zone, no text that is no word, no number below the range.
func TestCheckSeesEveryField(t *testing.T) {
	c := full()
	tried := 0
	var each func(v reflect.Value, path string)
	refused := func(path string, v reflect.Value, spoil func()) {
		t.Helper()
		was := reflect.New(v.Type()).Elem()
		was.Set(v)
		spoil()
		if err := c.Check(); err == nil {
			t.Errorf("%s: %v is taken", path, v.Interface())
		}
		v.Set(was)
		tried++
	}
	each = func(v reflect.Value, path string) {
		switch at := v.Addr().Interface().(type) {
		case *netip.Addr:
			refused(path, v, func() { *at = netip.MustParseAddr("fe80::1%x") })
			return
		case *netip.Prefix:
			if !strings.HasSuffix(path, ".Addresses[0]") { // which has host bits
				refused(path, v, func() { *at = netip.MustParsePrefix("10.255.0.1/8") })
			}
			return
		}
		switch v.Kind() {
		case reflect.Struct:
			for i := range v.NumField() {
				each(v.Field(i), path+"."+v.Type().Field(i).Name)
			}
		case reflect.Pointer:
			if !v.IsNil() {
				each(v.Elem(), path)
			}
		case reflect.Slice:
			for i := range v.Len() {
				each(v.Index(i), fmt.Sprintf("%s[%d]", path, i))
			}
		case reflect.String:
			refused(path, v, func() { v.SetString("a b") })
		case reflect.Int:
			if path != ".Neighbours.Without[0].Count" && !strings.HasSuffix(path, ".Index") {
				refused(path, v, func() { v.SetInt(-1) })
			}
		}
	}
	each(reflect.ValueOf(c).Elem(), "")
	if tried < 80 {
		t.Errorf("only %d fields were tried", tried)
	}
	for name, spoil := range map[string]func(c *Config){
		"no misses":    func(c *Config) { c.Tunnels[0].Probe.Misses = 0 },
		"no successes": func(c *Config) { c.Tunnels[0].Probe.Successes = 0 },
		"no interval":  func(c *Config) { c.Tunnels[0].Probe.Interval = 0 },
		"no timeout":   func(c *Config) { c.Tunnels[0].Probe.Timeout = 0 },
		"no lifetime":  func(c *Config) { c.Tunnels[1].IPsec.IKELifetime = 0 },
		"no rank":      func(c *Config) { c.Tunnels[0].Rank = 0 },
	} {
		c := full()
		spoil(c)
		if c.Check() == nil {
			t.Error(name)
		}
	}
	for name, least := range map[string]func(c *Config){
		"one of each": func(c *Config) {
			*c.Tunnels[0].Probe = Probe{Target: "far-lan", Interval: 1, Timeout: 1, Misses: 1, Successes: 1}
		},
		"no peer yet": func(c *Config) {
			w := c.Tunnels[0].WireGuard
			w.PublicKey, w.Endpoint, w.Allowed, w.List = "", "", nil, 0
		},
		"no mark": func(c *Config) { c.Rules[0].Mark, c.Rules[0].Mask = 0, 0 },
		"the top": func(c *Config) { c.Tunnels[0].WireGuard.Port, c.Tunnels[0].MTU = 65535, 65535 },
	} {
		c := full()
		least(c)
		if err := c.Check(); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// What is made of a valid estate passes the check that gateways make of it.
func TestWhatIsMadeIsTaken(t *testing.T) {
	eachSite(t, 150, func(where string, _ *route.Map, _ int, c *Config) {
		if err := c.Check(); err != nil {
			t.Errorf("%s: %v", where, err)
		}
	})
}
