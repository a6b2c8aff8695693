package tunnel

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"wideknot/core/addr"
	"wideknot/core/estate"
)

// A sketch is an estate in a few words: "hub a:static b:static@ring" is a site
// with two links; the words after the links are its subnets.
func sketch(t *testing.T, overlay estate.Overlay, sites ...string) *estate.Estate {
	t.Helper()
	e := &estate.Estate{Format: estate.Format, About: estate.About{Name: "sketch"}}
	for i, text := range sites {
		words := strings.Fields(text)
		site := estate.Site{Key: words[0], Name: words[0]}
		for j, word := range words[1:] {
			if strings.Contains(word, "/") {
				site.Subnets = append(site.Subnets, estate.Subnet{Prefix: netip.MustParsePrefix(word), Share: []string{overlay.Key}})
				continue
			}
			word, underlay, _ := strings.Cut(word, "@")
			key, reach, _ := strings.Cut(word, ":")
			link := estate.Link{Key: key, Reach: estate.Reach(strings.TrimSuffix(reach, "6")), Underlay: underlay, Rank: j + 1}
			address := netip.AddrFrom4([4]byte{203, 0, byte(113 + i/250), byte(1 + i%250)})
			if strings.HasSuffix(reach, "6") {
				address = netip.MustParseAddr(fmt.Sprintf("2001:db8::%x:%x", i+1, j+1))
				link.Families = []estate.Family{estate.V6}
			}
			switch link.Reach {
			case estate.Static:
				link.Addresses = []netip.Addr{address}
			case estate.Dynamic:
				link.Hostname = key + "." + site.Key + ".example.net"
			case estate.Forwarded:
				link.Outside = address
			}
			site.Links = append(site.Links, link)
		}
		e.Sites = append(e.Sites, site)
	}
	e.Overlays = []estate.Overlay{overlay}
	if problems := estate.Validate(e); len(problems) > 0 {
		t.Fatal(problems)
	}
	return e
}

func ops(hubs string, spokes ...string) estate.Overlay {
	o := estate.Overlay{Key: "ops", Shape: estate.HubAndSpoke, Transit: []netip.Prefix{netip.MustParsePrefix("100.96.0.0/16")}, Hubs: strings.Fields(hubs)}
	for _, s := range spokes {
		words := strings.Fields(s)
		o.Spokes = append(o.Spokes, estate.Spoke{Site: words[0], Hubs: words[1:]})
	}
	return o
}

// story lists an adjacency's tunnels as "linkA-linkB" with < or > for the end
// that can open it.
func story(p *Plan, a *Adjacency) string {
	var out []string
	for i := range a.Tunnels {
		t := &a.Tunnels[i]
		arrow := "-"
		if t.A.Calls {
			arrow += ">"
		}
		if t.B.Calls {
			arrow = "<" + arrow
		}
		out = append(out, p.Link(&t.A).Key+arrow+p.Link(&t.B).Key)
	}
	return strings.Join(out, " ")
}

