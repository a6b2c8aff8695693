package gateway

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
)

// A SessionsOrder asks a gateway what is open by one of its tunnels, or to end it.
type SessionsOrder struct {
	Interface string `json:"interface"`
	Reset     Reset  `json:"reset,omitempty"` // empty to list only
}

// A Reset is what of a tunnel's sessions is ended.
type Reset string

// Keys are agreed anew with the far end; flows are forgotten, as if their first packets were
// still to come.
const (
	ResetKeys  Reset = "keys"
	ResetFlows Reset = "flows"
)

// Sessions is what is open by a tunnel, or was until it was ended.
type Sessions struct {
	Keys  []KeySession `json:"key-session,omitempty"`
	Flows []Flow       `json:"flow,omitempty"`  // the first MaxFlows
	More  int          `json:"more,omitempty"`  // flows besides these
	Ended int          `json:"ended,omitempty"` // flows
	Words string       `json:"words,omitempty"` // why flows are not told
}

// A KeySession is one of the far end's keys, and what came and went by it.
type KeySession struct {
	Key        string         `json:"key"`                     // public, base64
	HandshakeS int            `json:"handshake-age,omitempty"` // seconds; 0 where there was none
	Endpoint   netip.AddrPort `json:"endpoint,omitzero"`
	BytesIn    Counter        `json:"bytes-in,omitempty"`
	BytesOut   Counter        `json:"bytes-out,omitempty"`
}

// A Flow is packets of two hosts there and back, as their first packet came. Ports are 0 where the
// protocol has none.
type Flow struct {
	Protocol int            `json:"protocol"` // of IP
	From     netip.AddrPort `json:"from"`
	To       netip.AddrPort `json:"to"`
	// Unanswered is whether no answer came, as far as the gateway tells.
	Unanswered bool `json:"unanswered,omitempty"`
	Left       int  `json:"seconds-left"` // until it is forgotten, unless a packet of it comes
}

// Bounds of what is told of a tunnel's sessions.
const (
	MaxFlows    = 200
	maxSessions = 8
)

// Check says what is wrong with an order.
func (o *SessionsOrder) Check() error {
	k := &checker{}
	k.device("an interface", o.Interface)
	if !slices.Contains([]Reset{"", ResetKeys, ResetFlows}, o.Reset) {
		k.fail("%q is nothing that can be reset: only %q and %q are", o.Reset, ResetKeys, ResetFlows)
	}
	return k.err
}

// ParseSessions reads the answer of a gateway.
func ParseSessions(text []byte) (*Sessions, error) {
	var d struct {
		Output *Sessions `json:"wideknot-gateway:output"`
	}
	if err := read(text, &d); err != nil {
		return nil, fmt.Errorf("a tunnel's sessions cannot be read: %w", err)
	}
	if d.Output == nil {
		return nil, errors.New("a tunnel's sessions cannot be read: there is no wideknot-gateway:output")
	}
	k := &checker{}
	k.count("keys", len(d.Output.Keys), maxSessions)
	k.count("flows", len(d.Output.Flows), MaxFlows)
	k.number("a number of flows", min(d.Output.More, d.Output.Ended), 0, 1<<31)
	k.number("a number of flows", max(d.Output.More, d.Output.Ended), 0, 1<<31)
	for i := range d.Output.Keys {
		k.key("a public key", d.Output.Keys[i].Key)
		k.number("an age of a handshake", d.Output.Keys[i].HandshakeS, 0, 1<<31)
	}
	for i := range d.Output.Flows {
		f := &d.Output.Flows[i]
		k.number("a protocol", f.Protocol, 0, 255)
		k.number("a time in seconds", f.Left, 0, 1<<31)
		if !f.From.IsValid() || !f.To.IsValid() {
			k.fail("a flow lacks an address")
		}
	}
	if k.err != nil {
		return nil, fmt.Errorf("a tunnel's sessions cannot be read: %w", k.err)
	}
	return d.Output, nil
}

// A Lookup finds ways by the longest prefix of the main table: by what no policy steers elsewhere.
type Lookup struct {
	ways      map[netip.Prefix]*Way // nil for a prefix that goes by none
	four, six []int                 // lengths of prefixes, the longest first
}

// Lookup prepares for many addresses; WayTo is for one. What is near is left by no way.
func (c *Config) Lookup(near []netip.Prefix) *Lookup {
	out, byID := &Lookup{ways: map[netip.Prefix]*Way{}}, map[int]*Way{}
	for i := range c.Ways {
		byID[c.Ways[i].ID] = &c.Ways[i]
	}
	add := func(p netip.Prefix, way *Way) {
		out.ways[p] = way
		lengths := &out.six
		if p.Addr().Is4() {
			lengths = &out.four
		}
		if !slices.Contains(*lengths, p.Bits()) {
			*lengths = append(*lengths, p.Bits())
		}
	}
	for i := range c.Routes {
		if r := &c.Routes[i]; r.Table == 0 {
			add(r.Prefix, byID[r.Way]) // nil for one that leaves by a device
		}
	}
	for _, p := range near {
		add(p.Masked(), nil)
	}
	for _, lengths := range [][]int{out.four, out.six} {
		slices.SortFunc(lengths, func(a, b int) int { return b - a })
	}
	return out
}

// To returns the way by which packets to an address leave, nil where none has it.
func (l *Lookup) To(to netip.Addr) *Way {
	lengths := l.six
	if to.Is4() {
		lengths = l.four
	}
	for _, bits := range lengths {
		p, err := to.Prefix(bits)
		if err != nil {
			return nil
		}
		if w, has := l.ways[p]; has {
			return w
		}
	}
	return nil
}
