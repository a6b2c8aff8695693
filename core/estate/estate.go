// Package estate holds the design document: an organisation's sites, their WAN
// links and subnets, and the overlays that join them. It reads and writes the
// document and the spreadsheets, and says what is wrong with them and where.
package estate

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"
	"strings"
)

// Format is the document format this package reads and writes.
const Format = 1

// An Estate is one organisation's whole network, as one document describes it.
type Estate struct {
	Format      int         `json:"wideknot"`
	About       About       `json:"estate"`
	Sites       []Site      `json:"sites" max:"10000"`
	Overlays    []Overlay   `json:"overlays" max:"64"`
	Allocations Allocations `json:"allocations"`
}

// About names the estate and its regions.
type About struct {
	Name    string   `json:"name"`
	Regions []Region `json:"regions,omitempty" max:"1000"`
	// Underlays names the address blocks of private underlays, such as a
	// carrier's WAN, so that nothing inside an overlay takes them too.
	Underlays []Region `json:"underlays,omitempty" max:"256"`
	// Reserved are blocks kept for something to come: nothing new is offered
	// out of them.
	Reserved []Reservation `json:"reserved,omitempty" max:"4096"`
	// Shed lists zones in the order in which they are shed where a link that is
	// left has no room for all. Zones not listed give way last, together.
	Shed []string `json:"shed,omitempty" max:"256"`
}

// A Reservation is a block kept for something.
type Reservation struct {
	Prefix netip.Prefix `json:"prefix"`
	For    string       `json:"for"`
}

// A Region is a part of the estate with address blocks of its own, from which
// new subnets of its sites are taken.
type Region struct {
	Key    string         `json:"key"`
	Blocks []netip.Prefix `json:"blocks,omitempty" max:"256"`
}

// A Site is a place with one gateway.
type Site struct {
	Key        string   `json:"key"`
	Name       string   `json:"name"`
	Region     string   `json:"region,omitempty"`
	DemandMbps float64  `json:"demand_mbps,omitempty"`
	Gateway    Gateway  `json:"gateway,omitzero"`
	Links      []Link   `json:"links,omitempty" max:"32"`
	Subnets    []Subnet `json:"subnets,omitempty" max:"50000"`
}

// A Gateway is the device that ends a site's tunnels. An empty Placement means
// inline, an empty Target linux, a zero limit no limit, and a zero ListenPort
// DefaultListenPort.
type Gateway struct {
	Placement      Placement   `json:"placement,omitempty"`
	Target         Target      `json:"target,omitempty"`
	MaxTunnels     int         `json:"max_tunnels,omitempty"`
	ThroughputMbps float64     `json:"throughput_mbps,omitempty"`
	Transports     []Transport `json:"transports,omitempty" max:"8"`
	LANDevice      string      `json:"lan_device,omitempty"`
	LANAddress     netip.Addr  `json:"lan_address,omitzero"`
	Upstream       netip.Addr  `json:"upstream,omitzero"`
	LANAddress6    netip.Addr  `json:"lan_address6,omitzero"` // the same two, where the first are of IPv4 and IPv6 is used too
	Upstream6      netip.Addr  `json:"upstream6,omitzero"`
	ListenPort     int         `json:"listen_port,omitempty"`
	UsedPorts      []int       `json:"used_ports,omitempty" max:"1024"`
	PublicKey      string      `json:"public_key,omitempty"`
	Proposals      []string    `json:"proposals,omitempty" max:"64"` // what its IPsec can do; empty means anything
	ClockSkewS     float64     `json:"clock_skew_s,omitempty"`
	Switches       bool        `json:"switches,omitempty"` // something on it watches its tunnels and takes dead ones out of use; see SwitchesItself
}

// DefaultListenPort is where the numbering of a gateway's UDP ports starts.
const DefaultListenPort = 51820

// A Subnet is an IPv4 or IPv6 prefix on a site's LAN. Share lists the overlays
// it takes part in; Map, when set, is the prefix of equal length that stands
// for it there.
type Subnet struct {
	Prefix netip.Prefix `json:"prefix"`
	Zone   string       `json:"zone,omitempty"`
	Name   string       `json:"name,omitempty"`
	Share  []string     `json:"share,omitempty" max:"256"`
	Map    netip.Prefix `json:"map,omitzero"`
}

