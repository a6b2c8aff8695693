package diagnose

import (
	"net/netip"
	"slices"
	"testing"

	"wideknot/core/gateway"
	"wideknot/core/outage"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
	"wideknot/golden"
)

// asked is a packet between two plants of the demo, by their first choice, the ring.
var asked = route.Packet{From: netip.MustParseAddr("10.16.4.10"), To: netip.MustParseAddr("10.20.8.10"), Protocol: "icmp"}

// complete gives the gateways on a packet's path their configurations and the addresses that they
// have on their LANs.
func complete(k *Known, p route.Packet) {
	for _, site := range Sites(k, p) {
		g := k.Gateways[site]
		g.Wants, g.Release, g.Keeps = gateway.Of(k.Routes, k.Routes.Plan.SiteIndex(site)), 2, 2
		g.Offers = &gateway.Offers{}
		lan := gateway.Device{Name: "lan0"}
		for i := range k.Routes.Plan.Site(k.Routes.Plan.SiteIndex(site)).Subnets {
			n := k.Routes.Plan.Site(k.Routes.Plan.SiteIndex(site)).Subnets[i].Prefix
			lan.Addresses = append(lan.Addresses, netip.PrefixFrom(n.Addr().Next(), n.Bits()))
		}
		g.Offers.Devices = []gateway.Device{lan}
	}
}

// answers lets every echo and look that is wanted be answered as a world does in which nothing is
// wrong but what a function says.
func answers(k *Known, p route.Packet, of func(site string, e gateway.Echo) int) *Diagnosis {
	_, d := asking(k, p, of)
	return d
}

// asking does so, and returns what was asked besides.
func asking(k *Known, p route.Packet, of func(site string, e gateway.Echo) int) (asked [][]Want, said *Diagnosis) {
	for range 6 {
		d := Diagnose(k, p)
		if len(d.Wants) == 0 {
			return asked, d
		}
		asked = append(asked, d.Wants)
		for _, w := range d.Wants {
			g := k.Gateways[w.Site]
			if w.Look != nil {
				g.Looked = &gateway.Looked{For: max(w.Look.For, 1), Links: g.State.Links}
				for _, name := range w.Look.Interfaces {
					t := g.Wants.Tunnel(name)
					g.Looked.Tunnels = append(g.Looked.Tunnels, gateway.LookedTunnel{Interface: name, Port: t.WireGuard.Port, Peers: t.WireGuard.Keys()})
				}
			}
			if g.Echoes == nil {
				g.Echoes = map[Ask]gateway.Echoed{}
			}
			for _, e := range w.Echoes {
				g.Echoes[Ask{e.From, e.To, w.Again}] = gateway.Echoed{From: e.From, To: e.To, Answered: of(w.Site, e)}
			}
		}
	}
	return asked, Diagnose(k, p)
}

func all(_ string, e gateway.Echo) int { return max(e.Size, gateway.SmallEcho) }

// bytesOf is how many bytes a second a link carries by the survey, in each direction.
func bytesOf(m *route.Map, site, link string) (is struct{ up, down gateway.Counter }) {
	for i := range m.Plan.Site(m.Plan.SiteIndex(site)).Links {
		if l := &m.Plan.Site(m.Plan.SiteIndex(site)).Links[i]; l.Key == link {
			is.up, is.down = gateway.Counter(l.UpMbps*125_000), gateway.Counter(l.DownMbps*125_000)
		}
	}
	return is
}

