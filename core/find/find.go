// Package find answers what somebody types: the name of a thing, an address, or
// two addresses.
package find

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"wideknot/core/check"
	"wideknot/core/route"
)

// Kind is what a hit is.
type Kind string

// The kinds of hit, in the order in which they are listed.
const (
	Packet  Kind = "packet"  // two addresses: From and To
	Subnet  Kind = "subnet"  // Site and Prefix
	Site    Kind = "site"    // Site
	Tunnel  Kind = "tunnel"  // Overlay and Tunnel; Site is the end that was meant
	Overlay Kind = "overlay" // Overlay
	Finding Kind = "finding" // ID
)

var order = []Kind{Packet, Subnet, Site, Tunnel, Overlay, Finding}

// A Hit is one thing that may be meant. Text says what it is, Detail more of it.
type Hit struct {
	Kind    Kind         `json:"kind"`
	Text    string       `json:"text"`
	Detail  string       `json:"detail"`
	Site    string       `json:"site,omitempty"`
	Prefix  netip.Prefix `json:"prefix,omitzero"`
	Overlay string       `json:"overlay,omitempty"`
	Tunnel  string       `json:"tunnel,omitempty"`
	ID      string       `json:"id,omitempty"`
	From    string       `json:"from,omitempty"`
	To      string       `json:"to,omitempty"`

	rank int
}

// In lists at most limit things that a text may mean, the likeliest first: an
// address finds the subnets that hold it (as their hosts have it, or as others
// see it); two addresses a packet; a prefix what overlaps it; words the things
// in whose name all of them stand.
func In(m *route.Map, findings []check.Finding, text string, limit int) []Hit {
	words := strings.Fields(strings.ToLower(text))
	if len(words) == 0 {
		return []Hit{}
	}
	f := &finder{m: m, words: words}
	if addresses, ok := parse(words); ok {
		if len(addresses) == 2 {
			f.hits = append(f.hits, Hit{
				Kind: Packet, Text: "Follow a packet from " + addresses[0].String() + " to " + addresses[1].String(), Detail: "and the reply back",
				From: addresses[0].String(), To: addresses[1].String(), rank: -1000,
			})
		}
		for _, a := range addresses {
			f.holding(netip.PrefixFrom(a, a.BitLen()))
		}
	} else if p, err := netip.ParsePrefix(words[0]); err == nil && len(words) == 1 {
		f.holding(p.Masked())
	} else {
		f.named(findings)
	}
	slices.SortStableFunc(f.hits, func(a, b Hit) int {
		return cmp.Or(cmp.Compare(a.rank, b.rank), cmp.Compare(slices.Index(order, a.Kind), slices.Index(order, b.Kind)))
	})
	return f.hits[:min(len(f.hits), limit)]
}

// parse reads one or two addresses; an arrow between them may stand.
func parse(words []string) ([]netip.Addr, bool) {
	var out []netip.Addr
	for _, w := range words {
		if w == "->" || w == "→" || w == "to" {
			continue
		}
		a, err := netip.ParseAddr(w)
		if err != nil || a.Zone() != "" {
			return nil, false
		}
		out = append(out, a.Unmap())
	}
	return out, len(out) == 1 || len(out) == 2
}

type finder struct {
	m     *route.Map
	words []string
	hits  []Hit
}

// holding lists the subnets that overlap a prefix, the narrowest first.
func (f *finder) holding(p netip.Prefix) {
	sites := f.m.Plan.Estate.Sites
	for i := range sites {
		for j := range sites[i].Subnets {
			n := &sites[i].Subnets[j]
			mapped := n.Map.IsValid() && n.Map.Overlaps(p)
			if !n.Prefix.Overlaps(p) && !mapped {
				continue
			}
			detail := "at " + sites[i].Key
			if n.Zone != "" {
				detail += ", " + n.Zone
			}
			if len(n.Share) > 0 {
				detail += ", in " + strings.Join(n.Share, " and ")
			} else {
				detail += ", shared nowhere"
			}
			if mapped && !n.Prefix.Overlaps(p) {
				detail += ", seen there as " + n.Map.String()
			}
			f.hits = append(f.hits, Hit{
				Kind: Subnet, Text: n.Prefix.String(), Detail: detail, Site: sites[i].Key, Prefix: n.Prefix, rank: -n.Prefix.Bits(),
			})
		}
		for j := range sites[i].Links {
			for _, a := range sites[i].Links[j].Addresses {
				if p.Contains(a) {
					f.hits = append(f.hits, Hit{Kind: Site, Text: sites[i].Key, Detail: "has " + a.String() + " on its link " + sites[i].Links[j].Key, Site: sites[i].Key, rank: -a.BitLen()})
				}
			}
		}
		for _, e := range f.m.Plan.Ends(i) {
			local, remote := f.m.Plan.Sides(e)
			for _, address := range []netip.Prefix{local.Address4, local.Address6} {
				if address.IsValid() && p.Contains(address.Addr()) {
					f.tunnel(i, local.Interface, e.Overlay, f.ident(e.Overlay, e.Adjacency, e.Tunnel), "its address there is "+address.Addr().String()+", to "+f.m.Plan.Site(remote.Site).Key, -address.Addr().BitLen())
				}
			}
		}
	}
}

