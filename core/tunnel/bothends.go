package tunnel

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wideknot/core/estate"
)

// BothEnds is a tunnel as one sheet of two columns.
type BothEnds struct {
	Overlay string    `json:"overlay"`
	Tunnel  string    `json:"tunnel"`
	Rank    int       `json:"rank"`
	Of      int       `json:"of"`
	Share   *Share    `json:"share,omitempty"`
	A       string    `json:"a"`
	B       string    `json:"b"`
	Lines   []EndLine `json:"lines"`
}

// EndLine is one parameter at both ends. Mirror says how the two belong
// together; Wrong what is the matter when they do not.
type EndLine struct {
	What   string `json:"what"`
	A      string `json:"a"`
	B      string `json:"b"`
	Mirror string `json:"mirror" doc:"same, crossed (A's is what B was told of A), or own"`
	Wrong  string `json:"wrong"`
}

// BothEnds lays the two ends of a tunnel side by side; false when there is no
// such tunnel.
func (p *Plan) BothEnds(overlay, ident string) (BothEnds, bool) {
	for site := range p.Estate.Sites {
		for _, peer := range p.Peers(site) {
			if peer.Overlay.Spec.Key != overlay || p.Ident(peer.Tunnel) != ident || peer.Local != &peer.Tunnel.A {
				continue
			}
			for _, far := range p.Peers(peer.Remote.Site) {
				if far.Tunnel == peer.Tunnel {
					return p.sheet(overlay, ident, &peer, &far), true
				}
			}
		}
	}
	return BothEnds{}, false
}

// A pairing collects the lines of a sheet.
type pairing struct {
	plan         *Plan
	a, b         *Peer
	linkA, linkB *estate.Link
	lines        []EndLine
}

func (s *pairing) add(what string, x, y any, mirror, wrong string) {
	s.lines = append(s.lines, EndLine{what, fmt.Sprint(x), fmt.Sprint(y), mirror, wrong})
}

func unless(good bool, wrong string) string {
	if good {
		return ""
	}
	return wrong
}

func listOf[T fmt.Stringer](list []T) string {
	text := ""
	for i, q := range list {
		if i > 0 {
			text += "\n"
		}
		text += q.String()
	}
	return text
}

func addressesOf(port *Port) string { return listOf(validOf(port.Address4, port.Address6)) }

func (p *Plan) sheet(overlay, ident string, a, b *Peer) BothEnds {
	s := &pairing{plan: p, a: a, b: b, linkA: p.Link(a.Local), linkB: p.Link(b.Local)}
	opens := func(calls bool) string {
		return map[bool]string{true: "initiator", false: "responder"}[calls]
	}
	s.add("WAN link", s.linkA.Key+" ("+s.linkA.Provider+")", s.linkB.Key+" ("+s.linkB.Provider+")", "own", "")
	s.add("reach", s.linkA.Reach, s.linkB.Reach, "own", unless(s.linkA.Reach.Callable() || s.linkB.Reach.Callable(), "neither end is reachable"))
	s.add("underlay", s.linkA.UnderlayOf(), s.linkB.UnderlayOf(), "same", unless(s.linkA.UnderlayOf() == s.linkB.UnderlayOf(), "the links attach to different underlays"))
	s.add("role", opens(a.Local.Calls), opens(b.Local.Calls), "own", unless(a.Local.Calls || b.Local.Calls, "neither end can initiate it"))
	s.add("interface", a.Interface, b.Interface, "own", "")
	if a.Overlay.Spec.Transport == estate.IPsec {
		s.ipsec()
	} else {
		s.wireguard()
	}
	s.add("outside IP version", a.Tunnel.Family, b.Tunnel.Family, "same", "")
	s.add("MTU of the link", s.linkA.MTUOf(), s.linkB.MTUOf(), "own", "")
	s.add("MTU in the tunnel", a.Tunnel.MTU, b.Tunnel.MTU, "same", unless(a.Tunnel.Wanted >= a.Tunnel.MTU, fmt.Sprintf("the links leave only %d bytes", a.Tunnel.Wanted)))
	best, detect, back := a.Overlay.Spec.Probe.Times()
	noticed := fmt.Sprintf("after %.3g to %.3g s", best, detect)
	s.add("declared down", noticed, noticed, "same", "")
	returns := fmt.Sprintf("after %.3g s", back)
	s.add("declared up", returns, returns, "same", "")
	if a.Overlay.Spec.Transport != estate.IPsec { // last, as they are long
		s.add("allowed prefixes", listOf(a.Allowed()), listOf(b.Allowed()), "own", "")
	}
	return BothEnds{
		Overlay: overlay, Tunnel: ident, Rank: a.Rank, Of: len(a.Adjacency.Tunnels), Share: a.Adjacency.Share(a.Rank - 1),
		A: p.Site(a.Local.Site).Key, B: p.Site(b.Local.Site).Key, Lines: s.lines,
	}
}

