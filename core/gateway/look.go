package gateway

import (
	"errors"
	"fmt"
	"net/netip"
)

// A Look asks a gateway to look closely at some of its tunnels for a while: how their devices
// are, and which datagrams arrive by its links.
type Look struct {
	Interfaces []string `json:"interface,omitempty"`
	Knock      bool     `json:"knock,omitempty"`        // their far ends are called at once
	For        int      `json:"milliseconds,omitempty"` // that arrivals are listened for
	// Hosts are asked about: how many flows each began lately that leave by a tunnel.
	Hosts []netip.Addr `json:"host,omitempty"`
}

// A Looked is what was seen.
type Looked struct {
	Tunnels  []LookedTunnel `json:"tunnel,omitempty"`
	Links    []LinkState    `json:"link,omitempty"` // asked anew
	Arrivals []Arrived      `json:"arrived,omitempty"`
	// Silent are addresses of the gateway whose device carries nothing: a LAN whose cable is out.
	Silent []netip.Addr `json:"silent,omitempty"`
	// Begun are the hosts that were asked about and began flows which leave by a tunnel.
	Begun []Begun `json:"begun,omitempty"`
	For   int     `json:"milliseconds,omitempty"` // that it took
}

// A Begun is how many flows a host began that leave by a tunnel, as far as the gateway tracks any.
type Begun struct {
	Host  netip.Addr `json:"host"`
	Flows int        `json:"flows"`
}

// A LookedTunnel is a tunnel's device, whatever it is meant to be.
type LookedTunnel struct {
	Interface   string           `json:"interface"`
	Missing     bool             `json:"missing,omitempty"` // there is no such device
	Port        int              `json:"port,omitempty"`
	PublicKey   string           `json:"public-key,omitempty"` // of its own private key
	Peers       []string         `json:"peer,omitempty"`       // keys by which a far end may come
	OtherSecret bool             `json:"other-pre-shared,omitempty"`
	Lacks       []netip.Prefix   `json:"lacks,omitempty"` // of what the far end may send from; the first MaxLacks
	Endpoint    netip.AddrPort   `json:"endpoint,omitzero"`
	Resolved    []netip.AddrPort `json:"resolved,omitempty"`  // where the name of its endpoint leads now
	Shook       bool             `json:"shook,omitempty"`     // hands, while it was looked at
	BytesIn     Counter          `json:"bytes-in,omitempty"`  // while it was looked at
	BytesOut    Counter          `json:"bytes-out,omitempty"` //
}

// A Message is one of the four of WireGuard's protocol, by its first octet, or something else.
type Message string

// The messages.
const (
	Initiation Message = "initiation"
	Response   Message = "response"
	Cookie     Message = "cookie"
	Data       Message = "data"
	Else       Message = "else"
)

// MessageOf tells the messages apart.
func MessageOf(datagram []byte) Message {
	if len(datagram) < 32 || datagram[1] != 0 || datagram[2] != 0 || datagram[3] != 0 {
		return Else
	}
	switch kind := datagram[0]; {
	case kind == 1 && len(datagram) == 148:
		return Initiation
	case kind == 2 && len(datagram) == 92:
		return Response
	case kind == 3 && len(datagram) == 64:
		return Cookie
	case kind == 4:
		return Data
	}
	return Else
}

// An Arrived counts datagrams of one kind from one place at one port, before any filter.
type Arrived struct {
	Port    int            `json:"port"` // here
	From    netip.AddrPort `json:"from"`
	Message Message        `json:"message"`
	Count   int            `json:"count"`
}

// What a gateway is asked to look at, and how much it may tell.
const (
	MaxLooks    = 64
	MaxLookFor  = 6500 // ms: a tunnel that is dead calls every 5 s
	MaxArrivals = 500
	MaxLacks    = 20
	MaxHosts    = 8
	maxResolved = 32
)

// Check says what is wrong with a question.
func (l *Look) Check() error {
	k := &checker{}
	k.count("tunnels to look at", len(l.Interfaces), MaxLooks)
	k.number("how long it is looked, in ms,", l.For, 0, MaxLookFor)
	k.count("hosts to ask about", len(l.Hosts), MaxHosts)
	for _, a := range l.Hosts {
		k.addr("a host", a)
	}
	if k.err == nil {
		each(k, "tunnel to look at", l.Interfaces, func(s *string) string { return *s }, func(s *string) { k.device("an interface", *s) })
	}
	return k.err
}

// ParseLooked reads the answer of a gateway.
func ParseLooked(text []byte) (*Looked, error) {
	var d struct {
		Output *Looked `json:"wideknot-gateway:output"`
	}
	if err := read(text, &d); err != nil {
		return nil, fmt.Errorf("what was looked at cannot be read: %w", err)
	}
	if d.Output == nil {
		return nil, errors.New("what was looked at cannot be read: there is no wideknot-gateway:output")
	}
	if err := d.Output.check(); err != nil {
		return nil, fmt.Errorf("what was looked at cannot be read: %w", err)
	}
	return d.Output, nil
}

func (l *Looked) check() error {
	k := &checker{}
	k.count("tunnels", len(l.Tunnels), MaxLooks)
	k.count("links", len(l.Links), maxLinks)
	k.count("arrivals", len(l.Arrivals), MaxArrivals)
	k.count("addresses", len(l.Silent), MaxArrivals)
	k.count("hosts", len(l.Begun), MaxHosts)
	k.number("how long it was looked", l.For, 0, 1<<20)
	if k.err != nil {
		return k.err
	}
	each(k, "link", l.Links, func(l *LinkState) string { return l.Link }, k.linkState)
	each(k, "tunnel", l.Tunnels, func(t *LookedTunnel) string { return t.Interface }, func(t *LookedTunnel) {
		k.device("an interface", t.Interface)
		k.number("a port", t.Port, 0, 65535)
		k.count("peers", len(t.Peers), 8)
		k.count("prefixes", len(t.Lacks), MaxLacks)
		k.count("addresses of a name", len(t.Resolved), maxResolved)
		for _, key := range append([]string{t.PublicKey}, t.Peers...) {
			if key != "" {
				k.key("a key", key)
			}
		}
		for _, p := range t.Lacks {
			k.prefix("a prefix", p)
		}
		for _, a := range append([]netip.AddrPort{t.Endpoint}, t.Resolved...) {
			k.addr("an endpoint", a.Addr())
		}
	})
	for i := range l.Arrivals {
		a := &l.Arrivals[i]
		k.number("a port", a.Port, 0, 65535)
		k.number("a count", a.Count, 0, 1<<31-1)
		k.addr("an address", a.From.Addr())
		switch a.Message {
		case Initiation, Response, Cookie, Data, Else:
		default:
			k.fail("there is no message %.20q", string(a.Message))
		}
	}
	for _, a := range l.Silent {
		k.addr("an address", a)
	}
	for i := range l.Begun {
		k.addr("a host", l.Begun[i].Host)
		k.number("a number of flows", l.Begun[i].Flows, 0, 1<<31-1)
	}
	return k.err
}

// Began returns how many flows a host began that leave by a tunnel.
func (l *Looked) Began(host netip.Addr) int {
	if l == nil {
		return 0
	}
	for i := range l.Begun {
		if l.Begun[i].Host == host {
			return l.Begun[i].Flows
		}
	}
	return 0
}

// Of returns what was seen of a tunnel, or nil.
func (l *Looked) Of(name string) *LookedTunnel {
	if l == nil {
		return nil
	}
	for i := range l.Tunnels {
		if l.Tunnels[i].Interface == name {
			return &l.Tunnels[i]
		}
	}
	return nil
}