// An Overlay is a named set of tunnels with one purpose.
type Overlay struct {
	Key          string         `json:"key"`
	Shape        Shape          `json:"shape"`
	Transport    Transport      `json:"transport,omitempty"`
	Transit      []netip.Prefix `json:"transit,omitempty" max:"8"`
	Family       Family         `json:"family,omitempty"`
	Numbering    Numbering      `json:"numbering,omitempty"`
	Pairing      Pairing        `json:"pairing,omitempty"`
	PairingLimit int            `json:"pairing_limit,omitempty"`
	Hubs         []string       `json:"hubs,omitempty" max:"256"`
	HubLinks     *bool          `json:"hub_links,omitempty"`
	HubsTell     bool           `json:"hubs_tell,omitempty"` // by gateways' own program: which sites they reach
	Spokes       []Spoke        `json:"spokes,omitempty" max:"10000"`
	Direct       [][]string     `json:"direct,omitempty" max:"50000 2"`
	Costs        *Costs         `json:"costs,omitempty"`
	KeepaliveS   int            `json:"keepalive_s,omitempty"` // of ends behind NAT that call; 0 means 25
	TunnelOrder  []PairOrder    `json:"tunnel_order,omitempty" max:"50000"`
	Pins         []Pin          `json:"pins,omitempty" max:"10000"`
	// PresharedKeys gives each tunnel a secret of its own that both ends know,
	// besides their key pairs.
	PresharedKeys bool      `json:"preshared_keys,omitempty"`
	Crypto        *Crypto   `json:"crypto,omitempty"`
	Breakout      *Breakout `json:"breakout,omitempty"`
	Probe         *Probe    `json:"probe,omitempty"`
	Policy        *Policy   `json:"policy,omitempty"`
}

// A Spoke is a member of an overlay that is not a hub. Hubs is its own hub
// order; empty means the overlay's.
type Spoke struct {
	Site string   `json:"site"`
	Hubs []string `json:"hubs,omitempty" max:"256"`
}

// Costs replace the costs of adjacencies where they are not zero: HubStep, times
// the hub's place in the spoke's list (100), between hubs (10), and of direct
// pairs (50).
type Costs struct {
	HubStep int `json:"hub_step,omitempty"`
	HubHub  int `json:"hub_hub,omitempty"`
	Direct  int `json:"direct,omitempty"`
}

// A PairOrder puts some tunnels of a pair of sites before the others, in the
// order given, whatever the ranks of their links. Both ends follow it.
type PairOrder struct {
	Between []string `json:"between" max:"2"`  // two sites
	First   []string `json:"first" max:"1024"` // tunnels by TunnelIdent; those that there are not count for nothing
}

// Of reports whether the order is that of two sites.
func (o *PairOrder) Of(a, b string) bool {
	return len(o.Between) == 2 && (o.Between[0] == a && o.Between[1] == b || o.Between[0] == b && o.Between[1] == a)
}

// A Pin makes one site send its traffic to Prefix (to everything when unset) by
// a neighbour that the costs would not choose.
type Pin struct {
	Site   string       `json:"site"`
	Via    string       `json:"via"`
	Prefix netip.Prefix `json:"prefix,omitzero"`
}

// A Crypto profile lists the IPsec proposals of an overlay in order of
// preference, each as IKEv2 transform names (IANA) joined by /, and lifetimes
// in seconds.
type Crypto struct {
	IKE            []string `json:"ike,omitempty" max:"16"`
	ESP            []string `json:"esp,omitempty" max:"16"`
	IKELifetimeS   int      `json:"ike_lifetime_s,omitempty"`
	ChildLifetimeS int      `json:"child_lifetime_s,omitempty"`
}

// A Breakout sends the internet traffic of some sites through hubs, in hub
// order, all but that to the prefixes in Except.
type Breakout struct {
	Hubs   []string       `json:"hubs" max:"256"`
	Sites  []string       `json:"sites" max:"10000"`
	Except []netip.Prefix `json:"except,omitempty" max:"1024"`
}

// A Policy is an ordered list of rules, of which the first that matches
// decides; Default decides when none does.
type Policy struct {
	Default Action `json:"default"`
	Rules   []Rule `json:"rules,omitempty" max:"4096"`
}

// A Rule permits or denies what comes from one party and goes to another. An
// empty Protocol means any; Ports are single ports or ranges such as 8000-8080.
type Rule struct {
	Action   Action   `json:"action"`
	From     Party    `json:"from,omitzero"`
	To       Party    `json:"to,omitzero"`
	Protocol string   `json:"protocol,omitempty"`
	Ports    []string `json:"ports,omitempty" max:"64"`
}

