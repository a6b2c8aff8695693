// Package gateway says what one gateway is to be at one release, and what a
// gateway reports. What is rendered for it, what is sent to it and what it
// applies are writings of the one value, Config.
package gateway

import (
	"net/netip"
	"slices"

	"wideknot/core/estate"
)

// A Config is the whole of one gateway. Names in it are those of the gateway's own
// interfaces. Lists are in the order in which they are given or, where the order
// means nothing, in one that does not change from release to release.
type Config struct {
	Site string `json:"site"`
	// PublicKey is that of the private key which the gateway is to use, where it made its own.
	PublicKey string   `json:"public-key,omitempty"`
	Links     []Link   `json:"link,omitempty"`
	Tunnels   []Tunnel `json:"tunnel,omitempty"`
	// Lists are prefixes that lie behind many tunnels.
	Lists  []List  `json:"prefix-list,omitempty"`
	Ways   []Way   `json:"way,omitempty"`
	Routes []Route `json:"route,omitempty"`
	// Tellings are of overlays whose hubs tell which sites they reach.
	Tellings []Telling `json:"telling,omitempty"`
	// Discards stand behind the routes of ways, exactly as wide as what those cover;
	// they are few, as they are merged where nothing lies between.
	Discards []Discard `json:"discard,omitempty"`
	Rules    []Rule    `json:"rule,omitempty"`
	Forward6 bool      `json:"forward-ipv6,omitempty"` // IPv6 runs inside some tunnel
	Filter   Filter    `json:"filter,omitzero"`
	// Places are the interfaces of tunnels that share the load, by their place in
	// their adjacency: a flow's answers keep to the place by which it came.
	Places     []Place    `json:"place,omitempty"`
	Held       Held       `json:"held,omitzero"`
	Maps       []Map      `json:"map,omitempty"`
	Breakouts  []Breakout `json:"breakout,omitempty"`
	Shaping    []Class    `json:"shaping,omitempty"`
	Neighbours Neighbours `json:"neighbours,omitzero"`
}

// A Link is a WAN link of the gateway that the design knows by its device.
type Link struct {
	Key      string       `json:"key"`
	Device   string       `json:"device,omitempty"`
	NextHops []netip.Addr `json:"next-hop,omitempty"`
	// Mark is that of the packets which carry tunnels by this link, and the number
	// of the table they are routed by; 0 where the link is the only one, or where
	// it is not known how it is left.
	Mark int `json:"mark,omitempty"`
	Up   int `json:"up,omitempty"` // kbit/s; 0 where the design has no figure
	Down int `json:"down,omitempty"`
}

// A Tunnel is an interface and its peer.
type Tunnel struct {
	Interface string         `json:"interface"`
	Overlay   string         `json:"overlay"`
	Rank      int            `json:"rank"` // in its adjacency, from 1
	Link      string         `json:"link"`
	Peer      string         `json:"peer"`
	PeerLink  string         `json:"peer-link"`
	NextHop   int            `json:"next-hop"` // number of its next-hop object
	MTU       int            `json:"mtu"`
	Addresses []netip.Prefix `json:"address,omitempty"`
	Limited   bool           `json:"limited,omitempty"` // to Zones, which the links at both ends are for
	Zones     []string       `json:"zone,omitempty"`
	Probe     *Probe         `json:"probe,omitempty"`
	WireGuard *WireGuard     `json:"wireguard,omitempty"` // one of the two is set
	IPsec     *IPsec         `json:"ipsec,omitempty"`
}

// A WireGuard tunnel's settings. The private key is the gateway's; the pre-shared
// one, where wanted, is told apart from the configuration.
type WireGuard struct {
	Port      int    `json:"port"`
	Mark      int    `json:"mark,omitempty"` // of the link it leaves by
	PublicKey string `json:"public-key,omitempty"`
	// Also is another key by which the far end may come, while it gets a new one: what the
	// peer may send from is allowed to whichever of the two shook hands last.
	Also      string         `json:"also-public-key,omitempty"`
	Preshared bool           `json:"pre-shared,omitempty"`
	Allowed   []netip.Prefix `json:"allowed,omitempty"`
	List      int            `json:"allowed-list,omitempty"` // whose prefixes are allowed too; 0 for none
	Endpoint  string         `json:"endpoint,omitempty"`     // ADDRESS:PORT or NAME:PORT; empty when the far end calls
	Keepalive int            `json:"keepalive,omitempty"`    // seconds
}