func TestTunnelsOfAPair(t *testing.T) {
	matched, top2 := ops("h", "s"), ops("h", "s")
	matched.Pairing, top2.Pairing, top2.PairingLimit = estate.Matched, estate.TopN, 2
	six := ops("h", "s")
	six.Family = estate.V6
	for _, c := range []struct {
		name    string
		overlay estate.Overlay
		hub     string
		spoke   string
		want    string
	}{
		{"both static: either end opens", ops("h", "s"), "h a:static", "s x:static", "x<->a"},
		{"spoke behind NAT opens", ops("h", "s"), "h a:static", "s x:nat", "x->a"},
		{"hub behind NAT is called by nobody", ops("h", "s"), "h a:nat", "s x:static", "x<-a"},
		{"both behind NAT: no tunnel", ops("h", "s"), "h a:nat", "s x:nat", ""},
		{"dynamic and forwarded can be called", ops("h", "s"), "h a:dynamic b:forwarded", "s x:nat", "x->a x->b"},
		{"rank order: the spoke's link rank, then the hub's", ops("h", "s"), "h a:static b:static", "s x:static y:nat", "x<->a x<->b y->a y->b"},
		{"a private underlay pairs with itself only, and comes first", ops("h", "s"), "h a:static r:static@ring", "s x:nat q:static@ring", "q<->r x->a"},
		{"no address family in common", ops("h", "s"), "h a:static6", "s x:static", ""},
		{"IPv6 where IPv4 is not", ops("h", "s"), "h a:static6", "s x:static6", "x<->a"},
		{"matched: the best far link for each of the spoke's", matched, "h a:static b:static", "s x:static y:nat", "x<->a y->a"},
		{"top-n", top2, "h a:static b:static", "s x:static y:nat", "x<->a x<->b"},
		{"IPv6 asked for", six, "h a:static b:static6", "s x:static y:static6", "y<->b"},
	} {
		p := Derive(sketch(t, c.overlay, c.hub, c.spoke))
		a := &p.Overlays[0].Adjacencies[0]
		if got := story(p, a); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
		if len(a.Tunnels) == 0 && len(p.WhyApart(&p.Overlays[0], a)) == 0 {
			t.Errorf("%s: no reason given", c.name)
		}
	}
}

func TestTwelveTunnels(t *testing.T) {
	p := Derive(sketch(t, ops("h1 h2", "s"), "h1 a:static b:static", "h2 a:static b:static", "s x:static y:nat z:nat"))
	n := 0
	for _, a := range p.Overlays[0].Adjacencies {
		if a.Kind == ToHub {
			n += len(a.Tunnels)
		}
	}
	if n != 12 {
		t.Errorf("%d tunnels between the spoke and its hubs, want 12", n)
	}
}

func TestAdjacencies(t *testing.T) {
	sites := []string{"a l:static", "b l:static", "c l:static", "d l:static"}
	apart := ops("b a", "c", "d a")
	costly := ops("b a", "c")
	costly.Costs = &estate.Costs{HubStep: 7, HubHub: 500}
	apart.HubLinks = new(bool)
	custom := ops("b a", "c", "d a b")
	custom.Shape, custom.Direct = estate.Custom, [][]string{{"d", "c"}, {"c", "b"}}
	mesh := estate.Overlay{Key: "ops", Shape: estate.FullMesh, Spokes: []estate.Spoke{{Site: "c"}, {Site: "a"}, {Site: "b"}}}
	for _, c := range []struct {
		name    string
		overlay estate.Overlay
		want    string
	}{
		{"hub order of the overlay and of a spoke", ops("b a", "c", "d a b"), "a-b 10 hub-hub, c-b 100 to-hub, c-a 200 to-hub, d-a 100 to-hub, d-b 200 to-hub"},
		{"costs of its own", costly, "a-b 500 hub-hub, c-b 7 to-hub, c-a 14 to-hub"},
		{"hubs kept apart", apart, "c-b 100 to-hub, c-a 200 to-hub, d-a 100 to-hub"},
		{"direct pairs, none twice", custom, "a-b 10 hub-hub, c-b 100 to-hub, c-a 200 to-hub, d-a 100 to-hub, d-b 200 to-hub, c-d 50 direct"},
		{"full mesh", mesh, "a-c 50 direct, b-c 50 direct, a-b 50 direct"},
	} {
		p := Derive(sketch(t, c.overlay, sites...))
		var got []string
		for _, a := range p.Overlays[0].Adjacencies {
			got = append(got, fmt.Sprintf("%s-%s %d %s", p.Site(a.A).Key, p.Site(a.B).Key, a.Cost, a.Kind))
		}
		if strings.Join(got, ", ") != c.want {
			t.Errorf("%s:\n%s\nwant\n%s", c.name, strings.Join(got, ", "), c.want)
		}
	}
}

