package fleet

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wideknot/core/diagnose"
	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/route"
	"wideknot/internal/gateway/memory"
)

// A planted fault is what goes wrong in the world, and what is to be said of it.
type planted struct {
	name     string
	do       func(s *standing) // what happens
	from, to string
	protocol string
	port     int
	code     diagnose.Code
	site     string
	sure     diagnose.Sureness
	wait     time.Duration // until its consequences are seen; no multiple of the interval, as stand-ins begin together
	misses   int           // of probes until a tunnel is dead; 0 for the usual number
	interval int           // of probes, in ms; 0 for the usual one
}

func changes(list ...Change) func(s *standing) {
	return func(s *standing) {
		for _, c := range list {
			if err := s.Do(c); err != nil {
				s.t.Fatal(err)
			}
		}
	}
}

func figure[T any](v T) *T { return &v }

// byPeer names a site's tunnel to another.
func (s *standing) byPeer(site, peer string) *gateway.Tunnel {
	s.t.Helper()
	c := gateway.Of(s.routes, s.plan.SiteIndex(site))
	i := slices.IndexFunc(c.Tunnels, func(t gateway.Tunnel) bool { return t.Peer == peer })
	if i < 0 {
		s.t.Fatalf("%s has no tunnel to %s", site, peer)
	}
	return &c.Tunnels[i]
}

// byHand lets a gateway run what a function makes of its configuration.
func byHand(site string, change func(c *gateway.Config)) func(s *standing) {
	return func(s *standing) {
		c := gateway.Of(s.routes, s.plan.SiteIndex(site))
		change(c)
		if err := s.Site(site).Agent.Try(context.Background(), c, 1, "hand", 0); err != nil {
			s.t.Fatal(err)
		}
	}
}

// anew lets a site forget where the far end of a tunnel is, as after a restart: what it sends
// opens no port of the router before it any more.
func (s *standing) anew(site, peer string) {
	t := s.byPeer(site, peer)
	changes(Change{Do: "device", Site: site, Interface: t.Interface, Peer: t.WireGuard.PublicKey})(s)
}

// asks lets a host open a session to another one until it is answered.
func (s *standing) asks(site, from, to string) {
	s.t.Helper()
	for until := time.Now().Add(10 * time.Second); ; {
		ctx, done := context.WithTimeout(context.Background(), time.Second)
		r, err := s.Ask(ctx, site, netip.MustParseAddr(from), netip.MustParseAddr(to), memory.ProtoTCP, 443, 100, 64)
		done()
		if err != nil || time.Now().After(until) {
			s.t.Fatalf("%s asks %s: %+v, %v", from, to, r, err)
		}
		if r.Outcome == Answered {
			return
		}
	}
}

const (
	another = "hSDwCYkwp1R0i33ctD73Wg2/Og0mOBr066SpjqqbTmo="
	detects = 3 * time.Second
)

var on, off = true, false