// A List is prefixes that are written once.
type List struct {
	ID       int            `json:"id"` // from 1
	Prefixes []netip.Prefix `json:"prefix"`
}

// IPsec settings are one end's; those of the far end mirror them.
type IPsec struct {
	LocalID       string         `json:"local-id"`
	RemoteID      string         `json:"remote-id"`
	Local         netip.Addr     `json:"local,omitzero"`  // invalid: any of the link's
	Remote        netip.Addr     `json:"remote,omitzero"` // invalid: by name, or wherever it calls from
	RemoteName    string         `json:"remote-name,omitempty"`
	Initiates     bool           `json:"initiates,omitempty"`
	Encapsulate   bool           `json:"udp-encapsulation,omitempty"`
	IKE           []string       `json:"ike"` // proposals by their IANA names
	ESP           []string       `json:"esp"`
	IKELifetime   int            `json:"ike-lifetime"` // seconds
	ChildLifetime int            `json:"child-lifetime"`
	LocalTS       []netip.Prefix `json:"local-selector,omitempty"`
	RemoteTS      []netip.Prefix `json:"remote-selector,omitempty"`
	InterfaceID   int            `json:"interface-id"`
	Mark          int            `json:"mark,omitempty"`
}

// A Probe is how a tunnel is watched; times are in milliseconds.
type Probe struct {
	Target    string     `json:"target"` // far-end or far-lan
	Address   netip.Addr `json:"address,omitzero"`
	Interval  int        `json:"interval"`
	Timeout   int        `json:"timeout"`
	Misses    int        `json:"misses"`
	Successes int        `json:"successes"`
	Limits    Limits     `json:"limits,omitzero"`
}

// A Way is how traffic leaves: the first group with a living member carries it,
// each member by its weight. When all are dead it is discarded. Its number follows
// from its groups, so that a way that stays has the same number in each release.
type Way struct {
	ID     int     `json:"id"`
	Groups []Group `json:"group"`
}

// A Group is tunnels that share the load.
type Group struct {
	Place   int      `json:"place"` // from 1
	Members []Member `json:"member"`
}

// A Member is a tunnel and its part of a group's flows.
type Member struct {
	Interface string `json:"interface"`
	Weight    int    `json:"weight"`
}

// A Route goes by a way or, with Via, by a device. There is one of a prefix in a table.
type Route struct {
	Table  int          `json:"table"` // 0 for the main one
	Prefix netip.Prefix `json:"prefix"`
	Way    int          `json:"way,omitempty"`
	Via    netip.Addr   `json:"via,omitzero"`
	Device string       `json:"device,omitempty"` // with Via
	// Where hubs tell of it: the place of the telling, from 1, and the site's number.
	Telling int `json:"telling,omitempty"`
	To      int `json:"to,omitempty"`
}

// A Discard is for what no living route takes.
type Discard struct {
	Table  int          `json:"table"`
	Prefix netip.Prefix `json:"prefix"`
}

// A Rule says which packets ask a table. A packet must meet the mark, if any, and
// one of the interfaces or prefixes, if any.
type Rule struct {
	Priority int            `json:"priority"`
	Family   Family         `json:"family"`
	Mark     int            `json:"mark,omitempty"` // compared under Mask
	Mask     int            `json:"mask,omitempty"`
	Arriving []string       `json:"arriving,omitempty"`
	From     []netip.Prefix `json:"from,omitempty"`
	Table    int            `json:"table,omitempty"`
	NoLonger bool           `json:"main-but-default,omitempty"` // ask the main table, but for its default route
}

// Family is an address family by the names of RFC 8349.
type Family string

// The families.
const (
	IPv4 Family = "ipv4"
	IPv6 Family = "ipv6"
)

// FamilyOf names the family of an address.
func FamilyOf(a netip.Addr) Family {
	if a.Is4() {
		return IPv4
	}
	return IPv6
}

