package kernel

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"github.com/vishvananda/netlink"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/agent"
)

// An applying is one pass of Apply.
type applying struct {
	p         *Plane
	was, is   *gateway.Config
	secrets   agent.Secrets
	choice    *agent.Choice
	links     map[string]link
	addresses map[int][]netip.Prefix
	routes    map[routeKey]*route // that are there
	wanted    map[routeKey]*route
	hops      map[int]*nextHop
	wider     []*gateway.Tunnel // whose peers are allowed more than they are to be
	notes     []string
}

// Apply makes the gateway what is says, in an order in which nothing that stays is cut.
func (p *Plane) Apply(was, is *gateway.Config, secrets agent.Secrets, choice *agent.Choice) ([]string, error) {
	a := &applying{p: p, was: was, is: is, secrets: secrets, choice: choice}
	also := was
	if was == nil {
		also = &gateway.Config{}
	}
	p.devices.begin()
	steps := []func() error{
		a.read, a.discards,
		func() error { return p.filter(is, also) },
		a.interfaces,
		func() error { return p.settings(is) },
		a.shape, a.nextHops, a.ways, a.setRoutes, a.setRules, a.dropRules, a.dropRoutes, a.dropNextHops, a.dropInterfaces, a.narrow,
		func() error { return p.filter(is, nil) },
		a.dropDiscards,
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return a.notes, err
		}
	}
	return a.notes, nil
}

func (a *applying) note(format string, values ...any) {
	a.notes = append(a.notes, fmt.Sprintf(format, values...))
}

// read reads what is there, and works out which routes are to be.
func (a *applying) read() (err error) {
	if a.links, err = links(); err != nil {
		return err
	}
	if a.addresses, err = addresses(); err != nil {
		return err
	}
	if a.routes, err = routes(); err != nil {
		return err
	}
	if a.hops, err = nextHops(); err != nil {
		return err
	}
	a.wanted = make(map[routeKey]*route, len(a.is.Routes)+len(a.is.Discards))
	for i := range a.is.Discards {
		d := &a.is.Discards[i]
		r := &route{table: tableOf(d.Table), prefix: d.Prefix}
		a.wanted[r.key()] = r
	}
	missing := map[string]bool{}
	var steers map[agent.Place]int
	if a.choice != nil {
		steers = a.choice.Steers
	}
	for i := range a.is.Routes {
		w := &a.is.Routes[i]
		r := &route{table: tableOf(w.Table), prefix: w.Prefix, way: w.Way, via: w.Via}
		if way, ok := steers[agent.Place{Table: w.Table, Prefix: w.Prefix}]; ok && w.Way != 0 {
			r.way = way
		}
		if w.Way == 0 {
			l, there := a.links[w.Device]
			if !there || !l.up {
				if !missing[w.Device] {
					a.note("a WAN link cannot be left as the design says: its device %s is missing or down", w.Device)
				}
				missing[w.Device] = true
				continue
			}
			r.device = l.index
		}
		a.wanted[r.key()] = r
	}
	return nil
}

// set makes the routes that are wanted and not there, discards or others.
func (a *applying) set(discards bool) error {
	for key, r := range a.wanted {
		if have := a.routes[key]; key.discard != discards || have != nil && *have == *r {
			continue
		}
		if err := r.set(); err != nil {
			if r.device == 0 {
				return err
			}
			a.note("a WAN link cannot be left as the design says: %v", err) // its address is to come
		}
	}
	return nil
}

// drop takes routes away that are there and not wanted.
func (a *applying) drop(discards bool) error {
	for key, r := range a.routes {
		if a.wanted[key] == nil && key.discard == discards {
			if err := r.drop(); err != nil {
				return err
			}
		}
	}
	return nil
}

func (a *applying) discards() error { return a.set(true) }
func (a *applying) setRoutes() error {
	list, _ := probing(a.is, a.links)
	for _, r := range list {
		a.wanted[r.key()] = r
	}
	return a.set(false)
}

func (a *applying) dropRoutes() error   { return a.drop(false) }
func (a *applying) dropDiscards() error { return a.drop(true) }

// interfaces makes them and gives them what they lack.
func (a *applying) interfaces() error {
	before := map[string]*gateway.Tunnel{}
	for i := 0; a.was != nil && i < len(a.was.Tunnels); i++ {
		before[a.was.Tunnels[i].Interface] = &a.was.Tunnels[i]
	}
	for i := range a.is.Tunnels {
		t := &a.is.Tunnels[i]
		l, there := a.links[t.Interface]
		if there && !l.ours {
			return fmt.Errorf("there is an interface %s that is not ours: take it away or rename it", t.Interface)
		}
		if !there {
			var err error
			if l, err = a.p.makeInterface(t.Interface); err != nil {
				return err
			}
		}
		var shared *[32]byte
		if key, ok := a.secrets.Shared[t.Interface]; ok && t.WireGuard.Preshared {
			shared = &key
		}
		old := before[t.Interface]
		moved := old == nil || old.WireGuard == nil || old.WireGuard.Endpoint != t.WireGuard.Endpoint
		wider, err := wire(a.p.client, a.is, t, a.secrets.Private, shared, moved)
		if err != nil {
			return err
		}
		if wider {
			a.wider = append(a.wider, t)
		}
		if err := give(t, l, a.addresses[l.index]); err != nil {
			return err
		}
		if !l.up {
			if err := netlink.LinkSetUp(byIndex(l.index)); err != nil {
				return fmt.Errorf("setting %s up: %w", t.Interface, err)
			}
			l.up = true
			if err := give(t, l, nil); err != nil { // those of IPv6 went with it
				return err
			}
		}
		a.links[t.Interface] = l
	}
	return nil
}