// address is the tunnel's own, on either transport.
func (s *pairing) address() {
	s.add("address in the tunnel", addressesOf(s.a.Local), addressesOf(s.b.Local), "own", unless(len(validOf(s.a.Local.Address4, s.a.Local.Address6)) > 0, "the transit pool has no room for it"))
}

func (s *pairing) wireguard() {
	a, b, p := s.a, s.b, s.plan
	s.add("listens on UDP port", a.Local.UDP, b.Local.UDP, "crossed", "")
	s.add("endpoint", orNone(a.Endpoint), orNone(b.Endpoint), "crossed", unless(dials(a) && dials(b), "an initiating end has no endpoint to connect to"))
	s.address()
	s.add("own public key", orNone(p.PublicKey(a.Local.Site)), orNone(p.PublicKey(b.Local.Site)), "crossed", "")
	s.add("the peer's public key", orNone(a.PublicKey), orNone(b.PublicKey), "crossed",
		unless(a.PublicKey != "" && b.PublicKey != "" && a.PublicKey == p.PublicKey(b.Local.Site) && b.PublicKey == p.PublicKey(a.Local.Site), "an end does not have the other's key"))
	psk := map[bool]string{true: "one for this tunnel", false: "none"}[a.Overlay.Spec.PresharedKeys]
	s.add("pre-shared key", psk, psk, "same", "")
	s.add("keepalive", seconds(a.Keepalive), seconds(b.Keepalive), "own", "")
}

// ipsec lists the settings of the two security associations.
func (s *pairing) ipsec() {
	end := s.plan.endOf(s.a)
	x := s.plan.SecurityAssociation(end)
	end.AtA = !end.AtA
	y := s.plan.SecurityAssociation(end)
	at := func(address netip.Addr, name, none string) string {
		switch {
		case name != "":
			return name
		case address.IsValid():
			return address.String()
		}
		return none
	}
	s.add("own identity", x.LocalID, y.LocalID, "crossed", "")
	s.add("the peer's identity", x.RemoteID, y.RemoteID, "crossed", unless(x.LocalID == y.RemoteID && y.LocalID == x.RemoteID, "an end expects another identity"))
	s.add("own address outside", at(x.Local, "", "whatever the link has"), at(y.Local, "", "whatever the link has"), "crossed", "")
	s.add("the peer's address", at(x.Remote, x.RemoteName, "any"), at(y.Remote, y.RemoteName, "any"), "crossed", "")
	s.address()
	s.add("pre-shared key", "one for this tunnel", "one for this tunnel", "same", "")
	s.add("IKE proposals", strings.Join(x.IKE, "\n"), strings.Join(y.IKE, "\n"), "same", unless(len(x.IKE) > 0, "the gateways have none in common"))
	s.add("ESP proposals", strings.Join(x.ESP, "\n"), strings.Join(y.ESP, "\n"), "same", unless(len(x.ESP) > 0, "the gateways have none in common"))
	s.add("IKE SA is rekeyed", seconds(x.IKELifetime), seconds(y.IKELifetime), "same", "")
	s.add("child SA is rekeyed", seconds(x.ChildLifetime), seconds(y.ChildLifetime), "same", "")
	udp := map[bool]string{true: "always", false: "where a NAT is met"}
	s.add("UDP encapsulation", udp[x.UDPEncapsulation], udp[y.UDPEncapsulation], "same", "")
	s.add("local traffic selectors", listOf(x.LocalTS), listOf(y.LocalTS), "crossed", "")
	s.add("remote traffic selectors", listOf(x.RemoteTS), listOf(y.RemoteTS), "crossed", unless(slices.Equal(x.LocalTS, y.RemoteTS) && slices.Equal(x.RemoteTS, y.LocalTS), "the selectors do not mirror"))
	s.add("interface id", x.InterfaceIdentifier, y.InterfaceIdentifier, "own", "")
}

// endOf is the end of a tunnel that a peer is the view of.
func (p *Plan) endOf(peer *Peer) End {
	for _, e := range p.Ends(peer.Local.Site) {
		if _, _, t := p.At(e); t == peer.Tunnel {
			return e
		}
	}
	return End{}
}

// dials reports whether an end that opens the tunnel knows where to call.
func dials(p *Peer) bool { return !p.Local.Calls || p.Endpoint != "" }

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func seconds(n int) string {
	if n == 0 {
		return "none"
	}
	return fmt.Sprintf("every %d s", n)
}

func validOf(prefixes ...netip.Prefix) []netip.Prefix {
	out := []netip.Prefix{}
	for _, p := range prefixes {
		if p.IsValid() {
			out = append(out, p)
		}
	}
	return out
}