// A Filter judges overlay traffic only: whatever neither comes from a tunnel nor
// goes to one passes as it did before.
type Filter struct {
	Arrivals []Arrival      `json:"arrival,omitempty"`
	Kept     []Kept         `json:"kept-off,omitempty"`
	Overlays []Passing      `json:"overlay,omitempty"`
	Own      []netip.Prefix `json:"own,omitempty"` // what the site shares, as its hosts have it
}

// An Arrival is a port that is open to one far address only.
type Arrival struct {
	Port int        `json:"port"`
	From netip.Addr `json:"from"`
}

// Kept are subnets of the site that are kept off a tunnel, as the link at either
// end is for other zones only.
type Kept struct {
	Interface string         `json:"interface"`
	Prefixes  []netip.Prefix `json:"prefix"`
}

// A Passing is what may pass in one overlay.
type Passing struct {
	Overlay    string   `json:"overlay"`
	Interfaces []string `json:"interface"`
	Relays     bool     `json:"relays,omitempty"` // a hub passes packets from tunnel to tunnel
	// Back are interfaces of other hubs, by which what the site itself sent may come
	// back for want of a way there: its flow is known where it first set out.
	Back     []string       `json:"back,omitempty"`
	BackFrom []netip.Prefix `json:"back-from,omitempty"`
	Policed  bool           `json:"policed,omitempty"`
	Policy   []Entry        `json:"policy,omitempty"`
	Deny     bool           `json:"deny,omitempty"` // what no entry names
}

// Rules lists the rules of the policy that concern this site, in their order, and 0 last
// where what no rule names is denied: what is counted apart.
func (p *Passing) Rules() (out []int) {
	for i := range p.Policy {
		if n := p.Policy[i].Rule; len(out) == 0 || out[len(out)-1] != n {
			out = append(out, n)
		}
	}
	if p.Policed && p.Deny {
		out = append(out, 0)
	}
	return out
}

// An Entry is one direction of a rule of a zone policy. The first that fits
// decides.
type Entry struct {
	Index    int            `json:"index"` // from 1
	Rule     int            `json:"rule"`  // of the policy, from 1
	Permit   bool           `json:"permit,omitempty"`
	Family   Family         `json:"family"`
	Leaving  bool           `json:"leaving,omitempty"` // into a tunnel, or else out of one
	From     []netip.Prefix `json:"from,omitempty"`
	To       []netip.Prefix `json:"to,omitempty"`
	Protocol string         `json:"protocol,omitempty"` // tcp, udp, icmp; empty for any
	Ports    []string       `json:"port,omitempty"`     // N or N-M
	Reply    bool           `json:"reply,omitempty"`    // answers alone: Ports are then those they come from
}

// A Place is interfaces whose flows are answered by tunnels of the same place.
type Place struct {
	Mark       int      `json:"mark"` // under PlaceMask
	Interfaces []string `json:"interface"`
}

// A Map stands for a subnet in the overlays, address by address.
type Map struct {
	Inside  netip.Prefix `json:"inside"`
	Outside netip.Prefix `json:"outside"`
}

// A Breakout is internet traffic of other sites that leaves here, under the
// address of the device it leaves by.
type Breakout struct {
	Overlay string         `json:"overlay"`
	Family  Family         `json:"family"`
	Devices []string       `json:"device"`
	From    []netip.Prefix `json:"from"`
	Except  []netip.Prefix `json:"except"` // what is shared, and so is never translated
}

// A Class is the traffic of a zone; classes give way in their order where a link
// is too narrow, and what is in none gives way last.
type Class struct {
	Zone   string         `json:"zone"`
	Here   []netip.Prefix `json:"here,omitempty"`
	Beyond []netip.Prefix `json:"beyond,omitempty"`
}

// Neighbours is work for routers beside the gateway.
type Neighbours struct {
	Upstream []netip.Addr   `json:"upstream,omitempty"` // of the LAN, where the gateway is not on the way
	Routes   []LANRoute     `json:"lan-route,omitempty"`
	OwnWay   []netip.Prefix `json:"own-way,omitempty"` // that the LAN's router sends its own way, wherever a packet starts
	Without  []Unreached    `json:"without-address,omitempty"`
	Forwards []PortForward  `json:"forward,omitempty"`
	Unknown  []string       `json:"unknown-link,omitempty"` // links that the design does not know how to leave by
}

