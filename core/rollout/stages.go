// Package rollout works out how a release is brought to gateways: in which waves, by which
// steps, and what is cut or moved while a part of them has the new configuration and the rest
// the old one.
package rollout

import (
	"net/netip"
	"reflect"
	"slices"

	"wideknot/core/addr"
	"wideknot/core/gateway"
)

// A Stage is how far one gateway is from its old configuration to its new one.
type Stage int

// The stages. Widened accepts what either says and sends as the old one does; Sending accepts
// the same and sends as the new one does.
const (
	Old Stage = iota
	Widened
	Sending
	New
)

var stageNames = [...]string{"old", "widened", "sending", "new"}

// String is the name of the stage.
func (s Stage) String() string { return stageNames[s] }

// sends reports whether a gateway at the stage has the newer of two specifications that
// cannot stand side by side.
func (s Stage) sends() bool { return s >= Sending }

// At is what a gateway is to be at a stage between two configurations; nil for an old one
// that is not there. Where either is missing there is nothing between them.
func At(old, new *gateway.Config, s Stage) *gateway.Config {
	switch {
	case s == Old:
		return old
	case s == New || old == nil || new == nil:
		return new
	case s == Widened:
		return widened(old, new)
	default:
		return widened(new, old)
	}
}

// widened is a configuration that also accepts what another one does: its tunnels beside the
// own ones, what either allows far ends to send from, and what either shares. What it sends
// stays as it is. A tunnel of the other one that needs a name, port, link or next hop that the
// own ones use otherwise cannot stand beside them, and is left out.
func widened(base, other *gateway.Config) *gateway.Config {
	out := *base
	out.Tunnels = slices.Clone(base.Tunnels)
	out.Lists = slices.Clone(base.Lists)
	out.Forward6 = base.Forward6 || other.Forward6
	w := widening{base: base, other: other, out: &out, lists: map[[2]int]int{}, taken: taken{}}
	there := leading(other)
	for i := range out.Tunnels {
		t := &out.Tunnels[i]
		w.taken.take(t)
		if also := there[far(t)]; also != nil && t.Interface == also.Interface && t.WireGuard != nil && also.WireGuard != nil {
			g := *t.WireGuard
			w.allow(&g, also.WireGuard)
			if other := also.WireGuard.PublicKey; g.PublicKey != other && g.PublicKey != "" {
				g.Also = other
			}
			t.WireGuard = &g
		}
	}
	var beside []*gateway.Tunnel
	for i := range other.Tunnels {
		if t := &other.Tunnels[i]; w.fits(t) {
			beside = append(beside, t)
			w.taken.take(t)
			out.Tunnels = append(out.Tunnels, w.carried(t))
		}
	}
	w.filter(beside)
	return &out
}

// widening holds what one widened configuration is made from.
type widening struct {
	base, other, out *gateway.Config
	lists            map[[2]int]int // of base's and the other's list → of both
	taken            taken
}

// taken are names, next hops, ports and far ends that tunnels have.
type taken map[any]bool

type (
	hopNumber  int
	portNumber int
)

func (k taken) take(t *gateway.Tunnel) {
	k[t.Interface], k[hopNumber(t.NextHop)], k[far(t)] = true, true, true
	if t.WireGuard != nil {
		k[portNumber(t.WireGuard.Port)] = true
	}
}

// farEnd is what a tunnel leads to.
type farEnd struct{ overlay, link, peer, peerLink string }

func far(t *gateway.Tunnel) farEnd { return farEnd{t.Overlay, t.Link, t.Peer, t.PeerLink} }

// fits reports whether a tunnel of the other configuration can stand beside the own ones.
func (w *widening) fits(t *gateway.Tunnel) bool { return w.taken.leave(w.base, w.other, t) }

// leave reports whether those that are taken leave room in a configuration for a tunnel of
// another one.
func (k taken) leave(base, other *gateway.Config, t *gateway.Tunnel) bool {
	link, there := base.Link(t.Link), other.Link(t.Link)
	if link == nil || there == nil || link.Mark != there.Mark || t.WireGuard == nil {
		return false
	}
	return !k[t.Interface] && !k[hopNumber(t.NextHop)] && !k[far(t)] && !k[portNumber(t.WireGuard.Port)]
}

// addsTo reports whether a widened configuration has tunnels of the other one.
func addsTo(base, other *gateway.Config) bool {
	own := taken{}
	for i := range base.Tunnels {
		own.take(&base.Tunnels[i])
	}
	return slices.ContainsFunc(other.Tunnels, func(t gateway.Tunnel) bool { return own.leave(base, other, &t) })
}

// carried is a tunnel of the other configuration with its list among the own ones.
func (w *widening) carried(t *gateway.Tunnel) gateway.Tunnel {
	out := *t
	if t.WireGuard.List > 0 {
		g := *t.WireGuard
		g.List = w.list(0, g.List)
		out.WireGuard = &g
	}
	return out
}