func TestMTU(t *testing.T) {
	for _, c := range []struct {
		transport estate.Transport
		family    estate.Family
		link      int
		natted    bool
		want      int
	}{
		{estate.WireGuard, estate.V4, 1500, false, 1440},
		{estate.WireGuard, estate.V6, 1500, false, 1420},
		{estate.WireGuard, estate.V4, 1492, true, 1432},
		{estate.IPsec, estate.V4, 1500, true, 1438},
		{estate.IPsec, estate.V4, 1500, false, 1446},
		{estate.IPsec, estate.V6, 1500, true, 1418},
	} {
		if got := MTU(c.transport, c.family, c.link, c.natted); got != c.want {
			t.Errorf("MTU(%v) = %d, want %d", c, got, c.want)
		}
	}
}

func TestMTUOfATunnelIsTheNarrowerLinks(t *testing.T) {
	e := sketch(t, ops("h", "s"), "h a:static 10.0.0.0/24", "s x:nat 10.0.1.0/24")
	e.Sites[1].Links[0].MTU = 1300
	p := Derive(e)
	if got := p.Overlays[0].Adjacencies[0].Tunnels[0]; got.MTU != 1240 || got.Wanted != 1240 {
		t.Errorf("IPv4 only: %d of %d", got.MTU, got.Wanted)
	}
	e.Sites[0].Subnets[0].Prefix = netip.MustParsePrefix("fd00::/64")
	if got := Derive(e).Overlays[0].Adjacencies[0].Tunnels[0]; got.MTU != 1280 || got.Wanted != 1240 {
		t.Errorf("with IPv6 inside: %d of %d", got.MTU, got.Wanted)
	}
}

func TestPeers(t *testing.T) {
	e := sketch(t, ops("h", "s", "u"), "h a:static 10.0.0.0/24", "s x:nat 10.0.1.0/24 10.0.2.0/24", "u y:forwarded z:dynamic 10.0.3.0/24")
	p := Derive(e)
	type view struct {
		endpoint  string
		keepalive int
		allowed   string
	}
	for _, c := range []struct {
		site string
		want []view
	}{
		{"h", []view{
			{"", 0, "100.96.0.1/32 10.0.1.0/24 10.0.2.0/24"},
			{"203.0.113.3:51820", 0, "100.96.0.3/32 10.0.3.0/24"},
			{"z.u.example.net:51821", 0, "100.96.0.5/32 10.0.3.0/24"},
		}},
		{"s", []view{{"203.0.113.1:51820", 25, "100.96.0.0/32 10.0.0.0/24 10.0.3.0/24 100.96.0.0/16"}}},
		{"u", []view{
			{"203.0.113.1:51821", 25, "100.96.0.2/32 10.0.0.0/23 10.0.2.0/24 100.96.0.0/16"},
			{"203.0.113.1:51822", 0, "100.96.0.4/32 10.0.0.0/23 10.0.2.0/24 100.96.0.0/16"},
		}},
	} {
		var got []view
		for _, peer := range p.Peers(p.SiteIndex(c.site)) {
			var allowed []string
			for _, prefix := range peer.Allowed() {
				allowed = append(allowed, prefix.String())
			}
			got = append(got, view{peer.Endpoint, peer.Keepalive, strings.Join(allowed, " ")})
		}
		if !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %+v\nwant %+v", c.site, got, c.want)
		}
	}
}

func TestKeepaliveOfTheOverlay(t *testing.T) {
	o := ops("h", "s")
	o.KeepaliveS = 40
	p := Derive(sketch(t, o, "h a:static 10.0.0.0/24", "s x:nat 10.0.1.0/24"))
	if hub, spoke := p.Peers(0)[0].Keepalive, p.Peers(1)[0].Keepalive; hub != 0 || spoke != 40 {
		t.Errorf("hub %d, spoke %d", hub, spoke)
	}
}

func TestPoolTooSmall(t *testing.T) {
	o := ops("h", "s", "u", "v")
	o.Transit = []netip.Prefix{netip.MustParsePrefix("100.96.0.0/30")}
	p := Derive(sketch(t, o, "h a:static 10.0.0.0/24", "s x:nat", "u x:nat", "v x:nat"))
	if p.Overlays[0].Starved != 1 {
		t.Errorf("%d tunnels starved, want 1", p.Overlays[0].Starved)
	}
	o.Transit = append(o.Transit, netip.MustParsePrefix("100.97.0.0/30"))
	if p := Derive(sketch(t, o, "h a:static 10.0.0.0/24", "s x:nat", "u x:nat", "v x:nat")); p.Overlays[0].Starved != 0 {
		t.Error("a second pool did not help")
	}
}