// faults is what is planted and what is to be named.
var faults = []planted{
	{name: "nothing", from: "10.60.1.9", to: "10.60.5.9"},
	{name: "forwarded port missing", do: func(s *standing) { s.anew("ford", "copse"); changes(Change{Do: "forward", Site: "ford", On: &off})(s) }, from: "10.60.4.9", to: "10.60.2.9", code: diagnose.NotForwarded, site: "ford", sure: diagnose.Likely, wait: detects},
	{name: "forwarded, behind a second router that does not", do: func(s *standing) {
		s.anew("ford", "copse")
		changes(Change{Do: "nat", Site: "ford", NAT: &Behaviour{Expires: 60, Double: true}})(s)
	}, from: "10.60.4.9", to: "10.60.2.9", code: diagnose.NotForwarded, site: "ford", sure: diagnose.Likely, wait: detects},
	{name: "forwarded to a wrong port", do: func(s *standing) {
		s.anew("ford", "copse")
		changes(Change{Do: "forward", Site: "ford", Shift: 700})(s)
	}, from: "10.60.4.9", to: "10.60.2.9", code: diagnose.WrongPort, site: "ford", sure: diagnose.Sure, wait: detects},
	{name: "endpoint address stale after a change", do: changes(Change{Do: "address", Site: "tarn"}), from: "10.60.4.9", to: "10.60.8.9", code: diagnose.StaleAddress, site: "tarn", sure: diagnose.Sure, wait: detects},
	{
		name: "name resolves to an old address", do: changes(Change{Do: "name", Site: "heath", On: &off}, Change{Do: "address", Site: "heath"}),
		from: "10.60.4.9", to: "10.60.3.9", code: diagnose.StaleName, site: "heath", sure: diagnose.Sure, wait: detects,
	},
	{
		name: "wrong peer key at one end", do: func(s *standing) {
			changes(Change{Do: "device", Site: "mill", Interface: s.byPeer("mill", "tarn").Interface, Peer: another})(s)
		},
		from: "10.60.1.9", to: "10.60.8.9", code: diagnose.WrongKey, site: "mill", sure: diagnose.Sure, wait: detects,
	},
	{
		name: "pre-shared key differs", do: func(s *standing) {
			changes(Change{Do: "device", Site: "tarn", Interface: s.byPeer("tarn", "mill").Interface, Shared: another})(s)
		},
		from: "10.60.1.9", to: "10.60.8.9", code: diagnose.WrongSecret, site: "tarn", sure: diagnose.Sure, wait: detects,
	},
	{name: "UDP blocked by the carrier", do: changes(Change{Do: "like", Site: "heath", Link: "cable", NoUDP: &on}), from: "10.60.1.9", to: "10.60.3.9", code: diagnose.UDPBlocked, site: "heath", sure: diagnose.Sure, wait: detects},
	{
		name: "NAT mapping expires sooner than the tunnel speaks", do: changes(Change{Do: "nat", Site: "copse", NAT: &Behaviour{Dependent: true, Expires: 1}}),
		from: "10.60.1.9", to: "10.60.4.9", code: diagnose.MappingExpires, site: "copse", sure: diagnose.Sure, wait: 4600 * time.Millisecond, interval: 3000,
	},
	{name: "MTU black hole", do: changes(Change{Do: "like", Site: "tarn", Link: "fibre", MTU: figure(1300)}), from: "10.60.1.9", to: "10.60.8.9", code: diagnose.LargeLost, site: "tarn", sure: diagnose.Sure},
	{name: "one direction lossy", do: changes(Change{Do: "like", Site: "tarn", Link: "fibre", LossUpPct: figure(15.0)}), from: "10.60.1.9", to: "10.60.8.9", code: diagnose.LossyOneWay, site: "tarn", sure: diagnose.Sure, wait: 45 * time.Second, misses: 8},
	{
		name: "allowed prefix missing at one end",
		do: func(s *standing) {
			changes(Change{Do: "device", Site: "tarn", Interface: s.byPeer("tarn", "mill").Interface, Without: netip.MustParsePrefix("10.60.1.0/24")})(s)
		},
		from: "10.60.1.9", to: "10.60.8.9", code: diagnose.LacksPrefix, site: "tarn", sure: diagnose.Sure,
	},
	{name: "route missing on the neighbour of a one-armed gateway", do: changes(Change{Do: "neighbour", Site: "quay", On: &off}), from: "10.60.1.9", to: "10.60.5.9", code: diagnose.NeighbourRoute, site: "quay", sure: diagnose.Likely},
	{
		name: "return path dropped by a router that keeps state",
		do: func(s *standing) {
			changes(Change{Do: "neighbour", Site: "quay", Stateful: true})(s)
			s.asks("quay", "10.60.5.9", "10.60.1.9") // as hosts do now and then
		},
		from: "10.60.1.9", to: "10.60.5.9", code: diagnose.AnswerDropped, site: "quay", sure: diagnose.Likely,
	},
	{name: "policy rule denies", from: "10.60.1.9", to: "10.60.7.9", protocol: "tcp", port: 22, code: diagnose.PolicyDenies, site: "mill", sure: diagnose.Sure},
	{name: "policy denies the return", from: "10.60.1.9", to: "10.60.7.9", protocol: "tcp", port: 80, code: diagnose.PolicyDeniesBack, site: "reed", sure: diagnose.Sure},
	{name: "a LAN host's own gateway wrong", do: changes(Change{Do: "host", Site: "tarn", Host: netip.MustParseAddr("10.60.8.9"), Astray: true}), from: "10.60.1.9", to: "10.60.8.9", code: diagnose.HostGateway, site: "tarn", sure: diagnose.Likely},
	{name: "the same beside a one-armed gateway", do: changes(Change{Do: "host", Site: "quay", Host: netip.MustParseAddr("10.60.5.9"), Astray: true}), from: "10.60.1.9", to: "10.60.5.9", code: diagnose.HostGateway, site: "quay", sure: diagnose.Likely},
	{name: "far LAN dead", do: changes(Change{Do: "lan", Site: "tarn", On: &off}), from: "10.60.1.9", to: "10.60.8.9", code: diagnose.LANDead, site: "tarn", sure: diagnose.Sure},
	{name: "a host that is off", do: changes(Change{Do: "host", Site: "tarn", Host: netip.MustParseAddr("10.60.8.9"), On: &off}), from: "10.60.1.9", to: "10.60.8.9", code: diagnose.HostSilent, site: "tarn", sure: diagnose.Likely},
	{
		name: "gateway runs an older release",
		do: byHand("tarn", func(c *gateway.Config) { // as it was before mill was a site
			c.Tunnels = slices.DeleteFunc(c.Tunnels, func(t gateway.Tunnel) bool { return t.Peer == "mill" })
			withoutTunnel(c)
		}),
		from: "10.60.1.9", to: "10.60.8.9", code: diagnose.OlderRelease, site: "tarn", sure: diagnose.Sure, wait: detects,
	},
	{
		name: "changed by hand",
		do: byHand("tarn", func(c *gateway.Config) {
			i := slices.IndexFunc(c.Tunnels, func(t gateway.Tunnel) bool { return t.Peer == "mill" })
			w := *c.Tunnels[i].WireGuard
			w.Allowed, w.List = []netip.Prefix{netip.MustParsePrefix("10.99.0.0/16")}, 0
			c.Tunnels[i].WireGuard = &w
		}),
		from: "10.60.1.9", to: "10.60.8.9", code: diagnose.ByHand, site: "tarn", sure: diagnose.Sure,
	},
	{
		name: "link rate full", do: changes(Change{Do: "load", Site: "reed", Host: netip.MustParseAddr("10.60.6.50"), To: netip.MustParseAddr("10.60.8.50"), Mbps: 2, Seconds: 60}),
		from: "10.60.6.9", to: "10.60.8.9", code: diagnose.LinkFull, site: "reed", sure: diagnose.Sure, wait: 20 * time.Second,
	},
	{name: "address collision behind an unshared subnet", from: "10.60.6.9", to: "192.168.50.20", code: diagnose.Collision, site: "reed", sure: diagnose.Sure},
	{name: "the circuit is cut", do: changes(Change{Do: "cut", Site: "tarn", Link: "fibre"}), from: "10.60.1.9", to: "10.60.8.9", code: diagnose.CircuitDead, site: "tarn", sure: diagnose.Sure, wait: detects},
}