// A LANRoute is one that the LAN's router needs. From limits it to packets that
// start there and for which the router has nothing but its default route.
type LANRoute struct {
	Index  int          `json:"index"` // from 1
	From   netip.Prefix `json:"from,omitzero"`
	Prefix netip.Prefix `json:"prefix"`
	Via    netip.Addr   `json:"via"`
}

// Unreached counts prefixes of a family for which the gateway has no address on
// its LAN.
type Unreached struct {
	Family Family `json:"family"`
	Count  int    `json:"count"`
}

// A PortForward is what the router before a link must hand to this gateway.
type PortForward struct {
	Link    string     `json:"link"`
	Outside netip.Addr `json:"outside"`
	Inside  netip.Addr `json:"inside,omitzero"`
	Ports   []int      `json:"port"`
}

// Numbers that mark what is ours on a gateway.
const (
	FirstMark    = 8400 // of the first link, under LinkMask, and its table
	FirstSource  = 8450 // priority of the rule for packets that start at the first link
	FirstTable   = 8600 // of those that route.Extras lists, and the priority of their rules
	LinkMask     = 0x0000ffff
	PlaceMask    = 0x0ff00000
	LimitMask    = 0x000f0000
	LimitUnit    = 0x00010000 // of the first overlay with limits
	PlaceUnit    = 0x00100000
	ProbeMark    = 0x10000000 // of probes of tunnels, which leave by the tunnel they are for
	Blackhole    = 84000000   // next-hop object of what is discarded; those of tunnels follow
	FirstWay     = 1000000000
	WayNumbers   = 1000000000
	Protocol     = 199 // routing protocol number of our next hops, routes and rules
	DefaultTable = 0
)

// Allowed lists what a peer may send from, and what is sent to it.
func (c *Config) Allowed(w *WireGuard) []netip.Prefix {
	if w.List == 0 {
		return w.Allowed
	}
	return slices.Concat(w.Allowed, c.Lists[w.List-1].Prefixes)
}

// Keys are those by which the far end may come: one, or two while it gets a new one.
func (w *WireGuard) Keys() []string {
	if w.Also == "" {
		return []string{w.PublicKey}
	}
	return []string{w.PublicKey, w.Also}
}

// Shapes reports whether zones give way at this gateway: some do, and a link that
// carries tunnels has a figure to keep to.
func (c *Config) Shapes() bool {
	return len(c.Shaping) > 0 && slices.ContainsFunc(c.Tunnels, func(t Tunnel) bool {
		l := c.Link(t.Link)
		return l != nil && l.Up > 0
	})
}

// Link returns the link of a key, or nil.
func (c *Config) Link(key string) *Link {
	if i := slices.IndexFunc(c.Links, func(l Link) bool { return l.Key == key }); i >= 0 {
		return &c.Links[i]
	}
	return nil
}

// Tunnel returns the tunnel of an interface, or nil.
func (c *Config) Tunnel(name string) *Tunnel {
	if i := slices.IndexFunc(c.Tunnels, func(t Tunnel) bool { return t.Interface == name }); i >= 0 {
		return &c.Tunnels[i]
	}
	return nil
}

// Carries reports whether the gateway has tunnels of a transport.
func (c *Config) Carries(t estate.Transport) bool {
	for i := range c.Tunnels {
		if (c.Tunnels[i].IPsec != nil) == (t == estate.IPsec) {
			return true
		}
	}
	return false
}

// WayTo returns the way by which packets to an address leave, by the longest prefix of the main
// table: what no policy steers elsewhere. It is nil where none has it.
func (c *Config) WayTo(to netip.Addr) *Way {
	best, way := -1, 0
	for i := range c.Routes {
		if r := &c.Routes[i]; r.Table == 0 && r.Way != 0 && r.Prefix.Bits() > best && r.Prefix.Contains(to) {
			best, way = r.Prefix.Bits(), r.Way
		}
	}
	for i := range c.Ways {
		if best >= 0 && c.Ways[i].ID == way {
			return &c.Ways[i]
		}
	}
	return nil
}