// shape makes the trees of links and leads tunnels through them.
func (a *applying) shape() error {
	trees := treesOf(a.is)
	roots := map[string]int{}
	for key, t := range trees {
		index, err := t.grow(a.links)
		if err != nil {
			return err
		}
		roots[key] = index
	}
	for i := range a.is.Tunnels {
		t := &a.is.Tunnels[i]
		if err := redirect(t.Interface, a.links[t.Interface].index, roots[t.Link]); err != nil {
			return err
		}
	}
	return nil
}

// nextHops makes the objects of tunnels, and the one of what is discarded.
func (a *applying) nextHops() error {
	want := map[int]*nextHop{gateway.Blackhole: {discard: true}}
	for i := range a.is.Tunnels {
		t := &a.is.Tunnels[i]
		if l := a.links[t.Interface]; l.up {
			want[t.NextHop] = &nextHop{device: l.index}
		}
	}
	return a.setNextHops(want)
}

func (a *applying) setNextHops(want map[int]*nextHop) error {
	for id, h := range want {
		if have := a.hops[id]; have == nil || !have.same(h) {
			if have != nil && (have.members == nil) != (h.members == nil) {
				if err := dropNextHop(id); err != nil { // one kind does not become the other
					return err
				}
			}
			if err := setNextHop(id, h); err != nil {
				return err
			}
			a.hops[id] = h
		}
	}
	return nil
}

// ways lets each way go by what it is to use.
func (a *applying) ways() error {
	return a.setNextHops(groupsOf(a.is, a.choice.Uses, func(t *gateway.Tunnel) bool { return a.links[t.Interface].up }))
}

// groupsOf writes uses as groups of next hops. Members whose interface is not up are
// left out, and a way without any discards.
func groupsOf(c *gateway.Config, uses []agent.Use, up func(*gateway.Tunnel) bool) map[int]*nextHop {
	byName := make(map[string]*gateway.Tunnel, len(c.Tunnels))
	for i := range c.Tunnels {
		byName[c.Tunnels[i].Interface] = &c.Tunnels[i]
	}
	out := make(map[int]*nextHop, len(uses))
	for _, u := range uses {
		h := &nextHop{}
		for _, m := range u.Members {
			if t := byName[m.Interface]; t != nil && up(t) {
				h.members = append(h.members, nextHopMember{uint32(t.NextHop), uint8(m.Weight - 1)})
			}
		}
		if len(h.members) == 0 {
			h.members = []nextHopMember{{gateway.Blackhole, 0}}
		}
		// The kernel keeps a group in the order of its numbers.
		slices.SortFunc(h.members, func(a, b nextHopMember) int { return int(a.id) - int(b.id) })
		out[u.Way] = h
	}
	return out
}

func (a *applying) setRules() error { return a.changeRules(false) }

func (a *applying) dropRules() error { return a.changeRules(true) }

func (a *applying) changeRules(drop bool) error {
	have, err := rules()
	if err != nil {
		return err
	}
	want := rulesOf(a.is)
	_, more := probing(a.is, a.links)
	maps.Copy(want, more)
	if drop {
		for r := range have {
			if !want[r] {
				if err := r.drop(); err != nil {
					return err
				}
			}
		}
		return nil
	}
	for r := range want {
		if !have[r] {
			if err := r.set(); err != nil {
				return err
			}
		}
	}
	return nil
}

// dropNextHops takes ways away that nothing goes by any more, then next hops.
func (a *applying) dropNextHops() error {
	keep := map[int]bool{gateway.Blackhole: true}
	for i := range a.is.Tunnels {
		keep[a.is.Tunnels[i].NextHop] = true
	}
	for i := range a.is.Ways {
		keep[a.is.Ways[i].ID] = true
	}
	if a.choice != nil {
		for i := range a.choice.Uses {
			keep[a.choice.Uses[i].Way] = true
		}
	}
	for _, ways := range []bool{true, false} {
		for id := range a.hops {
			if !keep[id] && (id >= gateway.FirstWay) == ways {
				if err := dropNextHop(id); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// dropInterfaces takes interfaces of ours away that are not wanted, and addresses.
func (a *applying) dropInterfaces() error {
	keep := map[string]bool{}
	for i := range a.is.Tunnels {
		t := &a.is.Tunnels[i]
		keep[t.Interface] = true
		l := a.links[t.Interface]
		if err := take(t, l, a.addresses[l.index]); err != nil {
			return err
		}
	}
	for _, t := range treesOf(a.is) {
		keep[t.device] = true
	}
	for name, l := range a.links {
		if l.ours && !keep[name] {
			if err := dropInterface(l.index); err != nil {
				return err
			}
		}
	}
	return nil
}

// narrow takes from peers what they are no longer allowed.
func (a *applying) narrow() error {
	for _, t := range a.wider {
		if err := narrow(a.p.client, a.is, t); err != nil {
			return err
		}
	}
	return nil
}
