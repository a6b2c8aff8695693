package agent

import (
	"fmt"
	"hash/fnv"
	"net/netip"
	"slices"

	"wideknot/core/gateway"
)

// A chooser chooses by what it knows of tunnels.
type chooser struct {
	config        *gateway.Config // as Spread made it
	keeping       map[int]int     // by way: the marks of overlays to whose limits it keeps
	alive, within func(name string) bool
	tunnels       map[string]*gateway.Tunnel
}

func newChooser(c *gateway.Config, keeping map[int]int, alive, within func(name string) bool) *chooser {
	k := &chooser{config: c, keeping: keeping, alive: alive, within: within, tunnels: make(map[string]*gateway.Tunnel, len(c.Tunnels))}
	for i := range c.Tunnels {
		k.tunnels[c.Tunnels[i].Interface] = &c.Tunnels[i]
	}
	return k
}

// use returns the members by which a way goes: those that live, and are wanted, of the
// first group with one; and the group's place, 0 for none. Where the way keeps to limits,
// those of the same overlay to the same site that are within come first.
func (k *chooser) use(w *gateway.Way, wanted func(t *gateway.Tunnel) bool) (members []gateway.Member, place int) {
	first := func(groups []gateway.Group, good func(name string) bool) ([]gateway.Member, int) {
		for _, g := range groups {
			for _, m := range g.Members {
				if good(m.Interface) && (wanted == nil || wanted(k.tunnels[m.Interface])) {
					members = append(members, m)
				}
			}
			if len(members) > 0 {
				return members, g.Place
			}
		}
		return nil, 0
	}
	marks := k.keeping[w.ID]
	if marks == 0 {
		return first(w.Groups, k.alive)
	}
	for at := 0; at < len(w.Groups); {
		t := k.tunnels[w.Groups[at].Members[0].Interface]
		end := at + 1
		for end < len(w.Groups) {
			o := k.tunnels[w.Groups[end].Members[0].Interface]
			if o.Overlay != t.Overlay || o.Peer != t.Peer {
				break
			}
			end++
		}
		if k.config.Held.MarkOf(t.Overlay)&marks != 0 {
			if members, place = first(w.Groups[at:end], k.within); place > 0 {
				return members, place
			}
		}
		if members, place = first(w.Groups[at:end], k.alive); place > 0 {
			return members, place
		}
		at = end
	}
	return nil, 0
}

// A Place is a prefix in a table.
type Place struct {
	Table  int
	Prefix netip.Prefix
}

// A Choice is by what everything goes: ways, and those prefixes that hubs' telling has
// moved to another way than their own.
type Choice struct {
	Uses   []Use
	Groups []int // of the configuration's ways, by their places; 0 where none lives
	Steers map[Place]int
}

// firstDetour is the first number of ways that only telling makes; they stand beyond
// those of configurations.
const firstDetour = gateway.FirstWay + gateway.WayNumbers

// decide chooses for everything. Of a prefix of which hubs tell, firsts say at which
// neighbour its best living path begins: where its way goes elsewhere, it goes by those
// tunnels of its way that lead there.
func (k *chooser) decide(firsts []map[int]string) Choice {
	c := k.config
	out := Choice{Steers: map[Place]int{}, Uses: make([]Use, len(c.Ways)), Groups: make([]int, len(c.Ways))}
	for i := range c.Ways {
		out.Uses[i].Way = c.Ways[i].ID
		out.Uses[i].Members, out.Groups[i] = k.use(&c.Ways[i], nil)
	}
	if len(firsts) == 0 {
		return out
	}
	byID := make(map[int]int, len(c.Ways))
	for i := range c.Ways {
		byID[c.Ways[i].ID] = i
	}
	type detour struct {
		way  int
		peer string
	}
	made := map[detour]int{}
	for i := range c.Routes {
		r := &c.Routes[i]
		if r.Telling == 0 || r.Telling > len(firsts) {
			continue
		}
		first := firsts[r.Telling-1][r.To]
		at := byID[r.Way]
		if first == "" || len(out.Uses[at].Members) > 0 && k.tunnels[out.Uses[at].Members[0].Interface].Peer == first {
			continue
		}
		d := detour{r.Way, first}
		id, known := made[d]
		if !known {
			members, place := k.use(&c.Ways[at], func(t *gateway.Tunnel) bool { return t.Peer == first })
			if place > 0 {
				id = detourID(r.Way, first, made)
				out.Uses = append(out.Uses, Use{id, members})
			}
			made[d] = id
		}
		if id != 0 {
			out.Steers[Place{r.Table, r.Prefix}] = id
		}
	}
	return out
}

// detourID numbers the way by which a prefix goes in place of its own: the same for the
// same two, unless another has it.
func detourID[K comparable](way int, peer string, taken map[K]int) int {
	hash := fnv.New32a()
	fmt.Fprintf(hash, "%d %s", way, peer) // never fails
	id := int(hash.Sum32() % gateway.WayNumbers)
	for used := true; used; {
		used = false
		for _, t := range taken {
			if t == firstDetour+id {
				used, id = true, (id+1)%gateway.WayNumbers
			}
		}
	}
	return firstDetour + id
}

// steered lists the prefixes whose way is another than before, with that way.
func steered(c *gateway.Config, was, is map[Place]int) map[Place]int {
	out := map[Place]int{}
	for place, way := range is {
		if was[place] != way {
			out[place] = way
		}
	}
	if len(was) > 0 {
		for i := range c.Routes {
			place := Place{c.Routes[i].Table, c.Routes[i].Prefix}
			if _, before := was[place]; before && is[place] == 0 {
				out[place] = c.Routes[i].Way
			}
		}
	}
	return out
}

// moved lists the uses that are others than before.
func moved(was, is []Use) (out []Use) {
	before := make(map[int]*Use, len(was))
	for i := range was {
		before[was[i].Way] = &was[i]
	}
	for i := range is {
		if b := before[is[i].Way]; b == nil || !slices.Equal(b.Members, is[i].Members) {
			out = append(out, is[i])
		}
	}
	return out
}