// withoutTunnel takes what names tunnels that are gone out of a configuration.
func withoutTunnel(c *gateway.Config) {
	there := func(name string) bool {
		return slices.ContainsFunc(c.Tunnels, func(t gateway.Tunnel) bool { return t.Interface == name })
	}
	gone := map[int]bool{}
	c.Ways = slices.DeleteFunc(slices.Clone(c.Ways), func(w gateway.Way) bool {
		gone[w.ID] = slices.ContainsFunc(w.Groups, func(g gateway.Group) bool {
			return slices.ContainsFunc(g.Members, func(m gateway.Member) bool { return !there(m.Interface) })
		})
		return gone[w.ID]
	})
	c.Routes = slices.DeleteFunc(slices.Clone(c.Routes), func(r gateway.Route) bool { return gone[r.Way] })
	for i := range c.Filter.Overlays {
		o := &c.Filter.Overlays[i]
		o.Interfaces = slices.DeleteFunc(slices.Clone(o.Interfaces), func(name string) bool { return !there(name) })
	}
	for i := range c.Places {
		c.Places[i].Interfaces = slices.DeleteFunc(slices.Clone(c.Places[i].Interfaces), func(name string) bool { return !there(name) })
	}
}

// known gathers what a server would know of the gateways.
func (s *standing) known(older map[string]bool) *diagnose.Known {
	s.t.Helper()
	ctx := context.Background()
	out := &diagnose.Known{Routes: s.routes, Gateways: map[string]*diagnose.Gateway{}}
	for i := range s.estate.Sites {
		key := s.estate.Sites[i].Key
		a := s.Site(key).Agent
		g := &diagnose.Gateway{Joined: true, Up: true, Wants: gateway.Of(s.routes, i), Release: 1, Keeps: 1}
		runs, err := a.Running(ctx)
		if err != nil {
			s.t.Fatal(err)
		}
		if runs.Digest() != g.Wants.Digest() {
			g.Runs, g.ByHand = runs, !older[key]
			if older[key] {
				g.Release = 2
			}
		}
		if g.State, err = a.State(ctx); err != nil {
			s.t.Fatal(err)
		}
		if g.Offers, err = a.Offers(ctx); err != nil {
			s.t.Fatal(err)
		}
		out.Gateways[key] = g
	}
	return out
}