// allow adds what a far end may send from by the other configuration.
func (w *widening) allow(g, also *gateway.WireGuard) {
	g.Allowed = both(g.Allowed, also.Allowed)
	if also.List > 0 {
		g.List = w.list(g.List, also.List)
	}
}

// list makes one list of one of the base's, 0 for none, and one of the other's.
func (w *widening) list(own, others int) int {
	key := [2]int{own, others}
	if id, made := w.lists[key]; made {
		return id
	}
	prefixes := w.other.Lists[others-1].Prefixes
	if own > 0 {
		if prefixes = both(w.base.Lists[own-1].Prefixes, prefixes); len(prefixes) == len(w.base.Lists[own-1].Prefixes) {
			w.lists[key] = own
			return own
		}
	}
	w.out.Lists = append(w.out.Lists, gateway.List{ID: len(w.out.Lists) + 1, Prefixes: prefixes})
	w.lists[key] = len(w.out.Lists)
	return len(w.out.Lists)
}

// both is one list, and what another adds to it.
func both(a, b []netip.Prefix) []netip.Prefix {
	have := make(map[netip.Prefix]bool, len(a))
	for _, p := range a {
		have[p] = true
	}
	var more []netip.Prefix
	for _, p := range b {
		if !have[p] {
			more = append(more, p)
		}
	}
	if len(more) == 0 {
		return a
	}
	return slices.Concat(a, more)
}

// filter lets in what comes by tunnels that stand beside the own ones.
func (w *widening) filter(beside []*gateway.Tunnel) {
	f, there := &w.out.Filter, &w.other.Filter
	f.Own = addr.Aggregate(slices.Concat(f.Own, there.Own))
	if len(f.Own) == 0 {
		f.Own = nil
	}
	if len(beside) == 0 {
		return
	}
	// Clipped, so that what is added does not go into the base's own lists.
	f.Overlays, f.Arrivals, f.Kept = slices.Clone(f.Overlays), slices.Clip(f.Arrivals), slices.Clip(f.Kept)
	ports, kept := make(map[int]bool, len(beside)), make(map[string]bool, len(beside))
	overlays := map[string][]string{} // interfaces by overlay
	var order []string
	for _, t := range beside {
		ports[t.WireGuard.Port], kept[t.Interface] = true, true
		if overlays[t.Overlay] == nil {
			order = append(order, t.Overlay)
		}
		overlays[t.Overlay] = append(overlays[t.Overlay], t.Interface)
	}
	for _, arrival := range there.Arrivals {
		if ports[arrival.Port] {
			f.Arrivals = append(f.Arrivals, arrival)
			delete(ports, arrival.Port)
		}
	}
	for _, k := range there.Kept {
		if kept[k.Interface] {
			f.Kept = append(f.Kept, k)
			delete(kept, k.Interface)
		}
	}
	for _, overlay := range order {
		w.pass(overlay, overlays[overlay])
	}
}

// pass lets packets of tunnels pass as those of their overlay do.
func (w *widening) pass(overlay string, interfaces []string) {
	overlays := &w.out.Filter.Overlays
	of := func(list []gateway.Passing) int {
		return slices.IndexFunc(list, func(o gateway.Passing) bool { return o.Overlay == overlay })
	}
	from := of(w.other.Filter.Overlays)
	if from < 0 {
		return
	}
	there := &w.other.Filter.Overlays[from]
	at := of(*overlays)
	if at < 0 {
		one := *there
		one.Interfaces, one.Back, one.BackFrom = nil, nil, nil
		*overlays = append(*overlays, one)
		at = len(*overlays) - 1
	}
	o := &(*overlays)[at]
	o.Interfaces = append(slices.Clip(o.Interfaces), interfaces...)
	o.Relays = o.Relays || there.Relays
	back := make(map[string]bool, len(there.Back))
	for _, name := range there.Back {
		back[name] = true
	}
	before := len(o.Back)
	o.Back = slices.Clip(o.Back)
	for _, name := range interfaces {
		if back[name] {
			o.Back = append(o.Back, name)
		}
	}
	if len(o.Back) > before {
		o.BackFrom = both(o.BackFrom, there.BackFrom)
	}
}

// apart reports whether two specifications of one tunnel's end cannot work with one far end:
// what both ends must agree on differs. Keys are compared apart, where gateways say which they
// use.
func apart(a, b *gateway.Tunnel) bool {
	if far(a) != far(b) || (a.WireGuard == nil) != (b.WireGuard == nil) || !slices.Equal(a.Addresses, b.Addresses) {
		return true
	}
	if a.WireGuard == nil {
		return !reflect.DeepEqual(a.IPsec, b.IPsec)
	}
	x, y := a.WireGuard, b.WireGuard
	return x.Port != y.Port || x.Preshared != y.Preshared || x.Endpoint != y.Endpoint
}