// What the overlay lists replaces the usual proposals, IKE's and ESP's apart.
func TestProposalsOfTheOverlay(t *testing.T) {
	o := ops("h", "s")
	o.Transport = estate.IPsec
	for _, c := range []estate.Crypto{{}, {IKE: []string{"ENCR_AES_GCM_16-256/PRF_HMAC_SHA2_384/384-bit-random-ECP"}}, {ESP: []string{"ENCR_AES_GCM_16-256/384-bit-random-ECP"}}} {
		o.Crypto = &c
		p := Derive(sketch(t, o, "h a:static 10.0.0.0/24", "s x:nat 10.0.1.0/24"))
		ike, esp := p.Proposals(&p.Overlays[0], &p.Overlays[0].Adjacencies[0])
		wantIKE, wantESP := DefaultIKE, DefaultESP
		if c.IKE != nil {
			wantIKE = c.IKE
		}
		if c.ESP != nil {
			wantESP = c.ESP
		}
		if !slices.Equal(ike, wantIKE) || !slices.Equal(esp, wantESP) {
			t.Errorf("%+v: %v, %v", c, ike, esp)
		}
	}
}

func TestProposals(t *testing.T) {
	for _, c := range []struct {
		name     string
		hub      []string
		spoke    []string
		ike, esp int
	}{
		{"both can do everything", nil, nil, 2, 2},
		{"one lists transforms of one proposal", []string{"ENCR_AES_GCM_16-128/PRF_HMAC_SHA2_256/Curve25519"}, nil, 1, 1},
		{"nothing in common", []string{"ENCR_AES_GCM_16-128/PRF_HMAC_SHA2_256/Curve25519"}, []string{"ENCR_AES_GCM_16-256/PRF_HMAC_SHA2_384/384-bit-random-ECP"}, 0, 0},
	} {
		o := ops("h", "s")
		o.Transport = estate.IPsec
		e := sketch(t, o, "h a:static 10.0.0.0/24", "s x:nat 10.0.1.0/24")
		e.Sites[0].Gateway.Proposals, e.Sites[1].Gateway.Proposals = c.hub, c.spoke
		p := Derive(e)
		ike, esp := p.Proposals(&p.Overlays[0], &p.Overlays[0].Adjacencies[0])
		if len(ike) != c.ike || len(esp) != c.esp {
			t.Errorf("%s: %v, %v", c.name, ike, esp)
		}
		a, b := p.SecurityAssociation(p.Ends(0)[0]), p.SecurityAssociation(p.Ends(1)[0])
		if a.Initiates || !b.Initiates || !a.UDPEncapsulation || a.LocalID != b.RemoteID || !slices.Equal(a.IKE, b.IKE) || a.LocalTS[0] != b.RemoteTS[0] {
			t.Errorf("%s: the ends do not mirror: %+v, %+v", c.name, a, b)
		}
	}
}

func TestPerSiteNumbering(t *testing.T) {
	o := ops("h", "s", "u")
	o.Numbering = estate.PerSite
	p := Derive(sketch(t, o, "h a:static b:static 10.0.0.0/24", "s x:nat", "u x:nat"))
	seen := map[string]netip.Prefix{}
	for i := range p.Estate.Sites {
		for _, peer := range p.Peers(i) {
			key := p.Site(i).Key
			if before, ok := seen[key]; ok && before != peer.Local.Address4 {
				t.Errorf("%s has %v and %v", key, before, peer.Local.Address4)
			}
			seen[key] = peer.Local.Address4
			if peer.Local.Address4.Bits() != 32 || peer.Local.Address4 == peer.Remote.Address4 {
				t.Errorf("%s: %v to %v", key, peer.Local.Address4, peer.Remote.Address4)
			}
		}
	}
}