// diagnosed asks until nothing more is wanted.
func (s *standing) diagnosed(k *diagnose.Known, p route.Packet) *diagnose.Diagnosis {
	s.t.Helper()
	for range 6 {
		d := diagnose.Diagnose(k, p)
		if len(d.Wants) == 0 {
			return d
		}
		done := make(chan error, 2*len(d.Wants))
		for _, w := range d.Wants {
			a, g := s.Site(w.Site).Agent, k.Gateways[w.Site]
			go func() {
				var err error
				if w.Look != nil {
					g.Looked, err = a.Look(context.Background(), w.Look)
				}
				done <- err
			}()
			go func() {
				heard, err := a.Echo(context.Background(), w.Echoes)
				if g.Echoes == nil {
					g.Echoes = map[diagnose.Ask]gateway.Echoed{}
				}
				for _, e := range heard {
					g.Echoes[diagnose.Ask{From: e.From, To: e.To, Again: w.Again}] = e
				}
				done <- err
			}()
		}
		for range 2 * len(d.Wants) {
			if err := <-done; err != nil {
				s.t.Error(err)
			}
		}
		for site, g := range k.Gateways { // what they report meanwhile
			state, err := s.Site(site).Agent.State(context.Background())
			if err != nil {
				s.t.Fatal(err)
			}
			g.State = state
		}
	}
	return diagnose.Diagnose(k, p)
}

// Each fault is planted in a world of its own, and what is said of it is the fault: a table of
// what was planted and what was named. Nothing that is not there is sure.
func TestCausesAreNamed(t *testing.T) {
	if testing.Short() {
		t.Skip("it is run by itself, with the whole of the stand-ins")
	}
	only := os.Getenv("PLANT")
	turns := make(chan struct{}, 6)
	for _, f := range faults {
		if only != "" && !strings.Contains(f.name, only) {
			continue
		}
		t.Run(f.name, func(t *testing.T) {
			t.Parallel()
			turns <- struct{}{}
			defer func() { <-turns }()
			e := causesEstate(t)
			if f.misses > 0 {
				e.Overlays[0].Probe.Misses = f.misses
			}
			if f.interval > 0 {
				e.Overlays[0].Probe.IntervalMs = f.interval
			}
			s := stand(t, e)
			s.up(30 * time.Second)
			if f.do != nil {
				f.do(s)
			}
			time.Sleep(max(f.wait, 2*followEvery)) // routers beside gateways learn their routes meanwhile
			k := s.known(map[string]bool{"tarn": f.code == diagnose.OlderRelease})
			p := route.Packet{From: netip.MustParseAddr(f.from), To: netip.MustParseAddr(f.to), Protocol: f.protocol, Port: f.port}
			if p.Protocol == "" {
				p.Protocol = "icmp"
			}
			d := s.diagnosed(k, p)
			for try := 0; try < 4 && f.interval > 0 && d.Verdict == diagnose.Arrives; try++ {
				byHand("mill", func(*gateway.Config) {})(s) // its probes begin anew, at another moment
				time.Sleep(f.wait)
				k = s.known(nil)
				d = s.diagnosed(k, p)
			}
			if f.code == "" {
				if d.Verdict != diagnose.Arrives || len(d.Causes) > 0 {
					t.Errorf("nothing is wrong, and it says %s", told(d))
				}
				s.record(f.name, k, p)
				return
			}
			named(t, f, d)
			s.record(f.name, k, p)
			if f.do != nil && f.interval == 0 { // it is the same whoever asks; but who is behind NAT opens it by asking
				p.From, p.To = p.To, p.From
				named(t, f, s.diagnosed(k, p))
			}
		})
	}
}

// An evidence is what gateways said while a fault was planted.
type evidence struct {
	Estate   json.RawMessage     `json:"estate"`
	Packet   route.Packet        `json:"packet"`
	Gateways map[string]reported `json:"gateways"` // without what the design says
}

