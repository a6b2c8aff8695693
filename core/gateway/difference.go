package gateway

import (
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strings"
)

// Act is what an operation does.
type Act string

// The acts.
const (
	Add    Act = "add"
	Change Act = "change"
	Remove Act = "remove"
)

// Kind is what an operation is about.
type Kind string

// The kinds. Filter is everything that judges or changes packets.
const (
	OfDiscard Kind = "discard"
	OfLink    Kind = "link"
	OfList    Kind = "prefix list"
	OfTunnel  Kind = "tunnel"
	OfWay     Kind = "way"
	OfRoute   Kind = "route"
	OfRule    Kind = "rule"
	OfFilter  Kind = "filter"
	OfTelling Kind = "telling"
	OfKey     Kind = "key"
)

// An Operation is one step from a configuration to another. Index is the place of
// what it is about in the lists of the newer configuration, or of the older one
// where it is removed; -1 for the filter and the key.
type Operation struct {
	Act   Act
	Kind  Kind
	Index int
	Words string // in a sentence's form, for people
}

// Difference lists what leads from one configuration to another, in an order in which
// nothing that stays is cut: discards come; links, lists, the key, tunnels, the filter, ways, routes,
// rules; then what is no longer wanted goes, in the other order. A nil configuration
// is an empty one. Two with one digest have no difference.
func Difference(was, is *Config) []Operation {
	if was == nil {
		was = &Config{}
	}
	if is == nil {
		is = &Config{}
	}
	discards := compare(OfDiscard, was.Discards, is.Discards, alike[Discard], func(d *Discard) place { return place{d.Table, d.Prefix} },
		func(d *Discard) string { return "discard for " + place{d.Table, d.Prefix}.String() }, nil)
	links := compare(OfLink, was.Links, is.Links, sameLink, func(l *Link) string { return l.Key },
		func(l *Link) string { return "WAN link " + l.Key }, nil)
	lists := compare(OfList, was.Lists, is.Lists, sameList, func(l *List) int { return l.ID },
		func(l *List) string { return fmt.Sprintf("list %d of allowed prefixes", l.ID) },
		func(a, b *List) string {
			return fmt.Sprintf(" changes: %d come, %d go", missing(b.Prefixes, a.Prefixes), missing(a.Prefixes, b.Prefixes))
		})
	tunnels := compare(OfTunnel, was.Tunnels, is.Tunnels, sameTunnel, func(t *Tunnel) string { return t.Interface },
		func(t *Tunnel) string { return fmt.Sprintf("tunnel %s to %s/%s", t.Interface, t.Peer, t.PeerLink) }, tunnelWords)
	ways := compare(OfWay, was.Ways, is.Ways, sameGroups, func(w *Way) int { return w.ID },
		func(w *Way) string { return "way by " + w.Words() }, nil)
	byID := func(c *Config) map[int]*Way {
		out := make(map[int]*Way, len(c.Ways))
		for i := range c.Ways {
			out[c.Ways[i].ID] = &c.Ways[i]
		}
		return out
	}
	waysWere, waysAre := byID(was), byID(is)
	routes := compare(OfRoute, was.Routes, is.Routes, alike[Route], func(r *Route) place { return place{r.Table, r.Prefix} },
		func(r *Route) string { return "route to " + place{r.Table, r.Prefix}.String() },
		func(a, b *Route) string {
			return fmt.Sprintf(" moves from %s to %s", a.by(waysWere), b.by(waysAre))
		})
	rules := compare(OfRule, was.Rules, is.Rules, sameRule, func(r *Rule) string { return fmt.Sprint(r.Family, r.Priority) },
		func(r *Rule) string { return fmt.Sprintf("%s rule %d", r.Family, r.Priority) }, nil)
	tellings := compare(OfTelling, was.Tellings, is.Tellings, sameTelling, func(t *Telling) string { return t.Overlay },
		func(t *Telling) string { return "what hubs of " + t.Overlay + " tell" }, nil)
	filter := changes{}
	if !sameJudgement(was, is) {
		filter.make = []Operation{{Act: Change, Kind: OfFilter, Index: -1, Words: "the filter and translation change"}}
	}
	var key []Operation
	if was.PublicKey != is.PublicKey {
		key = []Operation{{Act: Change, Kind: OfKey, Index: -1, Words: "the key that the gateway uses changes"}}
	}
	out := slices.Concat(discards.make, links.make, lists.make, key, tunnels.make, filter.make, ways.make, tellings.make, routes.make, rules.make)
	return slices.Concat(out, rules.drop, routes.drop, tellings.drop, ways.drop, tunnels.drop, lists.drop, links.drop, discards.drop)
}