// What is said of a packet, by what is reported and what is answered. Nothing is sure that is not.
func TestDiagnose(t *testing.T) {
	m := brindlewater(t)
	model := outage.New(m)
	ring := []outage.Part{{Kind: outage.Link, Name: "osierweir/ring"}}
	tunnelTo := func(k *Known, site, peer string) *gateway.TunnelState {
		c := k.Gateways[site]
		for i := range c.State.Tunnels {
			if w := c.Wants.Tunnel(c.State.Tunnels[i].Interface); w != nil && w.Peer == peer && w.Link == "ring" && w.PeerLink == "ring" {
				return &c.State.Tunnels[i]
			}
		}
		t.Fatalf("%s has no tunnel to %s", site, peer)
		return nil
	}
	lossy := func(sent, ppm int) func(*Known) {
		return func(k *Known) {
			s := tunnelTo(k, "tarnhollow", "osierweir")
			s.Sent, s.LossOutPPM = gateway.Counter(sent), ppm
			s.Since = "" // it never was dead
		}
	}
	older := func(change func(c *gateway.Config)) func(*Known) {
		return func(k *Known) {
			g := k.Gateways["osierweir"]
			runs := *g.Wants
			change(&runs)
			g.Runs, g.Keeps = &runs, 1
		}
	}
	// full lets all tunnels of the far circuit have carried so many bytes a second while they were looked at.
	full := func(in, out gateway.Counter) func(*Known) {
		return func(k *Known) {
			lossy(5000, 100_000)(k)
			g := k.Gateways["osierweir"]
			g.Looked = &gateway.Looked{For: 2000, Links: g.State.Links}
			n := gateway.Counter(0)
			for i := range g.Wants.Tunnels {
				if g.Wants.Tunnels[i].Link == "ring" {
					n++
				}
			}
			for i := range g.Wants.Tunnels {
				if t := &g.Wants.Tunnels[i]; t.Link == "ring" {
					g.Looked.Tunnels = append(g.Looked.Tunnels, gateway.LookedTunnel{Interface: t.Interface, Port: t.WireGuard.Port, Peers: t.WireGuard.Keys(), BytesIn: 2 * in / n, BytesOut: 2 * out / n})
				}
			}
		}
	}
	hostsNear := func(site string, e gateway.Echo) int { // gateways answer each other, and hosts their own ones
		if e.Size == 0 && !netip.PrefixFrom(e.From, 24).Masked().Contains(e.To) {
			return 0
		}
		return all(site, e)
	}
	nobodyFar := func(site string, e gateway.Echo) int { // hosts answer their own gateways alone
		if e.Size > 0 {
			return 0
		}
		return all(site, e)
	}
	said, asks := map[string]*Diagnosis{}, map[string][][]Want{} // to the word
	defer func() {
		golden.JSON(t, "testdata/diagnoses.json", said)
		golden.JSON(t, "testdata/asks.json", asks)
	}()
	for _, c := range []struct {
		name    string
		packet  route.Packet
		parts   []outage.Part
		change  func(k *Known)
		of      func(string, gateway.Echo) int
		verdict Verdict
		causes  []Cause // code, sureness, site
	}{
		{name: "all is well", verdict: Arrives},
		{name: "two hosts of one LAN", packet: route.Packet{From: netip.MustParseAddr("10.16.4.10"), To: netip.MustParseAddr("10.16.4.11"), Protocol: "icmp"}, verdict: Arrives},
		{name: "an address of nobody", packet: route.Packet{From: netip.MustParseAddr("10.99.1.1"), To: asked.To, Protocol: "icmp"}, verdict: Refused, causes: []Cause{{Code: NoSuchAddress, Sure: Sure}}},
		{name: "an address of several", packet: route.Packet{From: netip.MustParseAddr("192.168.77.9"), To: asked.To, Protocol: "icmp"}, verdict: Refused, causes: []Cause{{Code: Collision, Sure: Sure}}},
		{name: "a policy", packet: route.Packet{From: netip.MustParseAddr("10.16.5.10"), To: asked.To, Protocol: "icmp"}, verdict: Refused, causes: []Cause{{Code: PolicyDenies, Sure: Sure, Site: "tarnhollow"}}},
		{name: "a network that only the gateway knows", change: func(k *Known) {
			k.Gateways["tarnhollow"].Offers.Behind = []gateway.Behind{{Prefix: netip.MustParsePrefix("10.20.0.0/16"), Via: netip.MustParseAddr("10.16.4.9"), Device: "lan0"}}
		}, verdict: Refused, causes: []Cause{{Code: Collision, Sure: Sure, Site: "tarnhollow"}}},
		{name: "a circuit", parts: ring, verdict: Standby, causes: []Cause{{Code: CircuitDead, Sure: Sure, Site: "osierweir"}}},
		{name: "a drill", parts: ring, change: func(k *Known) {
			s := k.Gateways["osierweir"].State
			for i := range s.Links {
				s.Links[i].NextHopUp, s.Links[i].NamesUp = true, true
			}
			for i := range s.Tunnels {
				s.Tunnels[i].Held = !s.Tunnels[i].Up
			}
		}, verdict: Standby, causes: []Cause{{Code: Drilled, Sure: Sure, Site: "osierweir"}}},
		{name: "tunnels that are dead while their circuits live", parts: ring, change: func(k *Known) {
			s := k.Gateways["osierweir"].State
			for i := range s.Links {
				s.Links[i].NextHopUp, s.Links[i].NamesUp = true, true
			}
		}, verdict: Standby, causes: []Cause{{Code: UDPBlocked, Sure: Likely, Site: "osierweir"}}},
		{name: "a gateway that is off", parts: []outage.Part{{Kind: outage.Gateway, Name: "osierweir"}}, verdict: Fails, causes: []Cause{{Code: Away, Sure: Likely, Site: "osierweir"}}},
		{name: "one that has not joined", change: func(k *Known) { k.Gateways["osierweir"] = &Gateway{} }, verdict: Unseen},
		{name: "away, though it carries, by a wrong clock", change: func(k *Known) {
			k.Gateways["osierweir"].Up, k.Gateways["osierweir"].State.Clock.OffsetMs = false, 400_000
		}, verdict: Unseen, causes: []Cause{{Code: ClockOff, Sure: Possible, Site: "osierweir"}}},
		{name: "one probe of twenty is chance", change: lossy(20, 50_000), verdict: Arrives},
		{name: "four of forty", change: lossy(40, 100_000), verdict: Poor, causes: []Cause{{Code: LossyOneWay, Sure: Likely, Site: "tarnhollow"}}},
		{name: "ten of a hundred", change: lossy(5000, 100_000), verdict: Poor, causes: []Cause{{Code: LossyOneWay, Sure: Sure, Site: "tarnhollow"}}},
		{name: "and what was lost of an echo says nothing of the host", change: lossy(5000, 100_000), of: hostsNear, verdict: Poor, causes: []Cause{{Code: LossyOneWay, Sure: Sure, Site: "tarnhollow"}}},
		{name: "losses of when it was dead", change: func(k *Known) {
			lossy(5000, 100_000)(k)
			k.Gateways["tarnhollow"].State.At = "2026-12-01T03:01:00Z"
			tunnelTo(k, "tarnhollow", "osierweir").Since = "2026-12-01T03:00:00Z"
		}, verdict: Arrives},
		{name: "an older release whose filter alone differs", change: older(func(c *gateway.Config) { c.Filter.Own = c.Filter.Own[1:] }), verdict: Arrives},
		{name: "the same, while nothing comes through", change: older(func(c *gateway.Config) { c.Filter.Own = c.Filter.Own[1:] }), of: nobodyFar, verdict: Fails, causes: []Cause{{Code: OlderRelease, Sure: Possible, Site: "osierweir"}, {Code: GatewaysDisagree, Sure: Possible}}},
		{name: "an older release without the route", change: older(func(c *gateway.Config) { c.Routes = nil }), of: nobodyFar, verdict: Fails, causes: []Cause{{Code: OlderRelease, Sure: Sure, Site: "osierweir"}}},
		{name: "the same, but it is the host that is off", change: older(func(c *gateway.Config) { c.Routes = nil }), of: func(site string, e gateway.Echo) int {
			if e.To == asked.To {
				return 0
			}
			return all(site, e)
		}, verdict: Fails, causes: []Cause{{Code: HostSilent, Sure: Likely, Site: "osierweir"}}},
		{name: "nothing comes through, and nobody knows why", of: nobodyFar, verdict: Fails, causes: []Cause{{Code: GatewaysDisagree, Sure: Possible, Site: "tarnhollow"}}},
		{name: "much arrives, but not all that may", change: full(bytesOf(m, "osierweir", "ring").down*85/100, 0), verdict: Poor, causes: []Cause{{Code: LossyOneWay, Sure: Sure, Site: "tarnhollow"}}},
		{name: "as much arrives as may", change: full(bytesOf(m, "osierweir", "ring").down, 0), verdict: Poor, causes: []Cause{{Code: LinkFull, Sure: Sure, Site: "osierweir"}}},
		{name: "as much leaves as may", change: full(0, bytesOf(m, "osierweir", "ring").up), verdict: Poor, causes: []Cause{{Code: LinkFull, Sure: Sure, Site: "osierweir"}}},
		{name: "losses beside a host that is off", change: lossy(5000, 100_000), of: func(site string, e gateway.Echo) int {
			if e.To == asked.To {
				return 0
			}
			return all(site, e)
		}, verdict: Fails, causes: []Cause{{Code: HostSilent, Sure: Likely, Site: "osierweir"}, {Code: LossyOneWay, Sure: Possible, Site: "tarnhollow"}}},
		{name: "large packets vanish", of: func(_ string, e gateway.Echo) int { return gateway.SmallEcho }, verdict: Poor, causes: []Cause{{Code: LargeLost, Sure: Sure, Site: "tarnhollow"}}},
	} {
		packet := c.packet
		if !packet.From.IsValid() {
			packet = asked
		}
		k := reported(t, m, model, c.parts...)
		complete(k, asked)
		if c.change != nil {
			c.change(k)
		}
		of := c.of
		if of == nil {
			of = all
		}
		asked, d := asking(k, packet, of)
		same := d.Verdict == c.verdict && len(d.Causes) == len(c.causes)
		for i := 0; same && i < len(c.causes); i++ {
			is, want := d.Causes[i], c.causes[i]
			same = is.Code == want.Code && is.Sure == want.Sure && (is.Site == want.Site || want.Site == "")
		}
		if !same {
			t.Errorf("%s: %s %+v", c.name, d.Verdict, d.Causes)
		}
		said[c.name], asks[c.name] = d, asked
		if fails := slices.IndexFunc(d.Steps, func(s PathStep) bool { return s.Verdict == Fails || s.Verdict == Refused }); fails != d.Failing {
			t.Errorf("%s: the first step that fails is %d, not %d", c.name, fails, d.Failing)
		}
	}
}

