package agent

import (
	"context"
	"net"
	"net/netip"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/stamp"
)

// A Plane is what an agent drives: a kernel, or what stands for one. Its methods are
// called by one goroutine at a time.
type Plane interface {
	// Check says what keeps a configuration from being applied here; nothing is changed.
	Check(c *gateway.Config) error
	// Apply makes the gateway what is says. What it was meant to be before, nil where
	// nothing is known, tells which settings are new; what is ours and no longer wanted
	// goes whatever was says. Notes are of what could not be had for now.
	Apply(was, is *gateway.Config, secrets Secrets, choice *Choice) (notes []string, err error)
	// Use lets ways go by other tunnels, and then prefixes by other ways.
	Use(c *gateway.Config, uses []Use, steers map[Place]int) error
	// Mend brings back what went with a link that was down.
	Mend(c *gateway.Config, choice *Choice) (notes []string, err error)
	// Guard puts discards and the filter up, and nothing else: before a network is.
	Guard(c *gateway.Config) error
	// Remove takes away everything of ours.
	Remove() error
	// Read tells of tunnels and counters.
	Read(c *gateway.Config) (Reading, error)
	// Call tells a tunnel's device where its far end is.
	Call(t *gateway.Tunnel, to netip.AddrPort) error
	// Lead lets whichever of a far end's two keys shook hands last have what it may send from,
	// and reports whether that is another one than before.
	Lead(c *gateway.Config, t *gateway.Tunnel) (moved bool, err error)
	// Knock calls the far end of a tunnel by each of its keys at once.
	Knock(t *gateway.Tunnel) error
	// Flows lists the flows that are known, whatever passes by them; Forget lets some go, and says
	// how many there were still.
	Flows() ([]Flow, error)
	Forget(list []Flow) (int, error)
	// Rekey lets a tunnel's device forget what was agreed with the far end, and agree on it anew.
	Rekey(t *gateway.Tunnel) error
	// Changes tells that links changed, until the context ends. Many may be told at once.
	Changes(ctx context.Context) (<-chan struct{}, error)
	// Interfaces returns the number of each interface.
	Interfaces() (map[string]int, error)
	// Carrying says of each address of this gateway whether its device carries anything.
	Carrying() (map[netip.Addr]bool, error)
	// Listen opens a socket for probes of an address family; see stamp.Listen.
	Listen(ctx context.Context, four bool, port, mark int) (stamp.Conn, error)
	// Ping asks an address beyond a WAN link for an echo: of a packet of so many bytes, that
	// nothing may cut up, or of any with 0.
	Ping(ctx context.Context, l *gateway.Link, to netip.Addr, size int) error
	// Echo sends one question for an echo, with so many hops to live and of so many bytes, from
	// an address of this gateway, and waits for what is heard of it as long as the context lets
	// it.
	Echo(ctx context.Context, from, to netip.Addr, size, hops int) (Heard, error)
	// Inspect reads the device of a tunnel, whatever it is meant to be.
	Inspect(t *gateway.Tunnel) (Inside, error)
	// Overhear counts the datagrams that arrive by the devices of WAN links, before any filter,
	// until the context ends.
	Overhear(ctx context.Context, links []gateway.Link) ([]gateway.Arrived, error)
	// Surroundings tells what is there besides what is ours: devices, and prefixes behind
	// neighbouring routers.
	Surroundings() ([]gateway.Device, []gateway.Behind, error)
	// Dial sends UDP to an address beyond a WAN link.
	Dial(ctx context.Context, l *gateway.Link, to netip.AddrPort) (net.Conn, error)
}

// A Heard is what came of a question for an echo.
type Heard struct {
	By    netip.Addr // who answered
	Reply bool       // it is the echo
	Spent bool       // the question ran out of hops there
	Words string     // else: what was said against it
}

// A Use says by which members of its groups a way goes; by none, it discards.
type Use struct {
	Way     int
	Members []gateway.Member
}

// Secrets are the gateway's private key and those that it shares with far ends, by
// interface.
type Secrets struct {
	Private [32]byte
	Shared  map[string][32]byte
}

// A Reading is what a plane sees.
type Reading struct {
	Tunnels map[string]Device
	Links   map[string][]netip.Addr // by the link's key: its addresses
	Rules   []gateway.RuleState
}

// A Device is a tunnel's, as it is read.
type Device struct {
	Present   bool
	Up        bool
	Handshake time.Time // zero where there was none
	In, Out   uint64    // bytes
	Kept      uint64    // packets of zones that are kept off it
	Endpoint  netip.AddrPort
}

// An Inside is how the device of a tunnel is.
type Inside struct {
	Present bool
	Port    int
	Private [32]byte
	Peers   []Peer
}

// A Peer is one that a device has.
type Peer struct {
	Key       string // base64
	Shared    [32]byte
	Allowed   []netip.Prefix
	Endpoint  netip.AddrPort
	Handshake time.Time // zero where there was none
	In, Out   uint64    // bytes
}