func (f *finder) ident(overlay, adjacency, tunnel int) string {
	return f.m.Plan.Ident(&f.m.Plan.Overlays[overlay].Adjacencies[adjacency].Tunnels[tunnel])
}

func (f *finder) tunnel(site int, face string, overlay int, ident, detail string, rank int) {
	key := f.m.Plan.Site(site).Key
	f.hits = append(f.hits, Hit{
		Kind: Tunnel, Text: face + " at " + key, Detail: detail, Site: key,
		Overlay: f.m.Plan.Overlays[overlay].Spec.Key, Tunnel: ident, rank: rank,
	})
}

// match ranks a name: 0 is the whole of it, 1 its beginning, 2 somewhere in it;
// ok is false when a word is missing.
func (f *finder) match(names ...string) (rank int, ok bool) {
	all := strings.ToLower(strings.Join(names, " "))
	for _, w := range f.words {
		if !strings.Contains(all, w) {
			return 0, false
		}
	}
	typed := strings.Join(f.words, " ")
	rank = 2
	for _, name := range names {
		switch name = strings.ToLower(name); {
		case name == typed:
			return 0, true
		case strings.HasPrefix(name, typed):
			rank = 1
		}
	}
	return rank, true
}

func (f *finder) named(findings []check.Finding) {
	p := f.m.Plan
	for i := range p.Estate.Sites {
		s := &p.Estate.Sites[i]
		if rank, ok := f.match(s.Key, s.Name); ok {
			f.hits = append(f.hits, Hit{Kind: Site, Text: s.Name, Detail: s.Key, Site: s.Key, rank: rank})
		}
		for j := range s.Subnets {
			if n := &s.Subnets[j]; n.Name != "" {
				if rank, ok := f.match(n.Name, s.Key); ok && strings.Contains(strings.ToLower(n.Name), f.words[0]) {
					f.hits = append(f.hits, Hit{Kind: Subnet, Text: n.Prefix.String(), Detail: n.Name + " at " + s.Key, Site: s.Key, Prefix: n.Prefix, rank: rank + 1})
				}
			}
		}
	}
	for i := range p.Overlays {
		if rank, ok := f.match(p.Overlays[i].Spec.Key); ok {
			f.hits = append(f.hits, Hit{Kind: Overlay, Text: p.Overlays[i].Spec.Key, Detail: "overlay", Overlay: p.Overlays[i].Spec.Key, rank: rank})
		}
	}
	for i := range p.Estate.Sites {
		for _, e := range p.Ends(i) {
			local, remote := p.Sides(e)
			far := p.Site(remote.Site).Key
			if rank, ok := f.match(local.Interface, p.Site(i).Key, far); ok && (strings.Contains(local.Interface, f.words[0]) || len(f.words) > 1) {
				f.tunnel(i, local.Interface, e.Overlay, f.ident(e.Overlay, e.Adjacency, e.Tunnel), p.Link(local).Key+" to "+far+"/"+p.Link(remote).Key, rank+1)
			}
		}
	}
	for i := range findings {
		if rank, ok := f.match(findings[i].Title); ok {
			f.hits = append(f.hits, Hit{Kind: Finding, Text: findings[i].Title, Detail: string(findings[i].Severity), ID: findings[i].ID, rank: rank + 2})
		}
	}
}
