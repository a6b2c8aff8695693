package estate_test

import (
	"math/rand/v2"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/sample"
	"wideknot/examples"
)

// What is wrong with replaced sites is found by looking at them alone.
func TestValidateSitesFindsWhatValidateFinds(t *testing.T) {
	spoil := []func(s *estate.Site){
		func(s *estate.Site) { s.Region = "nowhere" },
		func(s *estate.Site) { s.DemandMbps = -1 },
		func(s *estate.Site) { s.Links[0].MTU = 20 },
		func(s *estate.Site) { s.Links[0].Reach = "by pigeon" },
		func(s *estate.Site) { s.Links = append(s.Links, s.Links[0]) },
		func(s *estate.Site) { s.Links = make([]estate.Link, 100) },
		func(s *estate.Site) { s.Gateway.UsedPorts = []int{70000} },
		func(s *estate.Site) { s.Subnets = append(s.Subnets, estate.Subnet{Share: []string{"nowhere"}}) },
		func(s *estate.Site) {
			s.Subnets = append(s.Subnets, estate.Subnet{Prefix: netip.MustParsePrefix("10.0.0.0/8"), Zone: "A zone"})
		},
		func(*estate.Site) {}, // nothing
	}
	for seed := range uint64(40) {
		random := rand.New(rand.NewPCG(seed, 12))
		e := sample.Mixed(seed).Clone()
		replaced := map[string]bool{}
		for range 1 + random.IntN(3) {
			s := &e.Sites[random.IntN(len(e.Sites))]
			replaced[s.Key] = true
			spoil[random.IntN(len(spoil))](s)
		}
		all, some := estate.Validate(e), estate.ValidateSites(e, replaced)
		if len(all) == 0 && len(some) == 0 {
			continue
		}
		if !reflect.DeepEqual(all, some) {
			t.Errorf("seed %d: of the whole estate\n%v\nof the replaced sites\n%v", seed, all, some)
		}
	}
}

