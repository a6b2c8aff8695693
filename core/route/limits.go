package route

import "slices"

// Beyond lists the limits of its overlay that a tunnel is beyond, in words, by the
// figures of the survey and by what fails.
func (m *Map) Beyond(h *Hop, failing Failing) []string {
	o, _, t := m.Plan.At(h.End)
	limits := o.Spec.Limits()
	if limits == nil {
		return nil
	}
	out := limits.Exceeded(m.Plan.Quality(t))
	if failing.Slow != nil && failing.Slow(t) && (limits.LatencyMs > 0 || limits.JitterMs > 0) {
		out = append(out, "it is slow")
	}
	if failing.Lossy != nil && failing.Lossy(t) && limits.LossPercent > 0 {
		out = append(out, "it is lossy")
	}
	return out
}

// within puts the tunnels that keep to their overlay's limits before those that do not,
// among those between the same two sites, where the packet is held to them and both
// gateways keep to limits.
func (f *flight) within(hops []Hop) []Hop {
	var out []Hop
	for at := 0; at < len(hops); {
		end := at + 1
		for end < len(hops) && hops[end].End.Overlay == hops[at].End.Overlay && hops[end].End.Adjacency == hops[at].End.Adjacency {
			end++
		}
		run := hops[at:end]
		beyond := func(h Hop) bool { return len(f.m.Beyond(&h, f.failing)) > 0 }
		if f.held(&run[0]) && slices.ContainsFunc(run, beyond) {
			if out == nil {
				out = slices.Clone(hops)
			}
			sorted := out[at:at:end]
			for _, last := range []bool{false, true} {
				for _, h := range run {
					if beyond(h) != last {
						continue
					}
					if last {
						h.lead = -2 - h.lead // it shares with none of those within
					}
					sorted = append(sorted, h)
				}
			}
			if sorted[0].End != run[0].End || !beyond(sorted[0]) && Sharing(sorted) < Sharing(run) {
				sorted[0].Why = Limits
			}
		}
		at = end
	}
	if out == nil {
		return hops
	}
	return out
}

// held reports whether a hop's overlay holds the packet to its limits.
func (f *flight) held(h *Hop) bool {
	m := f.m
	o, _, _ := m.Plan.At(h.End)
	if !m.Plan.Site(f.at).Gateway.KeepsLimits(o.Spec) || !m.Plan.Site(h.Via).Gateway.KeepsLimits(o.Spec) {
		return false
	}
	near, far := "", ""
	if f.source.site >= 0 {
		near = m.Plan.Site(f.source.site).Subnets[f.source.subnet].Zone
	}
	if found, ok := m.shared[h.End.Overlay].around(f.to); ok {
		far = m.subnet(found[0]).Zone
	}
	return o.Spec.Holds(near, far)
}