type reported struct {
	diagnose.Gateway
	Echoes []heard
}

type heard struct {
	Asked diagnose.Ask
	gateway.Echoed
}

// record writes what gateways said to the folder RECORD, where that is set: core/diagnose is tested
// on it by itself.
func (s *standing) record(name string, k *diagnose.Known, p route.Packet) {
	s.t.Helper()
	folder := os.Getenv("RECORD")
	if folder == "" {
		return
	}
	design, err := estate.WriteJSON(s.estate)
	if err != nil {
		s.t.Fatal(err)
	}
	out := evidence{design, p, map[string]reported{}}
	for site, g := range k.Gateways {
		one := reported{Gateway: *g}
		one.Wants = nil
		for asked, answer := range g.Echoes {
			one.Echoes = append(one.Echoes, heard{asked, answer})
		}
		slices.SortFunc(one.Echoes, func(a, b heard) int { return strings.Compare(fmt.Sprint(a.Asked), fmt.Sprint(b.Asked)) })
		out.Gateways[site] = one
	}
	text, err := json.Marshal(out)
	if err == nil {
		err = os.WriteFile(filepath.Join(folder, strings.NewReplacer(" ", "-", ",", "", "'", "").Replace(name)+".json"), append(text, '\n'), 0o644)
	}
	if err != nil {
		s.t.Fatal(err)
	}
}

// named checks what is said of a fault.
func named(t *testing.T, f planted, d *diagnose.Diagnosis) {
	t.Helper()
	if len(d.Causes) == 0 || d.Causes[0].Code != f.code || d.Causes[0].Site != f.site && f.code != diagnose.LargeLost || d.Causes[0].Sure != f.sure {
		t.Errorf("want %s at %s, %s:\n%s", f.code, f.site, f.sure, told(d))
	}
	for i, c := range d.Causes {
		if i > 0 && c.Sure == diagnose.Sure {
			t.Errorf("another cause is sure: %s", told(d))
		}
	}
	t.Log(told(d))
}

// told is a diagnosis in lines.
func told(d *diagnose.Diagnosis) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s, fails at %d\n", d.Verdict, d.Failing)
	for _, c := range d.Causes {
		fmt.Fprintf(&b, "  %s %s at %s %s %s: %s\n", c.Sure, c.Code, c.Site, c.Link, c.Tunnel, c.Words)
		for _, e := range c.Evidence {
			fmt.Fprintf(&b, "    %s\n", e)
		}
		fmt.Fprintf(&b, "    → %s\n", c.Repair.Words)
	}
	for i, s := range d.Steps {
		fmt.Fprintf(&b, "  %d %s: %s, %s\n", i, s.Verdict, s.Words, s.Said)
	}
	for _, u := range d.Unseen {
		fmt.Fprintf(&b, "  unseen: %s\n", u)
	}
	return b.String()
}

func causesEstate(t *testing.T) *estate.Estate {
	t.Helper()
	text, err := os.Open("testdata/causes.yaml")
	if err != nil {
		t.Fatal(err)
	}
	defer text.Close()
	e, _, err := estate.Read(text)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// The table in docs says what is planted and what is named, as the test above holds it.
func TestTheTableOfCauses(t *testing.T) {
	text, err := os.ReadFile("../../docs/watch.md")
	if err != nil {
		t.Fatal(err)
	}
	var want strings.Builder
	for _, f := range faults {
		code, sure := "nothing", "–"
		if f.code != "" {
			code, sure = "`"+string(f.code)+"`", string(f.sure)
		}
		fmt.Fprintf(&want, "| %s | %s | %s |\n", f.name, code, sure)
	}
	before, rest, _ := strings.Cut(string(text), "|---|---|---|\n")
	_, after, found := strings.Cut(rest, "<!-- end -->")
	if is := strings.TrimSuffix(rest, "<!-- end -->"+after); !found || is != want.String() {
		if os.Getenv("UPDATE") != "" {
			if err := os.WriteFile("../../docs/watch.md", []byte(before+"|---|---|---|\n"+want.String()+"<!-- end -->"+after), 0o644); err != nil {
				t.Fatal(err)
			}
			return
		}
		t.Errorf("docs/watch.md says something else than what is planted; run with UPDATE=1:\n%s", want.String())
	}
}