// Every number of the document is taken at both ends of its range and refused
// one step beyond; 0 is "not given" where a field is optional.
func TestNumbersAreInRange(t *testing.T) {
	type number struct {
		path      string // in the problem
		low, high float64
		step      float64
		set       func(e *estate.Estate, n float64)
	}
	link := func(set func(l *estate.Link, n float64)) func(*estate.Estate, float64) {
		return func(e *estate.Estate, n float64) { set(&e.Sites[0].Links[0], n) }
	}
	gateway := func(set func(g *estate.Gateway, n float64)) func(*estate.Estate, float64) {
		return func(e *estate.Estate, n float64) { set(&e.Sites[0].Gateway, n) }
	}
	overlay := func(set func(o *estate.Overlay, n float64)) func(*estate.Estate, float64) {
		return func(e *estate.Estate, n float64) { set(&e.Overlays[0], n) }
	}
	costs := func(set func(c *estate.Costs, n float64)) func(*estate.Estate, float64) {
		return overlay(func(o *estate.Overlay, n float64) {
			o.Costs = &estate.Costs{HubStep: 10, HubHub: 5, Direct: 5}
			set(o.Costs, n)
		})
	}
	probe := func(set func(p *estate.Probe, n float64)) func(*estate.Estate, float64) {
		return overlay(func(o *estate.Overlay, n float64) {
			o.Probe = &estate.Probe{IntervalMs: 1000, TimeoutMs: 800, Misses: 3, Successes: 5}
			set(o.Probe, n)
		})
	}
	for _, c := range []number{
		{"sites[0].demand_mbps", 0, 1e6, 0.5, func(e *estate.Estate, n float64) { e.Sites[0].DemandMbps = n }},
		{"sites[0].links[0].rank", 1, 99, 1, link(func(l *estate.Link, n float64) { l.Rank = int(n) })},
		{"sites[0].links[0].weight", 1, estate.MaxWeight, 1, link(func(l *estate.Link, n float64) { l.Weight = int(n) })},
		{"sites[0].links[0].down_mbps", 0, 1e6, 0.5, link(func(l *estate.Link, n float64) { l.DownMbps = n })},
		{"sites[0].links[0].up_mbps", 0, 1e6, 0.5, link(func(l *estate.Link, n float64) { l.UpMbps = n })},
		{"sites[0].links[0].mtu", 576, 9216, 1, link(func(l *estate.Link, n float64) { l.MTU = int(n) })},
		{"sites[0].links[0].availability", 0, 100, 0.1, link(func(l *estate.Link, n float64) { l.Availability = n })},
		{"sites[0].gateway.max_tunnels", 1, 65536, 1, gateway(func(g *estate.Gateway, n float64) { g.MaxTunnels = int(n) })},
		{"sites[0].gateway.throughput_mbps", 0, 1e6, 0.5, gateway(func(g *estate.Gateway, n float64) { g.ThroughputMbps = n })},
		{"sites[0].gateway.listen_port", 1, 65535, 1, gateway(func(g *estate.Gateway, n float64) { g.ListenPort = int(n) })},
		{"sites[0].gateway.used_ports[0]", 1, 65535, 1, gateway(func(g *estate.Gateway, n float64) { g.UsedPorts = []int{int(n)} })},
		{"overlays[0].keepalive_s", 1, 3600, 1, overlay(func(o *estate.Overlay, n float64) { o.KeepaliveS = int(n) })},
		{"overlays[0].costs.hub_step", 1, 100000, 1, costs(func(c *estate.Costs, n float64) { c.HubStep = int(n) })},
		{"overlays[0].costs.hub_hub", 1, 100000, 1, costs(func(c *estate.Costs, n float64) { c.HubHub = int(n) })},
		{"overlays[0].costs.direct", 1, 100000, 1, costs(func(c *estate.Costs, n float64) { c.Direct = int(n) })},
		{"overlays[0].probe.interval_ms", 100, 60000, 1, probe(func(p *estate.Probe, n float64) { p.IntervalMs = int(n) })},
		{"overlays[0].probe.timeout_ms", 50, 60000, 1, probe(func(p *estate.Probe, n float64) { p.TimeoutMs = int(n) })},
		{"overlays[0].probe.misses", 1, 20, 1, probe(func(p *estate.Probe, n float64) { p.Misses = int(n) })},
		{"overlays[0].probe.successes", 1, 100, 1, probe(func(p *estate.Probe, n float64) { p.Successes = int(n) })},
	} {
		refused := func(n float64) bool {
			e := sample.Mixed(1).Clone()
			c.set(e, n)
			for _, p := range estate.Validate(e) {
				if p.Path == c.path {
					return true
				}
			}
			return false
		}
		for _, n := range []float64{c.low, c.high} {
			if refused(n) {
				t.Errorf("%s refuses %v", c.path, n)
			}
		}
		below := c.low - c.step
		if below == 0 {
			below = -c.step // 0 is not given
		}
		for _, n := range []float64{below, c.high + c.step} {
			if !refused(n) {
				t.Errorf("%s takes %v", c.path, n)
			}
		}
	}
}