var interfaceForm = regexp.MustCompile(`^[a-z0-9-]{1,15}$`)

// invariants checks what holds for every plan: nothing is given twice, the two
// ends mirror each other, names are valid.
func invariants(t *testing.T, p *Plan) {
	t.Helper()
	addresses := map[netip.Addr]string{}
	for site := range p.Estate.Sites {
		ports, names := map[int]bool{}, map[string]bool{}
		for _, used := range p.Site(site).Gateway.UsedPorts {
			ports[used] = true
		}
		own := p.Site(site).Shared("ops")
		for _, peer := range p.Peers(site) {
			if !interfaceForm.MatchString(peer.Interface) || strings.HasPrefix(peer.Interface, "-") || names[peer.Interface] {
				t.Errorf("%s: interface %q", p.Site(site).Key, peer.Interface)
			}
			if peer.Local.UDP == 0 || ports[peer.Local.UDP] {
				t.Errorf("%s: port %d", p.Site(site).Key, peer.Local.UDP)
			}
			names[peer.Interface], ports[peer.Local.UDP] = true, true
			if !peer.Local.Calls && !peer.Remote.Calls {
				t.Errorf("nobody can open %s", p.Ident(peer.Tunnel))
			}
			if (peer.Endpoint != "") != peer.Local.Calls {
				t.Errorf("%s: endpoint %q, calls %v", p.Ident(peer.Tunnel), peer.Endpoint, peer.Local.Calls)
			}
			if peer.Endpoint != "" && !strings.HasSuffix(peer.Endpoint, fmt.Sprintf(":%d", peer.Remote.UDP)) {
				t.Errorf("%s dials %s, but the far end listens on %d", peer.Interface, peer.Endpoint, peer.Remote.UDP)
			}
			if a := peer.Local.Address4.Addr(); a.IsValid() && p.Overlays[0].Spec.Numbering != estate.PerSite {
				if other, taken := addresses[a]; taken {
					t.Errorf("%v is given to %s and %s", a, other, p.Ident(peer.Tunnel))
				}
				addresses[a] = p.Ident(peer.Tunnel)
				if peer.Local.Address4.Masked() != peer.Remote.Address4.Masked() {
					t.Errorf("ends in different blocks: %v, %v", peer.Local.Address4, peer.Remote.Address4)
				}
			}
			for _, allowed := range peer.Allowed() {
				// Between hubs alone: what a hub hands back for want of a tunnel.
				betweenHubs := p.Overlays[0].IsHub(site) && p.Overlays[0].IsHub(peer.Remote.Site)
				if !betweenHubs && slices.ContainsFunc(own, allowed.Overlaps) {
					t.Errorf("%s: %v is allowed from %s, but is the site's own", p.Site(site).Key, allowed, peer.Interface)
				}
			}
			if !slices.Equal(peer.Allowed()[1:], addr.Aggregate(peer.Allowed()[1:])) {
				t.Errorf("%s: allowed prefixes are not aggregated: %v", peer.Interface, peer.Allowed())
			}
		}
	}
}

// TestStability edits random estates and checks that what stays keeps its
// addresses, ports and names, and that what comes back gets its own again.
func TestStability(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 10))
	for round := range 60 {
		e := randomEstate(t, r)
		switch round % 4 { // of every numbering and shape
		case 1:
			e.Overlays[0].Numbering = estate.PerSite
		case 2:
			e.Overlays[0].Shape = estate.FullMesh
		case 3:
			e.Overlays[0].Shape, e.Overlays[0].Numbering = estate.FullMesh, estate.PerSite
		}
		p := Derive(e)
		invariants(t, p)
		first := lots(p)
		for range 12 {
			before := lots(p)
			e = e.Clone()
			e.Allocations = p.Allocations()
			mutate(r, e)
			p = Derive(e)
			invariants(t, p)
			for ident, lot := range lots(p) {
				if was, stayed := before[ident]; stayed && was != lot {
					t.Fatalf("round %d: %s was %v and became %v", round, ident, was, lot)
				}
				if was, known := first[ident]; known && was != lot {
					t.Fatalf("round %d: %s came back as %v, was %v", round, ident, lot, was)
				}
			}
		}
		again := Derive(p.Estate)
		if !reflect.DeepEqual(again.Allocations(), p.Allocations()) {
			t.Fatal("deriving twice gives different allocations")
		}
	}
}