// missing counts what is in one list and not in another.
func missing(in, from []netip.Prefix) (n int) {
	have := make(map[netip.Prefix]bool, len(from))
	for _, p := range from {
		have[p] = true
	}
	for _, p := range in {
		if !have[p] {
			n++
		}
	}
	return n
}

func inTable(n int) string {
	if n == DefaultTable {
		return ""
	}
	return fmt.Sprintf(" in table %d", n)
}

// by names where a route leads.
func (r *Route) by(ways map[int]*Way) string {
	if w := ways[r.Way]; w != nil {
		return w.Words()
	}
	return r.Via.String() + " at " + r.Device
}

// Words lists the tunnels of a way in order: those that share the load with a plus
// between, those that stand by behind "then".
func (w *Way) Words() string {
	var text strings.Builder
	for i := range w.Groups {
		if i > 0 {
			text.WriteString(", then ")
		}
		for j := range w.Groups[i].Members {
			if j > 0 {
				text.WriteString(" + ")
			}
			text.WriteString(w.Groups[i].Members[j].Interface)
		}
	}
	return text.String()
}

// tunnelWords says what changes of a tunnel.
func tunnelWords(a, b *Tunnel) string {
	var what []string
	note := func(name string, differs bool) {
		if differs {
			what = append(what, name)
		}
	}
	note(fmt.Sprintf("rank %d → %d", a.Rank, b.Rank), a.Rank != b.Rank)
	note(fmt.Sprintf("MTU %d → %d", a.MTU, b.MTU), a.MTU != b.MTU)
	note("addresses", !slices.Equal(a.Addresses, b.Addresses))
	note("link", a.Link != b.Link || a.PeerLink != b.PeerLink || a.Peer != b.Peer)
	note("zones that it carries", a.Limited != b.Limited || !slices.Equal(a.Zones, b.Zones))
	note("probe", !reflect.DeepEqual(a.Probe, b.Probe))
	if x, y := a.WireGuard, b.WireGuard; x != nil && y != nil {
		note(fmt.Sprintf("port %d → %d", x.Port, y.Port), x.Port != y.Port)
		note("the peer's key", x.PublicKey != y.PublicKey)
		note("another key of the peer", x.Also != y.Also)
		note("pre-shared key", x.Preshared != y.Preshared)
		note(fmt.Sprintf("keepalive %d s → %d s", x.Keepalive, y.Keepalive), x.Keepalive != y.Keepalive)
		note("endpoint "+orNone(x.Endpoint)+" → "+orNone(y.Endpoint), x.Endpoint != y.Endpoint)
		note("allowed prefixes", !slices.Equal(x.Allowed, y.Allowed) || x.List != y.List)
	} else {
		note("IPsec", !reflect.DeepEqual(a.IPsec, b.IPsec))
	}
	if len(what) == 0 {
		return " changes"
	}
	return " changes: " + strings.Join(what, ", ")
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// changes are operations of one kind: those that make, and those that take away.
type changes struct{ make, drop []Operation }

// compare compares two lists by name: same tells whether two items are the same, how
// in what they are not; nil says only that they are not.
func compare[T any, K comparable](kind Kind, was, is []T, same func(a, b *T) bool, name func(*T) K, words func(*T) string, how func(a, b *T) string) (out changes) {
	old := make(map[K]int, len(was))
	for i := range was {
		old[name(&was[i])] = i
	}
	for i := range is {
		key := name(&is[i])
		j, there := old[key]
		delete(old, key)
		switch {
		case !there:
			out.make = append(out.make, Operation{Add, kind, i, words(&is[i]) + " is new"})
		case !same(&was[j], &is[i]):
			more := " changes"
			if how != nil {
				more = how(&was[j], &is[i])
			}
			out.make = append(out.make, Operation{Change, kind, i, words(&is[i]) + more})
		}
	}
	for i := range was {
		if j, gone := old[name(&was[i])]; gone && j == i {
			out.drop = append(out.drop, Operation{Remove, kind, i, words(&was[i]) + " goes"})
		}
	}
	return out
}
