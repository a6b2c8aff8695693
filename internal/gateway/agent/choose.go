package agent

import (
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