// A Party is everything that has all the properties given; the zero Party is
// everything.
type Party struct {
	Zone   string       `json:"zone,omitempty"`
	Site   string       `json:"site,omitempty"`
	Prefix netip.Prefix `json:"prefix,omitzero"`
}

// String puts the rule in words: "deny users to servers tcp 443, 8443".
func (r Rule) String() string {
	text := string(r.Action) + " " + r.From.String() + " to " + r.To.String()
	if r.Protocol != "" && r.Protocol != "any" {
		text += " " + r.Protocol
	}
	if len(r.Ports) > 0 {
		text += " " + strings.Join(r.Ports, ", ")
	}
	return text
}

// String puts the party in words: "users at alderfold 10.0.0.0/24".
func (p Party) String() string {
	var parts []string
	if p.Zone != "" {
		parts = append(parts, p.Zone)
	}
	if p.Site != "" {
		parts = append(parts, "at "+p.Site)
	}
	if p.Prefix.IsValid() {
		parts = append(parts, p.Prefix.String())
	}
	if len(parts) == 0 {
		return "anywhere"
	}
	return strings.Join(parts, " ")
}

// Action is what a policy does with a packet.
type Action string

// The actions.
const (
	Permit Action = "permit"
	Deny   Action = "deny"
)

// Placement says where a gateway stands in its LAN.
type Placement string

// Inline is the LAN's default router; OneArmed a host behind another router.
const (
	Inline   Placement = "inline"
	OneArmed Placement = "one-armed"
)

// Target names the form of configuration a gateway takes.
type Target string

// The configuration targets.
const (
	TargetLinux    Target = "linux"
	TargetRestconf Target = "restconf"
)

// Transport is the protocol of an overlay's tunnels.
type Transport string

// The transports.
const (
	WireGuard Transport = "wireguard"
	IPsec     Transport = "ipsec"
)

// Family is an IP version, chosen for the outside of tunnels. The empty family
// prefers IPv4, whose headers are shorter, and takes IPv6 where it must.
type Family string

// The families.
const (
	V4 Family = "v4"
	V6 Family = "v6"
)

// Shape says which sites of an overlay are adjacent.
type Shape string

// The shapes.
const (
	HubAndSpoke Shape = "hub-and-spoke"
	FullMesh    Shape = "full-mesh"
	Custom      Shape = "custom" // hub-and-spoke plus the listed direct pairs
)

// Numbering says how tunnel addresses are given out.
type Numbering string

// The numberings.
const (
	PerTunnel Numbering = "per-tunnel" // a /31 or /127 for each tunnel
	PerSite   Numbering = "per-site"   // one address for each site
)

// Pairing says which pairs of links of two adjacent sites get a tunnel.
type Pairing string

// The pairing modes.
const (
	Every   Pairing = "every"
	Matched Pairing = "matched" // for each link of the leading end the best remote link
	TopN    Pairing = "top-n"   // the first PairingLimit in rank order
)

// SwitchesItself reports whether a dead tunnel goes out of use without anybody
// acting: where something on the gateway watches its tunnels, and where a
// controller of the gateway does. A Linux gateway with nothing but its bundle
// keeps sending into it.
func (g *Gateway) SwitchesItself() bool { return g.Switches || g.Target == TargetRestconf }

// LANAddresses lists the gateway's addresses on its LAN, as far as they are
// known.
func (g *Gateway) LANAddresses() []netip.Addr {
	return slices.DeleteFunc([]netip.Addr{g.LANAddress, g.LANAddress6}, func(a netip.Addr) bool { return !a.IsValid() })
}

// LANAddressOf returns the gateway's address of one family on its LAN; the zero
// Addr when it is not known.
func (g *Gateway) LANAddressOf(v4 bool) netip.Addr { return ofFamily(v4, g.LANAddress, g.LANAddress6) }

// UpstreamOf returns the address of one family of the LAN's router beside a
// one-armed gateway; the zero Addr when it is not known.
func (g *Gateway) UpstreamOf(v4 bool) netip.Addr { return ofFamily(v4, g.Upstream, g.Upstream6) }

func ofFamily(v4 bool, addresses ...netip.Addr) netip.Addr {
	for _, a := range addresses {
		if a.IsValid() && a.Is4() == v4 {
			return a
		}
	}
	return netip.Addr{}
}

// ListenPortOf returns the first UDP port the gateway listens on.
func (g *Gateway) ListenPortOf() int { return cmp.Or(g.ListenPort, DefaultListenPort) }

