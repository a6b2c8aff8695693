// Package linux renders the configuration of a site's gateway for Linux: one
// WireGuard file per interface, batches for ip, rules for nft, sysctl lines,
// and the work for whoever runs the neighbouring router.
package linux

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"

	"wideknot/core/estate"
	"wideknot/core/render"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// Keys knows the secrets that go into bundles, in base64. A nil function leaves
// its kind out, and false one key.
type Keys struct {
	Private func(site string) (string, bool)
	Shared  func(overlay, tunnel string) (string, bool) // by the tunnel's ident
}

// NoKeys leaves all secrets out.
var NoKeys Keys

func (k Keys) private(site string) (string, bool) {
	if k.Private == nil {
		return "", false
	}
	return k.Private(site)
}

// presharedKey returns the pre-shared key of a tunnel; wanted is false when it has
// none.
func (b *bundle) presharedKey(peer *tunnel.Peer) (key string, known, wanted bool) {
	if !peer.Overlay.Spec.PresharedKeys {
		return "", false, false
	}
	if b.keys.Shared == nil {
		return "", false, true
	}
	key, known = b.keys.Shared(peer.Overlay.Spec.Key, b.plan.Ident(peer.Tunnel))
	return key, known, true
}

// Site renders the bundle of one site, in a folder named for it. The same plan
// gives the same bytes. It is empty for a site without tunnels of WireGuard: other
// tunnels, and routes into them, are left out (a finding says so). The error is
// of text that must not stand in a configuration.
func Site(m *route.Map, site int, keys Keys) ([]render.File, error) {
	b := &bundle{
		plan: m.Plan, routeMap: m, site: m.Plan.Site(site), index: site,
		peers: carried(m.Plan.Peers(site)), routes: withoutForeign(m, m.Table(site)), keys: keys,
	}
	if len(b.peers) == 0 {
		return nil, nil
	}
	b.marks = marksOf(b.site)
	b.extras = slices.Clone(m.Extras(site))
	for i := range b.extras {
		b.extras[i].Routes = withoutForeign(m, b.extras[i].Routes)
	}
	b.marked = m.Marked(site)
	folder := b.site.Key + "/"
	files := []render.File{{Path: folder + "README.txt", Text: b.readme()}}
	for i := range b.peers {
		files = append(files, render.File{Path: folder + "wg/" + b.peers[i].Interface + ".conf", Text: b.wireguard(&b.peers[i])})
	}
	files = append(files,
		render.File{Path: folder + "interfaces.ip", Text: b.interfaces()},
		render.File{Path: folder + "network.ip", Text: b.network()},
		render.File{Path: folder + "filter.nft", Text: b.filter()},
		render.File{Path: folder + "sysctl.conf", Text: b.sysctl()},
	)
	for _, f := range []struct {
		name string
		v4   bool
	}{{"rules.ip", true}, {"rules6.ip", false}} {
		if text := b.rules(f.v4); len(text) > 0 {
			files = append(files, render.File{Path: folder + f.name, Text: text})
		}
	}
	for _, t := range b.texts {
		if t.Err != nil {
			return nil, fmt.Errorf("site %s: %w", b.site.Key, t.Err)
		}
	}
	return files, nil
}

// carried leaves out the peers whose tunnels are none of WireGuard.
func carried(peers []tunnel.Peer) []tunnel.Peer {
	return slices.DeleteFunc(peers, func(p tunnel.Peer) bool { return p.Overlay.Spec.Transport == estate.IPsec })
}

// withoutForeign leaves out hops into tunnels that are none of WireGuard. What
// would go by these alone is discarded.
func withoutForeign(m *route.Map, routes []route.Route) []route.Route {
	foreign := func(h route.Hop) bool { return m.Plan.Overlays[h.End.Overlay].Spec.Transport == estate.IPsec }
	out := slices.Clone(routes)
	for i := range out {
		r := &out[i]
		if !slices.ContainsFunc(r.Hops, foreign) {
			continue
		}
		if r.Hops = slices.DeleteFunc(slices.Clone(r.Hops), foreign); len(r.Hops) == 0 {
			r.Kind = route.Cut
		}
	}
	return out
}

type bundle struct {
	plan   *tunnel.Plan
	site   *estate.Site
	index  int
	peers  []tunnel.Peer
	routes []route.Route
	marks  map[string]int // link → packet mark and routing table, where links need them
	keys   Keys

	extras   []route.Extra
	marked   [][]string
	routeMap *route.Map
	texts    []*render.Text
}

// text begins a file.
func (b *bundle) text() *render.Text {
	t := &render.Text{}
	b.texts = append(b.texts, t)
	return t
}

// firstMark is the mark and the number of the routing table of a site's first
// link; the others follow.
const firstMark = 8400

// firstExtra is the number of the first of the tables that route.Extras lists,
// and the priority of its rules; the others follow, in their order.
const firstExtra = 8600