// A clock that is off is a cause where the tunnels are IPsec's.
func TestAClockThatIsOff(t *testing.T) {
	e, err := examples.Estate("three-sites", "shape: hub-and-spoke", "shape: hub-and-spoke\n    transport: ipsec")
	if err != nil {
		t.Fatal(err)
	}
	m := route.Build(tunnel.Derive(e))
	p := route.Packet{From: netip.MustParseAddr("10.40.2.9"), To: netip.MustParseAddr("10.40.1.9"), Protocol: "icmp"}
	for offset, want := range map[int]Code{400_000: ClockOff, -400_000: ClockOff, 2000: TunnelDead} {
		k := reported(t, m, outage.New(m))
		complete(k, p)
		for _, site := range []string{"stonebeck", "millgate"} {
			for i := range k.Gateways[site].State.Tunnels {
				k.Gateways[site].State.Tunnels[i].Up = false
			}
		}
		k.Gateways["stonebeck"].State.Clock.OffsetMs = offset
		if d := Diagnose(k, p); len(d.Causes) != 1 || d.Causes[0].Code != want || want == ClockOff && (d.Causes[0].Site != "stonebeck" || d.Causes[0].Sure != Likely) {
			t.Errorf("%d ms: %+v", offset, d.Causes)
		}
	}
}