func lots(p *Plan) map[string]string {
	out := map[string]string{}
	for i := range p.Estate.Sites {
		for _, peer := range p.Peers(i) {
			out[p.Site(i).Key+" "+p.Ident(peer.Tunnel)] = fmt.Sprint(peer.Interface, peer.Local.UDP, peer.Local.Address4)
		}
	}
	return out
}

func randomEstate(t *testing.T, r *rand.Rand) *estate.Estate {
	o := ops("hub-one hub-two")
	sites := []string{"hub-one a:static b:static 10.0.0.0/24", "hub-two a:static 10.0.1.0/24"}
	for i := range 2 + r.IntN(8) {
		key := fmt.Sprintf("a-site-with-a-long-name-%d", i)
		links := []string{"x:nat", "x:static y:nat", "x:dynamic", "x:forwarded y:nat z:nat"}[r.IntN(4)]
		sites = append(sites, fmt.Sprintf("%s %s 10.1.%d.0/24", key, links, i))
		o.Spokes = append(o.Spokes, estate.Spoke{Site: key})
	}
	return sketch(t, o, sites...)
}

// mutate makes one random edit: a spoke leaves or comes, a link appears or
// goes, the hub order turns.
func mutate(r *rand.Rand, e *estate.Estate) {
	o := &e.Overlays[0]
	o.Spokes = slices.Clone(o.Spokes)
	switch r.IntN(5) {
	case 0:
		if len(o.Spokes) > 1 {
			at := r.IntN(len(o.Spokes))
			o.Spokes = slices.Delete(o.Spokes, at, at+1)
		}
	case 1:
		for _, s := range e.Sites[2:] {
			if !slices.ContainsFunc(o.Spokes, func(x estate.Spoke) bool { return x.Site == s.Key }) {
				o.Spokes = slices.Insert(o.Spokes, r.IntN(len(o.Spokes)+1), estate.Spoke{Site: s.Key})
				return
			}
		}
	case 2:
		s := &e.Sites[2+r.IntN(len(e.Sites)-2)]
		key := fmt.Sprintf("n%d", r.IntN(1000))
		if s.Link(key) != nil {
			return
		}
		s.Links = append(s.Links, estate.Link{Key: key, Reach: estate.NAT, Rank: 1 + r.IntN(4)})
	case 3:
		s := &e.Sites[2+r.IntN(len(e.Sites)-2)]
		if len(s.Links) > 1 {
			s.Links = s.Links[1:]
		}
	case 4:
		o.Spokes[r.IntN(len(o.Spokes))].Hubs = []string{"hub-two", "hub-one"}
	}
}

// Lifetimes are the overlay's where it gives them, else the usual ones.
func TestLifetimesOfTheOverlay(t *testing.T) {
	for _, c := range []struct{ ike, child, wantIKE, wantChild int }{{0, 0, DefaultIKELifetime, DefaultChildLifetime}, {300, 0, 300, DefaultChildLifetime}, {0, 300, DefaultIKELifetime, 300}, {7200, 900, 7200, 900}} {
		o := ops("h", "s")
		o.Transport, o.Crypto = estate.IPsec, &estate.Crypto{IKELifetimeS: c.ike, ChildLifetimeS: c.child}
		p := Derive(sketch(t, o, "h a:static 10.0.0.0/24", "s x:nat 10.0.1.0/24"))
		if sa := p.SecurityAssociation(p.Ends(0)[0]); sa.IKELifetime != c.wantIKE || sa.ChildLifetime != c.wantChild {
			t.Errorf("%+v: %d and %d s", c, sa.IKELifetime, sa.ChildLifetime)
		}
	}
}