// Taking returns the prefix with which the subnet takes part in overlays: its
// 1:1 mapped prefix when it has one.
func (s *Subnet) Taking() netip.Prefix {
	if s.Map.IsValid() {
		return s.Map
	}
	return s.Prefix
}

// SharedInto reports whether the subnet takes part in the overlay.
func (s *Subnet) SharedInto(overlay string) bool { return slices.Contains(s.Share, overlay) }

// JoinsHubs reports whether the overlay's hubs are adjacent to each other;
// they are unless switched off.
func (o *Overlay) JoinsHubs() bool { return o.HubLinks == nil || *o.HubLinks }

// Shared lists the prefixes with which the site takes part in the overlay.
func (s *Site) Shared(overlay string) []netip.Prefix {
	var out []netip.Prefix
	for i := range s.Subnets {
		if s.Subnets[i].SharedInto(overlay) {
			out = append(out, s.Subnets[i].Taking())
		}
	}
	return out
}

// HubFit reports whether the site can be a hub: it has a link that tunnels may
// use and that is always found at the same place.
func (s *Site) HubFit() bool {
	return slices.ContainsFunc(s.Links, func(l Link) bool { return l.Reach == Static && !l.NoTunnels })
}

// Link returns the site's link of that key, or nil.
func (s *Site) Link(key string) *Link {
	for i := range s.Links {
		if s.Links[i].Key == key {
			return &s.Links[i]
		}
	}
	return nil
}

// Site returns the site of that key, or nil. It looks through all sites; use
// Index for many look-ups.
func (e *Estate) Site(key string) *Site {
	for i := range e.Sites {
		if e.Sites[i].Key == key {
			return &e.Sites[i]
		}
	}
	return nil
}

// Overlay returns the overlay of that key, or nil.
func (e *Estate) Overlay(key string) *Overlay {
	for i := range e.Overlays {
		if e.Overlays[i].Key == key {
			return &e.Overlays[i]
		}
	}
	return nil
}

// Index maps site keys to their place in Sites. Of duplicate keys the first
// counts.
func (e *Estate) Index() map[string]int {
	index := make(map[string]int, len(e.Sites))
	for i := range e.Sites {
		if _, ok := index[e.Sites[i].Key]; !ok {
			index[e.Sites[i].Key] = i
		}
	}
	return index
}

// Members lists the keys of all sites in the overlay: hubs, then spokes, then
// sites that only a direct pair names, each once.
func (o *Overlay) Members() []string {
	var out []string
	seen := map[string]bool{}
	add := func(keys ...string) {
		for _, k := range keys {
			if !seen[k] {
				seen[k] = true
				out = append(out, k)
			}
		}
	}
	add(o.Hubs...)
	for _, s := range o.Spokes {
		add(s.Site)
	}
	for _, pair := range o.Direct {
		add(pair...)
	}
	return out
}

// HubOrder returns the hubs of the given spoke in its order of preference.
func (o *Overlay) HubOrder(s Spoke) []string {
	if len(s.Hubs) > 0 {
		return s.Hubs
	}
	return o.Hubs
}

// TunnelIdent names a tunnel within its overlay, whoever opens it: the end
// whose site key sorts first stands first.
func TunnelIdent(siteA, linkA, siteB, linkB string) string {
	var room [4*40 + 3]byte
	return string(AppendTunnelIdent(room[:0], siteA, linkA, siteB, linkB))
}

// AppendTunnelIdent appends a TunnelIdent to a buffer.
func AppendTunnelIdent(to []byte, siteA, linkA, siteB, linkB string) []byte {
	if siteB < siteA {
		siteA, linkA, siteB, linkB = siteB, linkB, siteA, linkA
	}
	for i, part := range [4]string{siteA, linkA, siteB, linkB} {
		if i > 0 {
			to = append(to, "/ /"[i-1])
		}
		to = append(to, part...)
	}
	return to
}

// Zones lists the zones that subnets name, in alphabetical order.
func (e *Estate) Zones() []string {
	seen := map[string]bool{}
	for i := range e.Sites {
		for j := range e.Sites[i].Subnets {
			if z := e.Sites[i].Subnets[j].Zone; z != "" {
				seen[z] = true
			}
		}
	}
	out := slices.AppendSeq(make([]string, 0, len(seen)), maps.Keys(seen))
	slices.Sort(out)
	return out
}

// NeedsSecret reports whether both ends of each tunnel know a secret of it: IPsec
// ends prove by it who they are.
func (o *Overlay) NeedsSecret() bool { return o.PresharedKeys || o.Transport == IPsec }
