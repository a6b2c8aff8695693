package rollout

import (
	"slices"

	"wideknot/core/gateway"
)

// numbered tells which gateway a number is, by the version of what hubs tell.
func numbered(gateways []Gateway) map[string]map[int]int {
	out := map[string]map[int]int{}
	for i := range gateways {
		for _, c := range []*gateway.Config{gateways[i].Old, gateways[i].New} {
			if c == nil {
				continue
			}
			for k := range c.Tellings {
				t := &c.Tellings[k]
				if out[t.Version] == nil {
					out[t.Version] = make(map[int]int, t.Sites)
				}
				out[t.Version][t.Me] = i
			}
		}
	}
	return out
}

// steer narrows a way to the tunnels by which the best living path to a site begins, where hubs
// tell of it and the way goes elsewhere; as agents do.
func (f *flight) steer(at int, here *node, r *gateway.Route, w *way) *way {
	if r.Telling == 0 || w == nil {
		return w
	}
	unseen := f.unseen // what is only looked at is not what a packet is lost by
	defer func() { f.unseen = unseen }()
	t := &here.config.Tellings[r.Telling-1]
	first, known := f.n.numbers[t.Version][t.First(r.To, func(a, b int) bool { return f.lives(at, here, t, a, b) })]
	if !known {
		return w
	}
	leads := func(m member) bool { return here.ends[m.tunnel].far == first }
	alive := func(m member) bool { return f.fate(at, here, m.tunnel) != skipped }
	for _, members := range w.groups {
		if i := slices.IndexFunc(members, alive); i >= 0 {
			if leads(members[i]) {
				return w
			}
			break
		}
	}
	out := &way{mtu: w.mtu}
	for _, members := range w.groups {
		some := slices.DeleteFunc(slices.Clone(members), func(m member) bool { return !leads(m) })
		if slices.ContainsFunc(some, alive) {
			out.groups = append(out.groups, some)
		}
	}
	if len(out.groups) == 0 {
		return w
	}
	return out
}

// lives reports whether a gateway takes the tunnels between two sites of an overlay to live: by
// itself where it is one of the two, else by what a hub among them tells, which is what that knew
// before the last change. Of what nobody tells the design holds.
func (f *flight) lives(at int, here *node, t *gateway.Telling, a, b int) bool {
	i, hasA := f.n.numbers[t.Version][a]
	j, hasB := f.n.numbers[t.Version][b]
	if !hasA || !hasB {
		return true
	}
	for _, k := range []int{i, j} {
		if !slices.Contains(f.asked, k) {
			f.asked = append(f.asked, k)
		}
	}
	if j == at {
		i, j = j, i
	}
	if i == at {
		return slices.ContainsFunc(here.toward[j], func(tunnel int) bool {
			return here.config.Tunnels[tunnel].Overlay == t.Overlay && f.fate(at, here, tunnel) != skipped
		})
	}
	state := f.state
	if f.before != nil {
		state = f.before
	}
	if !f.tells(state, i, t) && !f.tells(state, j, t) {
		return true
	}
	there := f.n.at(i, state[i])
	if slices.ContainsFunc(there.toward[j], func(tunnel int) bool {
		_, _, works := f.n.works(state, i, tunnel)
		return works && there.config.Tunnels[tunnel].Overlay == t.Overlay
	}) {
		return true
	}
	f.skips = true
	return false
}

// tells reports whether a gateway is a hub that tells what another one understands.
func (f *flight) tells(state []Stage, i int, t *gateway.Telling) bool {
	return slices.ContainsFunc(f.n.at(i, state[i]).config.Tellings, func(own gateway.Telling) bool {
		return own.Version == t.Version && slices.Contains(own.Hubs, own.Me)
	})
}
