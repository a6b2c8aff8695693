package tunnel

import (
	"net/netip"
	"slices"
	"strings"

	"wideknot/core/estate"
)

// The proposals of an overlay that names none, and the lifetimes in seconds.
var (
	DefaultIKE = []string{"ENCR_AES_GCM_16-256/PRF_HMAC_SHA2_384/384-bit-random-ECP", "ENCR_AES_GCM_16-128/PRF_HMAC_SHA2_256/Curve25519"}
	DefaultESP = []string{"ENCR_AES_GCM_16-256/384-bit-random-ECP", "ENCR_AES_GCM_16-128/Curve25519"}
)

// The lifetimes of an overlay that names none, in seconds.
const (
	DefaultIKELifetime   = 28800
	DefaultChildLifetime = 3600
)

// Proposals intersects what the overlay offers with what both gateways can do,
// in the overlay's order, so that both ends have the same list. A gateway that
// lists nothing can do everything; one that lists transforms can do the
// proposals made of them.
func (p *Plan) Proposals(o *Overlay, a *Adjacency) (ike, esp []string) {
	ike, esp = DefaultIKE, DefaultESP
	if c := o.Spec.Crypto; c != nil {
		if len(c.IKE) > 0 {
			ike = c.IKE
		}
		if len(c.ESP) > 0 {
			esp = c.ESP
		}
	}
	for _, site := range []int{a.A, a.B} {
		ike = possible(ike, p.Site(site).Gateway.Proposals)
		esp = possible(esp, p.Site(site).Gateway.Proposals)
	}
	return ike, esp
}

func possible(offered, gateway []string) []string {
	if len(gateway) == 0 {
		return offered
	}
	var can []string
	for _, p := range gateway {
		can = append(can, strings.Split(p, "/")...)
	}
	var out []string
	for _, p := range offered {
		if !slices.ContainsFunc(strings.Split(p, "/"), func(name string) bool { return !slices.Contains(can, name) }) {
			out = append(out, p)
		}
	}
	return out
}

// An SA is one end's IPsec settings of a tunnel. The two ends mirror each
// other: what is local here is remote there, and all else is equal.
type SA struct {
	LocalID, RemoteID   string // fully qualified names made of the site and link keys
	Local, Remote       netip.Addr
	RemoteName          string // where the remote end is found when it has no fixed address
	Initiates           bool
	UDPEncapsulation    bool
	IKE, ESP            []string
	IKELifetime         int
	ChildLifetime       int
	LocalTS, RemoteTS   []netip.Prefix // traffic selectors
	InterfaceIdentifier int            // the end's slot: binds the SA to its interface
}

// SecurityAssociation derives the IPsec settings of one end of a tunnel of an
// ipsec overlay.
func (p *Plan) SecurityAssociation(e End) SA {
	o, a, t := p.At(e)
	local, remote := p.Sides(e)
	near, far := p.Link(local), p.Link(remote)
	sa := SA{
		LocalID: p.identity(local), RemoteID: p.identity(remote),
		Local: near.AddressOf(t.Family), Remote: far.AddressOf(t.Family),
		Initiates:           local.Calls,
		UDPEncapsulation:    near.Reach == estate.NAT || far.Reach == estate.NAT || near.Reach == estate.Forwarded || far.Reach == estate.Forwarded,
		IKELifetime:         DefaultIKELifetime,
		ChildLifetime:       DefaultChildLifetime,
		InterfaceIdentifier: local.Slot,
	}
	if far.Reach == estate.Dynamic {
		sa.RemoteName = far.Hostname
	}
	sa.IKE, sa.ESP = p.Proposals(o, a)
	if c := o.Spec.Crypto; c != nil {
		if c.IKELifetimeS > 0 {
			sa.IKELifetime = c.IKELifetimeS
		}
		if c.ChildLifetimeS > 0 {
			sa.ChildLifetime = c.ChildLifetimeS
		}
	}
	// Routes decide what enters a tunnel, so the selectors admit all of each
	// family that runs inside, at both ends alike.
	if o.Needs4 {
		sa.LocalTS, sa.RemoteTS = append(sa.LocalTS, all4), append(sa.RemoteTS, all4)
	}
	if o.Needs6 {
		sa.LocalTS, sa.RemoteTS = append(sa.LocalTS, all6), append(sa.RemoteTS, all6)
	}
	return sa
}

func (p *Plan) identity(end *Port) string {
	return p.Link(end).Key + "." + p.Site(end.Site).Key + ".gateway.internal"
}