// firstAnswer is the mark of flows that came by the first of some tunnels that
// share the load.
const firstAnswer = 8500

// marksOf gives each link a mark when the site has several and says how each
// is left: a tunnel's own packets must leave by the link it was made for.
func marksOf(s *estate.Site) map[string]int {
	marks := map[string]int{}
	for i := range s.Links {
		if s.Links[i].Device != "" && len(s.Links[i].NextHop) > 0 {
			marks[s.Links[i].Key] = firstMark + i
		}
	}
	if len(s.Links) < 2 {
		clear(marks)
	}
	return marks
}

func (b *bundle) heading(t *render.Text, comment, what string) {
	t.Str(comment).Str(" ").Word(b.site.Key).Str(": ").Line(what)
	t.Str(comment).Line(" Written by Wide Knot from the design; changes made here are lost with the next release.")
}

func (b *bundle) wireguard(peer *tunnel.Peer) []byte {
	t := b.text()
	local, remote := b.plan.Link(peer.Local), b.plan.Link(peer.Remote)
	b.heading(t, "#", "tunnel interface "+peer.Interface)
	t.Str("# ").Word(peer.Overlay.Spec.Key).Str(", choice ").Num(peer.Rank).Str(" of ").Num(len(peer.Adjacency.Tunnels)).
		Str(": ").Word(b.site.Key).Str("/").Word(local.Key).Str(" to ").
		Word(b.plan.Site(peer.Remote.Site).Key).Str("/").Word(remote.Key).End()
	t.Line("[Interface]")
	if key, ok := b.keys.private(b.site.Key); ok {
		t.Str("PrivateKey = ").Word(key).End()
	} else {
		t.Line("# The private key is not in this bundle; see README.txt.")
	}
	t.Str("ListenPort = ").Num(peer.Local.UDP).End()
	if mark, ok := b.marks[local.Key]; ok {
		t.Str("FwMark = ").Num(mark).End()
	}
	t.End().Line("[Peer]")
	t.Str("PublicKey = ").Word(peer.PublicKey).End()
	if key, known, wanted := b.presharedKey(peer); known {
		t.Str("PresharedKey = ").Word(key).End()
	} else if wanted {
		t.Line("# The pre-shared key is not in this bundle; see README.txt.")
	}
	t.Str("AllowedIPs = ")
	for i, prefix := range peer.Allowed {
		if i > 0 {
			t.Str(", ")
		}
		t.Prefix(prefix)
	}
	t.End()
	if peer.Endpoint != "" {
		t.Str("Endpoint = ").Word(peer.Endpoint).End()
	}
	if peer.Keepalive > 0 {
		t.Str("PersistentKeepalive = ").Num(peer.Keepalive).End()
	}
	return t.Bytes
}

func (b *bundle) interfaces() []byte {
	t := b.text()
	b.heading(t, "#", "the tunnel interfaces, for ip -batch")
	for i := range b.peers {
		t.Str("link add dev ").Word(b.peers[i].Interface).Line(" type wireguard")
	}
	return t.Bytes
}

func (b *bundle) network() []byte {
	t := b.text()
	b.heading(t, "#", "addresses, MTU and routes, for ip -batch")
	for i := range b.peers {
		peer := &b.peers[i]
		for _, address := range []netip.Prefix{peer.Local.Address4, peer.Local.Address6} {
			if address.IsValid() {
				t.Str("address replace ").Prefix(address).Str(" dev ").Word(peer.Interface).End()
			}
		}
		t.Str("link set dev ").Word(peer.Interface).Str(" mtu ").Num(peer.Tunnel.MTU).Line(" up")
	}
	for i := range b.peers {
		peer := &b.peers[i]
		if peer.Overlay.Spec.Numbering != estate.PerSite {
			continue
		}
		for _, far := range []netip.Prefix{peer.Remote.Address4, peer.Remote.Address6} {
			if far.IsValid() {
				t.Str("route replace ").Prefix(far).Str(" dev ").Word(peer.Interface).Str(" metric ").Num(100 + 10*(peer.Rank-1)).End()
			}
		}
	}
	for i := range b.routes {
		if b.routes[i].Kind != route.Breakout { // those are among the extras
			b.writeRoute(t, &b.routes[i], 0)
		}
	}
	for i := range b.extras {
		for j := range b.extras[i].Routes {
			b.writeRoute(t, &b.extras[i].Routes[j], firstExtra+i)
		}
	}
	return t.Bytes
}

