package outage

// slack and tiny keep rounding from squeezing anyone.
const (
	slack = 1 + 1e-9
	tiny  = 1e-6
)

// loads are rates in Mbit/s: on each link what its tunnels carry, and on each
// gateway the sum over its tunnels, so that what it passes on counts in and
// out.
type loads struct {
	link, gate []float64
	none       state
	partners   []int
}

func (l *loads) clone() loads {
	return loads{link: append([]float64(nil), l.link...), gate: append([]float64(nil), l.gate...)}
}

// weigh sums up the demands of each site's partners: those with which it
// exchanges anything.
func (m *Model) weigh() {
	of := m.profiles.of
	total := make([]float64, len(m.profiles.kinds))
	for site, profile := range of {
		if profile >= 0 {
			total[profile] += m.demand[site]
		}
	}
	met := make([]float64, len(total)) // by profile: the demands of all that it meets
	for x := range total {
		for y := range total {
			if len(total) > mostProfiles || m.lanesBetween(x, y) != nil {
				met[x] += total[y]
			}
		}
	}
	partners := make([]float64, len(m.demand))
	for site, profile := range of {
		if profile < 0 {
			continue
		}
		partners[site] = met[profile]
		if m.lanesBetween(int(profile), int(profile)) != nil {
			partners[site] -= m.demand[site] // with itself it exchanges nothing here
		}
	}
	m.weight = make([]float64, len(partners))
	for i, p := range partners {
		if p > 0 {
			m.weight[i] = 1 / p
		}
	}
}

// flow is what two sites send each other, in Mbit/s each way. A site's demand
// d spreads over its partners as theirs do, d(i)·d(j)/Σd(partners of i). Of the
// two sites' views the lesser counts, so that nobody sends more than it wants.
func (m *Model) flow(i, j int) float64 {
	return m.demand[i] * m.demand[j] * min(m.weight[i], m.weight[j])
}

// carry adds a rate to all that a walk crosses.
func (b *bench) carry(w *way, mbps float64) {
	if !w.ok || mbps == 0 {
		return
	}
	var room [2]flowPart
	for k := range w.n {
		for _, p := range b.m.parts(w.legs[k], room[:]) {
			for _, l := range p.links {
				site := b.m.sites[l]
				b.load.link[l] += mbps * p.of
				b.load.gate[site] += mbps * p.of
				if !b.seenL[l] {
					b.seenL[l] = true
					b.logL = append(b.logL, int(l))
				}
				if !b.seenG[site] {
					b.seenG[site] = true
					b.logG = append(b.logG, site)
				}
			}
		}
	}
}

// settle computes the loads while nothing fails, and who is cut even then.
func (m *Model) settle() {
	sites := len(m.Plan.Estate.Sites)
	m.base = loads{link: make([]float64, len(m.sites)), gate: make([]float64, sites), partners: make([]int, sites), none: m.newState()}
	b := m.bench()
	all := make([]int, 0, sites)
	in := make([]bool, sites)
	for i := range sites {
		all = append(all, i)
		in[i] = true
	}
	var there, back way
	b.pairs(all, in, nil, func(i, j int) {
		lanes := m.lanesOf(i, j)
		reached := false
		for k := range lanes {
			l := &lanes[k]
			m.walk(m.none(), l, i, j, &there)
			pass := m.pass(l, &there, false)
			if !m.mirrored {
				m.walk(m.none(), l, j, i, &back)
				pass &= m.pass(l, &back, true)
			}
			if pass != 0 {
				reached = true
				b.carry(&there, m.flow(i, j)*l.weight*l.partOf(pass))
			}
		}
		if !reached {
			m.stranded[pairKey(i, j)] = true
			return
		}
		m.base.partners[i]++
		m.base.partners[j]++
	})
	m.base.link, m.base.gate = b.load.link, b.load.gate
}

// Load returns what a site's link carries while nothing fails, and what it can
// carry (0 when unknown), in Mbit/s.
func (m *Model) Load(site, link int) (load, capacity float64) {
	l := m.links[site] + link
	return m.base.link[l], m.capacity[l]
}

// GatewayLoad returns the same for a site's gateway.
func (m *Model) GatewayLoad(site int) (load, capacity float64) {
	return m.base.gate[site], m.through[site]
}
