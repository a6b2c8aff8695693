package check

import "sync"

// A Check looks at one derivation and reports what it finds, under the codes it
// is listed with.
type Check struct {
	Codes []Code
	Run   func(in *Input, report func(Finding))
}

// A Code is a kind of finding.
type Code struct {
	Name     string // family/name
	Severity Severity
	Stage    string // of the work in which it is fixed
	Doc      string // what is wrong, in a sentence
}

// Checks are all checks, in the order of the work; those of loads, which need a
// model of outages, run last (see WithLoads).
var Checks = []Check{
	{Run: sameSite, Codes: []Code{
		{"address/same-site", Error, "addresses", "Two subnets of one site overlap."},
	}},
	{Run: collisions, Codes: []Code{
		{"address/collision", Error, "addresses", "Subnets of several sites overlap and meet in an overlay."},
		{"address/latent", Note, "addresses", "Subnets of several sites overlap, but meet in no overlay."},
	}},
	{Run: mapped, Codes: []Code{
		{"address/idle-map", Note, "addresses", "A subnet has a 1:1 map, but is shared into no overlay."},
	}},
	{Run: specialSpace, Codes: []Code{
		{"address/special", Warning, "addresses", "A subnet lies in space kept for something else, such as loopback, link-local or documentation."},
	}},
	{Run: linkAddresses, Codes: []Code{
		{"address/link", Warning, "addresses", "A WAN link's address lies in a subnet of its own site."},
		{"address/endpoint", Error, "addresses", "A tunnel's endpoint lies in a prefix that is reached through tunnels."},
	}},
	{Run: underlays, Codes: []Code{
		{"address/underlay", Error, "addresses", "A subnet overlaps the block of a private underlay."},
	}},
	{Run: pools, Codes: []Code{
		{"pool/subnet", Error, "addresses", "A transit pool overlaps a member's subnet."},
		{"pool/link", Error, "addresses", "A transit pool holds the address of a member's link."},
		{"pool/underlay", Error, "addresses", "A transit pool overlaps the block of a private underlay."},
		{"pool/pool", Error, "addresses", "The transit pools of two overlays overlap."},
	}},
	{Run: membership, Codes: []Code{
		{"shape/no-overlay", Note, "shape", "A site is in no overlay."},
		{"shape/share-outside", Warning, "shape", "A subnet is shared into an overlay of which its site is no member."},
		{"shape/unshared", Note, "shape", "A subnet is shared into no overlay."},
	}},
	{Run: asymmetric, Codes: []Code{
		{"path/asymmetric", Warning, "shape", "A pin makes answers come back another way."},
	}},
	{Run: clauses, Codes: []Code{
		{"policy/dead", Warning, "shape", "A rule can never match."},
		{"policy/shadowed", Warning, "shape", "A rule is never asked, as one above it decides for all it matches."},
		{"policy/return", Warning, "shape", "A rule lets sessions start whose answers another rule denies."},
		{"policy/one-way", Warning, "shape", "A denial of one direction also keeps out the answers of the other."},
	}},
	{Run: breakouts, Codes: []Code{
		{"breakout/nat", Error, "shape", "A hub that gives breakout has no known internet device."},
		{"breakout/family", Error, "shape", "A hub that gives breakout has no way to the internet in an IP version that is used there."},
		{"breakout/no-hub", Error, "shape", "A site that breaks out has no tunnel to such a hub."},
		{"breakout/pins", Error, "shape", "A tunnel's own packets would be sent into the tunnel."},
	}},
	{Run: deaf, Codes: []Code{
		{"gateway/no-lan-address", Error, "survey", "A gateway beside its LAN's router has no address there of an IP version that it shares."},
	}},
	{Run: poolRoom, Codes: []Code{
		{"pool/room", Error, "addresses", "A transit pool has no room for all tunnels."},
	}},
	{Run: carrierSpace, Codes: []Code{
		{"pool/carrier", Warning, "addresses", "A transit pool lies in carrier space, as does the address of a member's link."},
	}},
	{Run: spokesWithoutHub, Codes: []Code{
		{"shape/no-hub", Error, "shape", "A spoke reaches no hub."},
	}},
	{Run: apart, Codes: []Code{
		{"shape/apart", Error, "shape", "Two sites that an overlay joins cannot have a tunnel."},
	}},
	{Run: hubReach, Codes: []Code{
		{"shape/hub-address", Warning, "shape", "A hub has no static address."},
	}},
	{Run: links, Codes: []Code{
		{"link/single", Warning, "survey", "A site has a single WAN link."},
		{"link/shared-fate", Warning, "survey", "All links of a site share a fate."},
		{"link/first-backup", Note, "survey", "The first two links of a site share a fate, a further one does not."},
	}},
	{Run: equalRanks, Codes: []Code{
		{"link/equal-rank", Warning, "survey", "Two links of a site have the same rank, and no weights."},
	}},
	{Run: sharing, Codes: []Code{
		{"link/weight", Note, "survey", "A link has a weight, but shares the load with no other."},
		{"link/sharing-zones", Error, "survey", "Links that share the load let different zones through."},
	}},
	{Run: hostNames, Codes: []Code{
		{"link/name", Warning, "survey", "A link is found by a name that cannot be resolved everywhere."},
	}},
	{Run: limits, Codes: []Code{
		{"gateway/limit", Error, "survey", "A gateway ends more tunnels than it can, or just as many."},
	}},
	{Run: throughput, Codes: []Code{
		{"gateway/throughput", Warning, "survey", "Sites ask a hub's gateway for more than it can do."},
	}},
	{Run: mtus, Codes: []Code{
		{"mtu/small", Warning, "survey", "A tunnel has less room than IPv6 needs."},
	}},
	{Run: mixedMTU, Codes: []Code{
		{"mtu/mixed", Note, "survey", "A tunnel that stands by is narrower than the first."},
	}},
	{Run: ports, Codes: []Code{
		{"gateway/interface", Error, "survey", "A tunnel's interface has the name of a device."},
		{"gateway/ports", Error, "survey", "A gateway has no UDP port left for some tunnels."},
	}},
	{Run: forwards, Codes: []Code{
		{"gateway/not-forwarded", Error, "survey", "Tunnels listen on ports that the router before their link does not forward."},
	}},
	{Run: idle, Codes: []Code{
		{noSwitching, Error, "survey", "Nothing takes a dead tunnel out of use."},
	}},
	{Run: clocks, Codes: []Code{
		{"gateway/clock", Warning, "survey", "A gateway's clock is off."},
	}},
	{Run: keys, Codes: []Code{
		{"key/missing", Note, "survey", "Gateways have no key yet."},
		{"key/reused", Error, "survey", "Two gateways use one key."},
	}},
	{Run: proposals, Codes: []Code{
		{"crypto/proposals", Error, "shape", "Two ends have no IPsec proposal in common."},
		{"crypto/transport", Error, "shape", "A gateway cannot do the overlay's transport."},
	}},
	{Run: tellings, Codes: []Code{
		{"shape/nothing-told", Warning, "shape", "Hubs are to tell which sites they reach, and cannot."},
	}},
	{Run: quality, Codes: []Code{
		{"limits/zone", Warning, "outages", "A zone is held to limits, and no subnet that the overlay shares is in it."},
		{"limits/unkept", Warning, "outages", "Gateways do not put tunnels in order by limits."},
		{"limits/beyond", Warning, "outages", "By the survey, no tunnel between two sites keeps to the limits."},
	}},
	{Run: pending, Codes: []Code{
		{"pending/probe-profile", Warning, "shape", "A probe profile is planned that bundles do not carry out yet."},
	}},
	{Codes: []Code{
		{"load/link", Warning, "survey", "A link has more to carry than it can while nothing fails."},
		{"load/gateway", Warning, "survey", "A gateway has more to carry than it can while nothing fails."},
	}},
}

// byName finds a code by its name.
var byName = sync.OnceValue(func() map[string]Code {
	out := map[string]Code{}
	for _, c := range Checks {
		for _, code := range c.Codes {
			out[code.Name] = code
		}
	}
	return out
})

// Stage names the stage of the work in which a finding is fixed.
func (f *Finding) Stage() string { return byName()[f.Code].Stage }
