package route

// An Answers table keeps answers on the tunnel by which their flow came, where
// tunnels share the load: so a flow takes one tunnel there and back, though
// each end chooses among them by itself.
type Answers struct {
	Arriving []string // interfaces by which the flows come
	// Routes are of kind Overlay with one hop each, which there is only while its
	// tunnel is alive; what they do not match goes by the site's other tables.
	Routes []Route
}

// Answers returns a site's tables for answers: for each overlay, one for each
// place that tunnels which share the load have in the order of their
// adjacencies. They come before all other tables of the site.
func (m *Map) Answers(site int) []Answers {
	var out []Answers
	for _, overlay := range m.overlaysOf(site) {
		arriving := map[int][]string{} // by place
		last := -1
		for _, e := range m.Plan.Ends(site) {
			if _, _, t := m.Plan.At(e); e.Overlay == overlay && t.Weight > 0 {
				local, _ := m.Plan.Sides(e)
				arriving[e.Tunnel] = append(arriving[e.Tunnel], local.Interface)
				last = max(last, e.Tunnel)
			}
		}
		if last < 0 {
			continue
		}
		routes := m.routes(site, []int{overlay}, nil)
		for place := 0; place <= last; place++ {
			if arriving[place] == nil {
				continue
			}
			table := Answers{Arriving: arriving[place]}
			for _, r := range routes {
				sharing := Sharing(r.Hops)
				for _, h := range r.Hops[:sharing] {
					if sharing > 1 && h.End.Tunnel == place {
						h.Weight = 0
						r.Hops = []Hop{h}
						table.Routes = append(table.Routes, r)
						break
					}
				}
			}
			if len(table.Routes) > 0 {
				out = append(out, table)
			}
		}
	}
	return out
}
