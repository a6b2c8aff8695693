package tunnel

import (
	"fmt"
	"net/netip"
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

func (p *Plan) sheet(overlay, ident string, a, b *Peer) BothEnds {
	out := BothEnds{Overlay: overlay, Tunnel: ident, Rank: a.Rank, Of: len(a.Adjacency.Tunnels), Share: a.Adjacency.Share(a.Rank - 1), A: p.Site(a.Local.Site).Key, B: p.Site(b.Local.Site).Key}
	linkA, linkB := p.Link(a.Local), p.Link(b.Local)
	add := func(what string, x, y any, mirror, wrong string) {
		out.Lines = append(out.Lines, EndLine{what, fmt.Sprint(x), fmt.Sprint(y), mirror, wrong})
	}
	unless := func(good bool, wrong string) string {
		if good {
			return ""
		}
		return wrong
	}
	listOf := func(list []netip.Prefix) string {
		text := ""
		for i, q := range list {
			if i > 0 {
				text += "\n"
			}
			text += q.String()
		}
		return text
	}
	opens := func(calls bool) string {
		return map[bool]string{true: "initiator", false: "responder"}[calls]
	}
	addresses := func(port *Port) string { return listOf(validOf(port.Address4, port.Address6)) }
	add("WAN link", linkA.Key+" ("+linkA.Provider+")", linkB.Key+" ("+linkB.Provider+")", "own", "")
	add("reach", linkA.Reach, linkB.Reach, "own", unless(linkA.Reach.Callable() || linkB.Reach.Callable(), "neither end is reachable"))
	add("underlay", linkA.UnderlayOf(), linkB.UnderlayOf(), "same", unless(linkA.UnderlayOf() == linkB.UnderlayOf(), "the links attach to different underlays"))
	add("role", opens(a.Local.Calls), opens(b.Local.Calls), "own", unless(a.Local.Calls || b.Local.Calls, "neither end can initiate it"))
	add("interface", a.Interface, b.Interface, "own", "")
	add("listens on UDP port", a.Local.UDP, b.Local.UDP, "crossed", "")
	add("endpoint", orNone(a.Endpoint), orNone(b.Endpoint), "crossed", unless(dials(a) && dials(b), "an initiating end has no endpoint to connect to"))
	add("address in the tunnel", addresses(a.Local), addresses(b.Local), "own", unless(len(validOf(a.Local.Address4, a.Local.Address6)) > 0, "the transit pool has no room for it"))
	add("own public key", orNone(p.PublicKey(a.Local.Site)), orNone(p.PublicKey(b.Local.Site)), "crossed", "")
	add("the peer's public key", orNone(a.PublicKey), orNone(b.PublicKey), "crossed",
		unless(a.PublicKey != "" && b.PublicKey != "" && a.PublicKey == p.PublicKey(b.Local.Site) && b.PublicKey == p.PublicKey(a.Local.Site), "an end does not have the other's key"))
	psk := map[bool]string{true: "one for this tunnel", false: "none"}[a.Overlay.Spec.PresharedKeys]
	add("pre-shared key", psk, psk, "same", "")
	add("outside IP version", a.Tunnel.Family, b.Tunnel.Family, "same", "")
	add("MTU of the link", linkA.MTUOf(), linkB.MTUOf(), "own", "")
	add("MTU in the tunnel", a.Tunnel.MTU, b.Tunnel.MTU, "same", unless(a.Tunnel.Wanted >= a.Tunnel.MTU, fmt.Sprintf("the links leave only %d bytes", a.Tunnel.Wanted)))
	add("keepalive", seconds(a.Keepalive), seconds(b.Keepalive), "own", "")
	best, detect, back := a.Overlay.Spec.Probe.Times()
	noticed := fmt.Sprintf("after %.3g to %.3g s", best, detect)
	add("declared down", noticed, noticed, "same", "")
	returns := fmt.Sprintf("after %.3g s", back)
	add("declared up", returns, returns, "same", "")
	add("allowed prefixes", listOf(a.Allowed()), listOf(b.Allowed()), "own", "")
	return out
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
