// Package sample makes synthetic estates of any size, the same for the same
// seed, for trying things out at scale.
package sample

import (
	"fmt"
	"math/rand/v2"
	"net/netip"

	"wideknot/core/addr"
	"wideknot/core/estate"
)

// Options say what estate to make. The zero value of each field stands for the
// value in brackets.
type Options struct {
	Sites   int          // spokes, or the members of a mesh (100); at most 9,900
	Hubs    int          // (2); a mesh has none
	Links   int          // WAN links of each site (2); at most 3
	Subnets int          // of each site (1); at most 4
	Shape   estate.Shape // (hub-and-spoke)
	Seed    uint64
	Trouble bool // plant a few collisions, shared fates and unreachable pairs
}

// regions and kinds give the estate something like a geography.
var regions = []string{"north", "east", "south", "west"}

// MaxSites is the most sites Estate makes.
const MaxSites = 9900

// Estate makes an estate. Hubs have static links only; sites have a fixed line
// first, then cell, then satellite, the last two behind NAT.
func Estate(o Options) (*estate.Estate, error) {
	if o.Sites == 0 {
		o.Sites = 100
	}
	if o.Hubs == 0 {
		o.Hubs = 2
	}
	if o.Links == 0 {
		o.Links = 2
	}
	if o.Subnets == 0 {
		o.Subnets = 1
	}
	if o.Shape == "" {
		o.Shape = estate.HubAndSpoke
	}
	if o.Shape == estate.FullMesh {
		o.Hubs = 0
	}
	switch {
	case o.Sites < 1 || o.Sites > MaxSites:
		return nil, fmt.Errorf("a sample has 1 to %d sites, not %d", MaxSites, o.Sites)
	case o.Links < 1 || o.Links > 3:
		return nil, fmt.Errorf("a sample's sites have 1 to 3 links, not %d", o.Links)
	case o.Subnets < 1 || o.Subnets > 4:
		return nil, fmt.Errorf("a sample's sites have 1 to 4 subnets, not %d", o.Subnets)
	case o.Hubs < 0 || o.Hubs > 16:
		return nil, fmt.Errorf("a sample has up to 16 hubs, not %d", o.Hubs)
	}
	m := maker{Options: o, random: rand.New(rand.NewPCG(o.Seed, 1))}
	return m.estate(), nil
}

type maker struct {
	Options
	random *rand.Rand
	made   int
}

func (m *maker) estate() *estate.Estate {
	e := &estate.Estate{Format: estate.Format, About: estate.About{Name: fmt.Sprintf("Sample of %d sites", m.Sites)}}
	for i, key := range regions {
		block := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(i * 64), 0, 0}), 10)
		e.About.Regions = append(e.About.Regions, estate.Region{Key: key, Blocks: []netip.Prefix{block}})
	}
	o := estate.Overlay{
		Key: "ops", Shape: m.Shape, Transport: estate.WireGuard, Pairing: estate.Every,
		Transit: []netip.Prefix{netip.MustParsePrefix("100.64.0.0/10")}, Numbering: estate.PerTunnel,
	}
	if m.Shape == estate.FullMesh {
		o.Numbering = estate.PerSite
	}
	for i := range m.Hubs {
		key := fmt.Sprintf("hub-%d", i+1)
		e.Sites = append(e.Sites, m.site(key, fmt.Sprintf("Hub %d", i+1), true))
		o.Hubs = append(o.Hubs, key)
	}
	for i := range m.Sites {
		key := fmt.Sprintf("site-%05d", i+1)
		e.Sites = append(e.Sites, m.site(key, fmt.Sprintf("Site %d", i+1), m.Shape == estate.FullMesh))
		o.Spokes = append(o.Spokes, estate.Spoke{Site: key})
	}
	if m.Shape == estate.Custom { // every tenth site is joined with the next
		for i := 0; i+1 < len(o.Spokes); i += 10 {
			o.Direct = append(o.Direct, []string{o.Spokes[i].Site, o.Spokes[i+1].Site})
		}
	}
	e.Overlays = []estate.Overlay{o}
	if m.Trouble {
		m.plant(e)
	}
	return e
}

var lines = []struct {
	key, provider string
	down, up      float64
	mtu           int
	metered       bool
}{
	{"fibre", "Lumenway", 200, 200, 1500, false},
	{"cell", "Skylark Mobile", 40, 10, 1428, true},
	{"satellite", "Highorbit", 10, 2, 1400, true},
}

func (m *maker) site(key, name string, fixed bool) estate.Site {
	region := m.made % len(regions)
	s := estate.Site{Key: key, Name: name, Region: regions[region], DemandMbps: float64(1 + m.random.IntN(20)), Gateway: estate.Gateway{Switches: true}}
	for j := range m.Links {
		line := lines[j]
		l := estate.Link{
			Key: line.key, Provider: line.provider, Reach: estate.NAT, Rank: j + 1,
			DownMbps: line.down, UpMbps: line.up, MTU: line.mtu, Metered: line.metered,
			SharedFate:   []string{fmt.Sprintf("%s-%d", []string{"duct", "mast", "dish"}[j], m.made)},
			Availability: 99.9 - float64(j)*0.7,
		}
		if fixed || j == 0 && m.random.IntN(3) > 0 {
			l.Reach = estate.Static
			// Benchmarking space (RFC 2544): larger than the documentation ranges.
			n := uint64(m.made*3 + j)
			block, _ := addr.Nth(netip.MustParsePrefix("198.18.0.0/15"), 32, n%(1<<17))
			l.Addresses = []netip.Addr{block.Addr()}
		}
		s.Links = append(s.Links, l)
	}
	for j := range m.Subnets {
		block, _ := addr.Nth(netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(region * 64), 0, 0}), 10), 26, uint64(m.made/len(regions)*4+j))
		s.Subnets = append(s.Subnets, estate.Subnet{Prefix: block, Zone: []string{"control", "office", "camera", "guest"}[j], Share: []string{"ops"}})
	}
	m.made++
	return s
}

// plant spoils one site in fifty.
func (m *maker) plant(e *estate.Estate) {
	first := m.Hubs
	for i := first + 1; i < len(e.Sites); i += 50 {
		s := &e.Sites[i]
		switch m.random.IntN(3) {
		case 0:
			s.Subnets[0].Prefix = e.Sites[i-1].Subnets[0].Prefix
		case 1:
			for j := range s.Links {
				s.Links[j].SharedFate = []string{fmt.Sprintf("mast-%d", i)}
			}
		case 2:
			s.Links[0].MTU = 1300
		}
	}
}