// Every word of the document that is one of a few is refused when it is another,
// and what belongs together is asked for together.
func TestWordsOfOverlaysAndLinksAreKnown(t *testing.T) {
	for path, spoil := range map[string]func(e *estate.Estate){
		"overlays[0].shape":             func(e *estate.Estate) { e.Overlays[0].Shape = "star" },
		"overlays[0].transport":         func(e *estate.Estate) { e.Overlays[0].Transport = "smoke" },
		"overlays[0].numbering":         func(e *estate.Estate) { e.Overlays[0].Numbering = "by hand" },
		"overlays[0].pairing":           func(e *estate.Estate) { e.Overlays[0].Pairing = "some" },
		"overlays[0].family":            func(e *estate.Estate) { e.Overlays[0].Family = "v5" },
		"overlays[0].pairing_limit":     func(e *estate.Estate) { e.Overlays[0].Pairing = estate.TopN; e.Overlays[0].PairingLimit = 0 },
		"overlays[0].transit[0]":        func(e *estate.Estate) { e.Overlays[0].Transit = []netip.Prefix{{}} },
		"overlays[0].hubs[0]":           func(e *estate.Estate) { e.Overlays[0].Hubs = []string{"nowhere"} },
		"overlays[0].direct[0]":         func(e *estate.Estate) { e.Overlays[0].Direct = [][]string{{"a", "a"}} },
		"overlays[0].direct[0][1]":      func(e *estate.Estate) { e.Overlays[0].Direct = [][]string{{e.Sites[0].Key, "nowhere"}} },
		"overlays[0].pins[0].via":       func(e *estate.Estate) { e.Overlays[0].Pins = []estate.Pin{{Site: e.Sites[0].Key, Via: e.Sites[0].Key}} },
		"overlays[0].probe.target":      func(e *estate.Estate) { e.Overlays[0].Probe = &estate.Probe{Target: "the moon"} },
		"overlays[0].preshared_keys":    func(e *estate.Estate) { e.Overlays[0].PresharedKeys, e.Overlays[0].Transport = true, estate.IPsec },
		"overlays[0].breakout.hubs[0]":  func(e *estate.Estate) { e.Overlays[0].Breakout = &estate.Breakout{Hubs: []string{"nowhere"}} },
		"overlays[0].breakout.sites[0]": func(e *estate.Estate) { e.Overlays[0].Breakout = &estate.Breakout{Sites: []string{"nowhere"}} },
		"overlays[0].policy.default":    func(e *estate.Estate) { e.Overlays[0].Policy = &estate.Policy{Default: "maybe"} },
		"overlays[0].tunnel_order[0].between": func(e *estate.Estate) {
			e.Overlays[0].TunnelOrder = []estate.PairOrder{{Between: []string{"a", "a"}}}
		},
		"overlays[0].tunnel_order[0].first[0]": func(e *estate.Estate) {
			e.Overlays[0].TunnelOrder = []estate.PairOrder{{Between: []string{e.Sites[0].Key, e.Sites[1].Key}, First: []string{"a b"}}}
		},
		"sites[0].links[0].reach":       func(e *estate.Estate) { e.Sites[0].Links[0].Reach = "maybe" },
		"sites[0].links[0].families[0]": func(e *estate.Estate) { e.Sites[0].Links[0].Families = []estate.Family{"v5"} },
		"sites[0].links[0].hostname":    func(e *estate.Estate) { e.Sites[0].Links[0].Hostname = "gw" },
		"sites[0].links[0].addresses[0]": func(e *estate.Estate) {
			e.Sites[0].Links[0].Addresses = []netip.Addr{netip.MustParseAddr("224.0.0.1")}
		},
		"sites[0].links[0].outside": func(e *estate.Estate) {
			e.Sites[0].Links[0].Reach, e.Sites[0].Links[0].Outside = estate.Forwarded, netip.Addr{}
		},
		"sites[0].links[0].device":         func(e *estate.Estate) { e.Sites[0].Links[0].Device = "sixteen-letters0" },
		"sites[0].links[0].zones[0]":       func(e *estate.Estate) { e.Sites[0].Links[0].Zones = []string{"A b"} },
		"sites[0].links[0].shared_fate[0]": func(e *estate.Estate) { e.Sites[0].Links[0].SharedFate = []string{"A b"} },
		"sites[0].links[0].underlay":       func(e *estate.Estate) { e.Sites[0].Links[0].Underlay = "A b" },
		"sites[0].subnets[0].zone":         func(e *estate.Estate) { e.Sites[0].Subnets[0].Zone = "A b" },
		"sites[0].gateway.placement":       func(e *estate.Estate) { e.Sites[0].Gateway.Placement = "upside down" },
		"sites[0].gateway.target":          func(e *estate.Estate) { e.Sites[0].Gateway.Target = "paper" },
		"sites[0].gateway.proposals[0]":    func(e *estate.Estate) { e.Sites[0].Gateway.Proposals = []string{"ROT13"} },
		"sites[0].gateway.public_key":      func(e *estate.Estate) { e.Sites[0].Gateway.PublicKey = "short" },
		"estate.shed[1]":                   func(e *estate.Estate) { e.About.Shed = []string{"a", "a"} },
		"estate.reserved[0].for": func(e *estate.Estate) {
			e.About.Reserved = []estate.Reservation{{Prefix: netip.MustParsePrefix("10.0.0.0/8")}}
		},
		"estate.regions[0].blocks[0]":   func(e *estate.Estate) { e.About.Regions = []estate.Region{{Key: "r", Blocks: []netip.Prefix{{}}}} },
		"estate.underlays[0].blocks[0]": func(e *estate.Estate) { e.About.Underlays = []estate.Region{{Key: "r", Blocks: []netip.Prefix{{}}}} },
		"overlays[0].policy.rules[0].action": func(e *estate.Estate) {
			e.Overlays[0].Policy = &estate.Policy{Default: estate.Deny, Rules: []estate.Rule{{Action: "maybe"}}}
		},
		"overlays[0].policy.rules[0].protocol": func(e *estate.Estate) {
			e.Overlays[0].Policy = &estate.Policy{Default: estate.Deny, Rules: []estate.Rule{{Action: estate.Deny, Ports: []string{"80"}}}}
		},
	} {
		e := sample.Mixed(1).Clone()
		spoil(e)
		if !slices.ContainsFunc(estate.Validate(e), func(p estate.Problem) bool { return p.Path == path }) {
			t.Errorf("%s is taken: %v", path, estate.Validate(e))
		}
	}
}

