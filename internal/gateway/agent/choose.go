package agent

import (
	"fmt"
	"hash/fnv"
	"net/netip"
	"slices"

	"wideknot/core/gateway"
)

// choose says by which members each way goes: those that live of the first group with
// one. The second list has the number of the group, 0 for none.
func choose(c *gateway.Config, alive func(name string) bool) ([]Use, []int) {
	uses, groups := make([]Use, len(c.Ways)), make([]int, len(c.Ways))
	for i := range c.Ways {
		w := &c.Ways[i]
		uses[i].Way = w.ID
		for _, g := range w.Groups {
			for _, m := range g.Members {
				if alive(m.Interface) {
					uses[i].Members = append(uses[i].Members, m)
				}
			}
			if len(uses[i].Members) > 0 {
				groups[i] = g.Place
				break
			}
		}
	}
	return uses, groups
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
func decide(c *gateway.Config, alive func(name string) bool, firsts []map[int]string) Choice {
	out := Choice{Steers: map[Place]int{}}
	out.Uses, out.Groups = choose(c, alive)
	if len(firsts) == 0 {
		return out
	}
	tunnels := make(map[string]*gateway.Tunnel, len(c.Tunnels))
	for i := range c.Tunnels {
		tunnels[c.Tunnels[i].Interface] = &c.Tunnels[i]
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
		if first == "" || len(out.Uses[at].Members) > 0 && tunnels[out.Uses[at].Members[0].Interface].Peer == first {
			continue
		}
		d := detour{r.Way, first}
		id, known := made[d]
		if !known {
			members := leading(&c.Ways[at], func(name string) bool { return tunnels[name].Peer == first && alive(name) })
			if len(members) > 0 {
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

// leading returns the members of a way's first group that has some that are wanted.
func leading(w *gateway.Way, wanted func(name string) bool) (out []gateway.Member) {
	for _, g := range w.Groups {
		for _, m := range g.Members {
			if wanted(m.Interface) {
				out = append(out, m)
			}
		}
		if len(out) > 0 {
			return out
		}
	}
	return nil
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
