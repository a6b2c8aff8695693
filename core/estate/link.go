package estate

import (
	"cmp"
	"net/netip"
	"slices"
)

// DefaultMTU is the MTU of a link that states none.
const DefaultMTU = 1500

// A Link is one WAN circuit of a site. An empty Underlay means the internet.
type Link struct {
	Key          string       `json:"key"`
	Provider     string       `json:"provider,omitempty"`
	Underlay     string       `json:"underlay,omitempty"`
	Reach        Reach        `json:"reach"`
	Addresses    []netip.Addr `json:"addresses,omitempty" max:"16"`
	Hostname     string       `json:"hostname,omitempty"`
	Families     []Family     `json:"families,omitempty" max:"2"`
	Outside      netip.Addr   `json:"outside,omitzero"`
	Forwards     []string     `json:"forwards,omitempty" max:"64"` // UDP ports or ranges forwarded to the link; empty means as many as it needs
	Rank         int          `json:"rank,omitempty"`
	Weight       int          `json:"weight,omitempty"` // its part, beside other links of its rank that have one
	DownMbps     float64      `json:"down_mbps,omitempty"`
	UpMbps       float64      `json:"up_mbps,omitempty"`
	MTU          int          `json:"mtu,omitempty"`
	Metered      bool         `json:"metered,omitempty"`
	SharedFate   []string     `json:"shared_fate,omitempty" max:"64"`
	Availability float64      `json:"availability,omitempty"`
	LatencyMs    float64      `json:"latency_ms,omitempty"` // round trip between the site and its provider's network
	JitterMs     float64      `json:"jitter_ms,omitempty"`
	LossPercent  float64      `json:"loss_percent,omitempty"` // each way
	NoTunnels    bool         `json:"no_tunnels,omitempty"`
	Zones        []string     `json:"zones,omitempty" max:"256"` // the only ones its tunnels let through; empty means all
	Device       string       `json:"device,omitempty"`
	NextHop      []netip.Addr `json:"next_hop,omitempty" max:"16"`
}

// Reach says who can open a session to a link.
type Reach string

// The four kinds of reach.
const (
	Static    Reach = "static"    // a public fixed address
	Dynamic   Reach = "dynamic"   // a public address that changes; found by hostname
	Forwarded Reach = "forwarded" // behind NAT, inbound UDP ports forwarded
	NAT       Reach = "nat"       // behind NAT; can only call out
)

// Callable reports whether the other end can open a session to such a link.
func (r Reach) Callable() bool { return r == Static || r == Dynamic || r == Forwarded }

// Internet is the underlay every public link attaches to.
const Internet = "internet"

// Quality is what the link adds to that of a tunnel.
func (l *Link) Quality() Quality { return Quality{l.LatencyMs, l.JitterMs, l.LossPercent} }

// Carries reports whether the link's tunnels let a zone through.
func (l *Link) Carries(zone string) bool {
	return len(l.Zones) == 0 || slices.Contains(l.Zones, zone)
}

// UnderlayOf returns the link's underlay, the internet when none is named.
func (l *Link) UnderlayOf() string { return cmp.Or(l.Underlay, Internet) }

// MTUOf returns the link's MTU in bytes, DefaultMTU when none is given.
func (l *Link) MTUOf() int { return cmp.Or(l.MTU, DefaultMTU) }

// Has reports whether the link carries the IP version: as listed, else as its
// addresses show, else IPv4 only.
func (l *Link) Has(f Family) bool {
	if len(l.Families) > 0 {
		return slices.Contains(l.Families, f)
	}
	if len(l.Addresses) == 0 && !l.Outside.IsValid() {
		return f == V4
	}
	return l.AddressOf(f).IsValid()
}

// AddressOf returns the address of that IP version under which the link can be
// called or calls: the outside one of a forwarded link, else its own. It is
// the zero Addr when there is none.
func (l *Link) AddressOf(f Family) netip.Addr {
	if l.Reach == Forwarded && l.Outside.IsValid() && l.Outside.Is4() == (f == V4) {
		return l.Outside
	}
	for _, a := range l.Addresses {
		if a.Is4() == (f == V4) {
			return a
		}
	}
	return netip.Addr{}
}

// HasForward reports whether what is sent to a UDP port of the link reaches it:
// unless the router before it is known to forward others only.
func (l *Link) HasForward(port int) bool {
	if l.Reach != Forwarded || len(l.Forwards) == 0 {
		return true
	}
	return slices.ContainsFunc(l.Forwards, func(text string) bool {
		low, high, ok := parsePorts(text)
		return ok && port >= low && port <= high
	})
}

// MaxWeight is the largest weight of a link: a route's next hops take up to 256,
// the product of the weights at both ends.
const MaxWeight = 16

// SharesWith lists the keys of the links that share their tunnels' load with
// the given one, by place in Links, itself included and in key order: those of
// its rank that, like it, have a weight; private underlays come before the
// internet whatever the ranks. A link that shares with no other has none.
func (s *Site) SharesWith(link int) []string {
	l := &s.Links[link]
	if l.Weight == 0 || l.NoTunnels {
		return nil
	}
	public := l.UnderlayOf() == Internet
	var out []string
	for i := range s.Links {
		if o := &s.Links[i]; o.Weight > 0 && o.RankOf() == l.RankOf() && !o.NoTunnels && (o.UnderlayOf() == Internet) == public {
			out = append(out, o.Key)
		}
	}
	if len(out) < 2 {
		return nil
	}
	slices.Sort(out)
	return out
}

// RankOf returns the link's rank, 1 (preferred) when none is given.
func (l *Link) RankOf() int { return cmp.Or(l.Rank, 1) }