func TestForwardedPorts(t *testing.T) {
	l := estate.Link{Reach: estate.Forwarded, Forwards: []string{"51820-51829", "60000"}}
	for port, want := range map[int]bool{51819: false, 51820: true, 51829: true, 51830: false, 59999: false, 60000: true, 60001: false} {
		if l.HasForward(port) != want {
			t.Errorf("port %d forwarded: %v", port, !want)
		}
	}
	l.Forwards = nil
	if !l.HasForward(1) {
		t.Error("nothing is said of its ports, so all are taken to be forwarded")
	}
}

// Without a list a link carries what its addresses show, and IPv4 where they show
// nothing.
func TestFamiliesOfALink(t *testing.T) {
	v4, v6 := netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("2001:db8::1")
	for _, c := range []struct {
		link   estate.Link
		v4, v6 bool
	}{
		{estate.Link{}, true, false},
		{estate.Link{Addresses: []netip.Addr{v6}}, false, true},
		{estate.Link{Addresses: []netip.Addr{v4}}, true, false},
		{estate.Link{Addresses: []netip.Addr{v4, v6}}, true, true},
		{estate.Link{Reach: estate.Forwarded, Outside: v6}, false, true},
		{estate.Link{Families: []estate.Family{estate.V6}}, false, true},
	} {
		if c.link.Has(estate.V4) != c.v4 || c.link.Has(estate.V6) != c.v6 {
			t.Errorf("%+v carries IPv4 %v, IPv6 %v", c.link, c.link.Has(estate.V4), c.link.Has(estate.V6))
		}
	}
}

// Caps hold for lists behind a pointer too.
func TestCapsBehindPointers(t *testing.T) {
	e := sample.Mixed(1).Clone()
	e.Overlays[0].Policy = &estate.Policy{Default: estate.Deny, Rules: make([]estate.Rule, 10_001)}
	problems := estate.Validate(e)
	if len(problems) != 1 || problems[0].Path != "overlays[0].policy.rules" {
		t.Errorf("%d problems, the first %v", len(problems), problems[0])
	}
}

// A name of 120 characters is one, whatever their bytes; of 121 it is too long.
func TestNamesAreBounded(t *testing.T) {
	e, err := examples.Estate("three-sites")
	if err != nil {
		t.Fatal(err)
	}
	for n, good := range map[int]bool{1: true, 120: true, 121: false} {
		for _, letter := range []string{"x", "é"} {
			e.Sites[0].Name = strings.Repeat(letter, n)
			if problems := estate.Validate(e); (len(problems) == 0) != good {
				t.Errorf("%d of %s: %v", n, letter, problems)
			}
		}
	}
}
