package diagnose

// A Code is a kind of cause.
type Code string

// The kinds.
const (
	NoSuchAddress    Code = "no-such-address"   // no site has it
	Collision        Code = "collision"         // a subnet at one end holds the address of the other
	NotShared        Code = "not-shared"        // or no path: the design does not join them
	PolicyDenies     Code = "policy"            //
	PolicyDeniesBack Code = "policy-back"       // the answer
	NotJoined        Code = "not-joined"        // nothing is known of a gateway
	Away             Code = "away"              // a gateway is silent on every side
	OlderRelease     Code = "older-release"     //
	ByHand           Code = "by-hand"           // what a gateway runs was changed there
	CircuitDead      Code = "circuit-dead"      //
	HopSilent        Code = "hop-silent"        // the next hop of a circuit that carries
	UDPBlocked       Code = "udp-blocked"       // by the carrier of a link
	LostBetween      Code = "lost-between"      // what one end sends does not get to the other
	NotForwarded     Code = "not-forwarded"     // a port
	WrongPort        Code = "wrong-port"        // forwarded to another one
	StaleAddress     Code = "stale-address"     // the design has an address that changed
	StaleName        Code = "stale-name"        // a name leads to an old address
	WrongKey         Code = "wrong-key"         //
	WrongSecret      Code = "wrong-secret"      // pre-shared key
	LacksPrefix      Code = "lacks-prefix"      // an allowed prefix is missing
	MappingExpires   Code = "mapping-expires"   // NAT forgets sooner than the tunnel speaks
	ClockOff         Code = "clock-off"         //
	LargeLost        Code = "large-lost"        // large packets vanish
	LossyOneWay      Code = "lossy-one-way"     //
	Lossy            Code = "lossy"             //
	LinkFull         Code = "link-full"         //
	NeighbourRoute   Code = "neighbour-route"   // of the router beside a one-armed gateway
	HostGateway      Code = "host-gateway"      // a host has another gateway
	AnswerDropped    Code = "answer-dropped"    // of a host, by a firewall that did not see how it began
	HostSilent       Code = "host-silent"       //
	LANDead          Code = "lan-dead"          //
	TunnelDead       Code = "tunnel-dead"       // for a reason that is not seen
	Flapping         Code = "flapping"          // it came and went, and is kept out until it is steady
	Drilled          Code = "drill"             // it is held down
	GatewaysDisagree Code = "gateways-disagree" // all is as designed, and yet nothing comes through
)