// writeRoute writes a route with all its hops and the discard route behind
// them, into the main table or the one given.
func (b *bundle) writeRoute(t *render.Text, r *route.Route, table int) {
	in := func() { // ip takes it before next hops only
		if table > 0 {
			t.Str(" table ").Num(table)
		}
	}
	if r.Link != nil {
		t.Str("route replace ").Prefix(r.Prefix).Str(" via ").Addr(r.NextHop).Str(" dev ").Word(r.Link.Device)
		in()
		t.End()
	}
	for hops := r.Hops; len(hops) > 0; {
		n := route.Sharing(hops)
		t.Str("route replace ").Prefix(r.Prefix)
		if n == 1 {
			t.Str(" dev ").Word(hops[0].Interface)
		}
		t.Str(" metric ").Num(hops[0].Metric)
		in()
		for i := 0; n > 1 && i < n; i++ {
			b.nextHop(t, &hops[i], r.Prefix.Addr().Is4())
		}
		t.End()
		hops = hops[n:]
	}
	if r.Discards() {
		t.Str("route replace blackhole ").Prefix(r.Prefix).Str(" metric ").Num(route.DiscardMetric)
		in()
		t.End()
	}
}

// nextHop writes one of several hops that share the load. IPv6 takes no next hop
// without an address (ip-route(8)); that of the far end is as good as any.
func (b *bundle) nextHop(t *render.Text, h *route.Hop, v4 bool) {
	t.Str(" nexthop")
	_, remote := b.plan.Sides(h.End)
	if !v4 && remote.Address6.IsValid() {
		t.Str(" via ").Addr(remote.Address6.Addr())
	}
	t.Str(" dev ").Word(h.Interface).Str(" weight ").Num(h.Weight)
}

// rules sends packets into the routing table that is meant for them: a
// tunnel's own packets, by their mark, into the one that leaves by its link; and
// what route.Extras names into the table made for it.
func (b *bundle) rules(v4 bool) []byte {
	t := b.text()
	command := "ip -force -batch rules.ip"
	if !v4 {
		command = "ip -6 -force -batch rules6.ip"
	}
	b.heading(t, "#", "which packets use which routing table, for "+command)
	empty := len(t.Bytes)
	for i := range b.site.Links {
		l := &b.site.Links[i]
		mark, ok := b.marks[l.Key]
		if !ok {
			continue
		}
		for _, hop := range l.NextHop {
			if hop.Is4() != v4 {
				continue
			}
			table := strconv.Itoa(mark)
			t.Str("route replace default via ").Addr(hop).Str(" dev ").Word(l.Device).Str(" table ").Line(table)
			t.Str("rule add fwmark ").Str(table).Str(" lookup ").Str(table).Str(" priority ").Line(table)
		}
	}
	exits := false
	for i := range b.extras {
		x := &b.extras[i]
		if !slices.ContainsFunc(x.Routes, func(r route.Route) bool { return r.Prefix.Addr().Is4() == v4 }) {
			continue
		}
		if x.Last && !exits {
			exits = true
			t.Str("rule add lookup main suppress_prefixlength 0 priority ").Num(firstExtra + i).End()
		}
		b.extraRules(t, i, v4)
	}
	if len(t.Bytes) == empty {
		return nil
	}
	return t.Bytes
}

// extraRules sends packets into the table of an extra. Those asked last leave
// room for the rule before them.
func (b *bundle) extraRules(t *render.Text, i int, v4 bool) {
	x := &b.extras[i]
	priority := firstExtra + i
	if x.Last {
		priority++
	}
	rule := func() *render.Text {
		t.Str("rule add")
		if x.Place > 0 {
			t.Str(" fwmark ").Num(firstAnswer + x.Place - 1)
		}
		return t
	}
	into := func() { t.Str(" lookup ").Num(firstExtra + i).Str(" priority ").Num(priority).End() }
	for _, name := range x.Arriving {
		rule().Str(" iif ").Word(name)
		into()
	}
	for _, prefix := range x.From {
		if prefix.Addr().Is4() == v4 {
			rule().Str(" from ").Prefix(prefix)
			into()
		}
	}
	if len(x.Arriving)+len(x.From) == 0 {
		rule()
		into()
	}
}

func (b *bundle) sysctl() []byte {
	t := b.text()
	b.heading(t, "#", "kernel settings, for sysctl -p")
	t.Line("net.ipv4.ip_forward = 1")
	for i := range b.peers {
		if b.peers[i].Overlay.Needs6 {
			t.Line("net.ipv6.conf.all.forwarding = 1")
			break
		}
	}
	if len(b.marks) > 0 {
		t.Line("net.ipv4.conf.all.src_valid_mark = 1")
	}
	if len(b.marked) > 0 {
		// A flow keeps to one of the tunnels that share the load.
		t.Line("net.ipv4.fib_multipath_hash_policy = 1")
		t.Line("net.ipv6.fib_multipath_hash_policy = 1")
	}
	// Who may send what by a tunnel is known by its key. A filter of reverse paths
	// would refuse what comes by a backup while both ends switch, and what a hub
	// hands back; so would the wish to tell of a shorter way.
	t.Line("net.ipv4.conf.all.send_redirects = 0")
	for i := range b.peers {
		t.Str("net.ipv4.conf.").Word(b.peers[i].Interface).Line(".rp_filter = 0")
		t.Str("net.ipv4.conf.").Word(b.peers[i].Interface).Line(".send_redirects = 0")
	}
	return t.Bytes
}
