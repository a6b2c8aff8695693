package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/outage"
	"wideknot/core/tunnel"
)

// A Trouble is something that is not as designed, with all that it explains: a carrier that is
// dead is one, not each of its tunnels.
type Trouble struct {
	Code  Code         `json:"code"`
	Sure  Sureness     `json:"sure" enum:"sure,likely,possible"`
	Words string       `json:"words"`
	Site  string       `json:"site,omitempty"`
	Link  string       `json:"link,omitempty"`
	Part  string       `json:"part,omitempty" doc:"that failed, as outages name it"`
	Since gateway.Time `json:"since,omitempty" doc:"when the first of its tunnels died"`
	// Tunnels are those that it explains, and Beyond those that its failure does not foresee.
	Tunnels  int      `json:"tunnels"`
	Dead     []string `json:"dead" doc:"the first of its tunnels, by name"`
	Pair     []string `json:"pair,omitempty" doc:"two sites, where it is one tunnel"`
	Overlay  string   `json:"overlay,omitempty"`
	Foreseen bool     `json:"foreseen" doc:"all that is dead is what the outage of the part foresees"`
	Moved    int      `json:"moved" doc:"pairs of sites that are carried otherwise, as foreseen"`
	Squeezed int      `json:"squeezed" doc:"of which there is too little room"`
	Cut      int      `json:"cut" doc:"pairs of sites that are cut"`
	CutSites []string `json:"cut_sites" doc:"sites that are cut off, the first"`
	Repair   Cure     `json:"repair"`
	// All names all of its tunnels, and Unsettled says that it may soon be told as part of another
	// one: what its circuit says comes later.
	All       []string `json:"-"`
	Unsettled bool     `json:"-"`
	Patient   bool     `json:"-"` // it cuts nobody, and mostly passes: lines come back after tunnels
	Fresh     bool     `json:"-"` // one of its tunnels is on its way up for the first time
}

// Name tells troubles apart, whatever they explain at present.
func (t *Trouble) Name() string {
	tunnel := ""
	if len(t.Pair) > 0 && len(t.Dead) > 0 {
		tunnel = t.Overlay + " " + t.Dead[0]
	}
	return strings.Join([]string{string(t.Code), t.Site, t.Link, t.Part, tunnel}, "|")
}

// mostNamed is how many names a trouble lists.
const mostNamed = 8

// clockLimit is from where on a clock is a trouble, in ms.
const clockLimit = 60_000

// sorter puts dead tunnels under their causes.
type sorter struct {
	diagnoser
	model   *outage.Model
	dying   map[*tunnel.Tunnel]bool
	put     map[*tunnel.Tunnel]bool // under a trouble
	silent  map[string]bool         // circuits that are dead, SITE/LINK; true where their gateways say so
	gone    map[string]bool         // gateways that are off
	list    []Trouble
	tunnels []placed
	left    []placed // those that are dead and under no trouble yet
}

// A circuit is a site's link, by its place.
type circuit struct{ site, link int }

// placed is a tunnel where it stands in the plan.
type placed struct {
	overlay string
	tunnel  *tunnel.Tunnel
}

// A Situation is all that is not as designed, and what comes of it together.
type Situation struct {
	Troubles []Trouble `json:"troubles" doc:"worst first"`
	Cut      int       `json:"cut" doc:"pairs of sites that the failures cut together, as foreseen"`
	Squeezed int       `json:"squeezed" doc:"pairs of which there is too little room"`
	Moved    int       `json:"moved" doc:"pairs that go by other tunnels"`
	CutSites []string  `json:"cut_sites" doc:"sites that are cut off, the first"`
}

// Look says what is not as designed, by what gateways reported last.
func Look(k *Known, m *outage.Model) Situation {
	s := &sorter{
		diagnoser: diagnoser{Known: k, plan: k.Routes.Plan, from: -1, to: -1, wants: map[string]*Want{}}, model: m,
		dying: map[*tunnel.Tunnel]bool{}, put: map[*tunnel.Tunnel]bool{}, silent: map[string]bool{}, gone: map[string]bool{}, list: []Trouble{},
	}
	s.collect()
	s.hear()
	told := s.circuits()
	s.off()
	s.alone(told)
	s.gateways()
	s.links()
	s.rest()
	s.poor()
	s.weigh()
	return s.situation()
}

// situation says what the failures do together: two that cut nobody each may.
func (s *sorter) situation() Situation {
	out := Situation{Troubles: s.list, CutSites: []string{}}
	var parts []outage.Part
	for i := range s.list {
		if p, err := outage.ParsePart(s.list[i].Part); err == nil && s.list[i].Foreseen {
			parts = append(parts, p)
		}
	}
	o, err := s.model.Fail(parts...)
	if len(parts) == 0 || err != nil {
		return out
	}
	out.Cut, out.Squeezed, out.Moved = o.Cut, o.Squeezed, o.Moved
	out.CutSites = s.cutOff(&o)
	return out
}

// cutOff names the first of the sites that an outcome cuts off.
func (s *sorter) cutOff(o *outage.Outcome) []string {
	out := []string{}
	for _, x := range o.Sites {
		if x.Verdict == outage.Cut && len(out) < mostNamed {
			out = append(out, s.key(x.Site))
		}
	}
	return out
}

// collect finds the tunnels that are dead.
func (s *sorter) collect() {
	for i := range s.plan.Overlays {
		o := &s.plan.Overlays[i]
		for j := range o.Adjacencies {
			for l := range o.Adjacencies[j].Tunnels {
				t := &o.Adjacencies[j].Tunnels[l]
				s.tunnels = append(s.tunnels, placed{o.Spec.Key, t})
				if !t.Mute && s.dead(t) {
					s.dying[t] = true
					s.left = append(s.left, placed{o.Spec.Key, t})
				}
			}
		}
	}
}

// hear finds gateways that nobody hears: they are off, or all their circuits are dead.
func (s *sorter) hear() {
	for i := range s.plan.Estate.Sites {
		alive, dead := s.heardBy(i)
		if g := s.Of(s.key(i)); g.Joined && !g.Up && alive == 0 && dead > 0 {
			s.gone[s.key(i)] = true
		}
	}
}

// off adds gateways that nobody hears, where no carrier explains that.
func (s *sorter) off() {
	for i := range s.plan.Estate.Sites {
		key := s.key(i)
		left := slices.ContainsFunc(s.plan.Ends(i), func(e tunnel.End) bool {
			_, _, t := s.plan.At(e)
			return s.dying[t] && !s.put[t]
		})
		if !s.gone[key] || !left {
			continue
		}
		s.add(Trouble{
			Code: Away, Sure: Likely, Site: key, Words: "the gateway of " + key + " is off, or all its circuits are dead", Part: outage.Part{Kind: outage.Gateway, Name: key}.String(),
			Repair: Cure{Words: "See to its power and its circuits; its line comes back by itself.", Where: "watch", Site: key},
		}, func(t *tunnel.Tunnel) bool { return t.A.Site == i || t.B.Site == i })
	}
}

// gateways finds those that are away though they carry, and those that are not what they are to
// be.
func (s *sorter) gateways() {
	for i := range s.plan.Estate.Sites {
		key := s.plan.Estate.Sites[i].Key
		g := s.Of(key)
		own := Trouble{Sure: Sure, Site: key, Repair: Cure{Where: "watch", Site: key}}
		switch {
		case !g.Joined || s.gone[key]:
			continue
		case !g.Up && !s.offline(i):
			own.Code, own.Sure, own.Words = Away, Likely, "the gateway of "+key+" is away, though it carries"
			own.Repair.Words = "See what keeps it from the server: its way to the internet, its clock, its certificate."
			own.Patient = true
			s.add(own, nil)
		case g.Failed != "":
			own.Code, own.Words = OlderRelease, fmt.Sprintf("the gateway of %s did not take release %d: %s", key, g.Release, g.Failed)
			own.Repair.Words = "See what it says against it."
			s.add(own, nil)
		case g.ByHand:
			own.Code, own.Words = ByHand, "somebody changed the gateway of "+key+" by hand"
			own.Repair.Words = "Put back what was confirmed, or take it into a draft."
			s.add(own, nil)
		}
		if g.Up && max(g.Clock, -g.Clock) >= clockLimit {
			own.Code, own.Sure, own.Words = ClockOff, Sure, fmt.Sprintf("the clock of %s is %d s off", key, g.Clock/1000)
			own.Repair.Words = "Set it right, and let something keep it so: certificates and IPsec need it."
			s.add(own, nil)
		}
	}
}

// offline reports whether all circuits by which a site reaches the internet are dead: its line
// to the server goes by them.
func (s *sorter) offline(site int) bool {
	any := false
	for j := range s.plan.Site(site).Links {
		l := &s.plan.Site(site).Links[j]
		if l.UnderlayOf() != estate.Internet {
			continue
		}
		if _, silent := s.silent[s.key(site)+"/"+l.Key]; !silent {
			return false
		}
		any = true
	}
	return any
}

// circuits adds those that are dead together, as they share a fate or a carrier. It returns
// those that it told of.
func (s *sorter) circuits() map[string]bool {
	of, order := s.common()
	// The larger one first: a carrier explains a mast that is its own.
	slices.SortStableFunc(order, func(a, b outage.Part) int { return cmp.Compare(len(of[b]), len(of[a])) })
	told := map[string]bool{}
	for _, p := range order {
		fresh, all, seen := 0, true, false
		sites := map[string]bool{}
		for _, name := range of[p] {
			own, silent := s.silent[name]
			all, seen = all && silent, seen || own
			site, _, _ := strings.Cut(name, "/")
			sites[site] = true
			if !told[name] {
				fresh++
			}
		}
		if !all || fresh < 2 || !seen && len(sites) < 2 { // of one gateway that is off all circuits are dead
			continue
		}
		for _, name := range of[p] {
			told[name] = true
		}
		s.together(p, of[p])
	}
	return told
}

// alone adds circuits that are dead and were not told of.
func (s *sorter) alone(told map[string]bool) {
	for i := range s.plan.Estate.Sites {
		key := s.key(i)
		for j := range s.plan.Estate.Sites[i].Links {
			l := &s.plan.Estate.Sites[i].Links[j]
			name := key + "/" + l.Key
			if w := s.linkState(key, l.Key); w != nil && !w.NextHopUp && len(l.NextHop) > 0 && l.Device != "" && s.Of(key).Up && !s.isSilent(name) {
				s.add(Trouble{
					Code: HopSilent, Sure: Possible, Site: key, Link: l.Key, Unsettled: true,
					Words:  fmt.Sprintf("the next hop of the circuit %s of %s does not answer", l.Key, key),
					Repair: Cure{Words: "Some of its tunnels are not known to be dead: those without probes show it late. See whether it carries.", Where: "watch", Site: key},
				}, nil)
			}
			if !s.isSilent(name) || told[name] || s.gone[key] {
				continue
			}
			s.add(Trouble{
				Code: CircuitDead, Sure: s.sureOf(name), Site: key, Link: l.Key, Part: outage.Part{Kind: outage.Link, Name: name}.String(),
				Words: fmt.Sprintf("the circuit %s of %s is dead", l.Key, key), Repair: Cure{Words: "Tell " + orCarrier(l.Provider) + "."},
			}, func(t *tunnel.Tunnel) bool { return s.by(t, map[circuit]bool{{i, j}: true}) })
		}
	}
}

// common finds the circuits that are dead, and lists what several circuits have in common.
func (s *sorter) common() (of map[outage.Part][]string, order []outage.Part) {
	of = map[outage.Part][]string{}
	for i := range s.plan.Estate.Sites {
		site := &s.plan.Estate.Sites[i]
		if !s.Of(site.Key).Joined {
			continue
		}
		for j := range site.Links {
			l := &site.Links[j]
			if l.NoTunnels {
				continue
			}
			name := site.Key + "/" + l.Key
			if s.circuitDead(site.Key, l) {
				s.silent[name] = s.Of(site.Key).Up
			}
			var parts []outage.Part
			for _, f := range l.SharedFate {
				parts = append(parts, outage.Part{Kind: outage.Fate, Name: f})
			}
			if l.Provider != "" {
				parts = append(parts, outage.Part{Kind: outage.Provider, Name: l.Provider})
			}
			for _, p := range parts {
				if of[p] == nil {
					order = append(order, p)
				}
				of[p] = append(of[p], name)
			}
		}
	}
	return of, order
}

func (s *sorter) isSilent(circuit string) bool {
	_, silent := s.silent[circuit]
	return silent
}

// sureOf is how sure it is that circuits are dead: of a gateway that is away only its far ends
// say so.
func (s *sorter) sureOf(circuits ...string) Sureness {
	for _, name := range circuits {
		if !s.silent[name] {
			return Likely
		}
	}
	return Sure
}

// circuitDead reports whether a circuit is: its next hop is asked and does not answer, and no
// tunnel of it lives. Of a gateway that is away it is enough that no far end hears it.
func (s *sorter) circuitDead(site string, l *estate.Link) bool {
	w := s.linkState(site, l.Key)
	if s.Of(site).Up && (w == nil || w.NextHopUp || len(l.NextHop) == 0 || l.Device == "") {
		return false
	}
	dead := 0
	for _, e := range s.plan.Ends(s.plan.SiteIndex(site)) {
		local, _ := s.plan.Sides(e)
		if s.plan.Link(local).Key != l.Key {
			continue
		}
		_, _, t := s.plan.At(e)
		if !s.dying[t] {
			return false
		}
		dead++
	}
	return dead > 0
}

// together adds what several circuits have in common.
func (s *sorter) together(p outage.Part, circuits []string) {
	set := map[circuit]bool{}
	for _, c := range circuits {
		set[s.circuit(c)] = true
	}
	t := Trouble{
		Code: CircuitDead, Sure: s.sureOf(circuits...), Part: p.String(), Words: fmt.Sprintf("%s is dead: all %d circuits of it", p.Name, len(circuits)),
		Repair: Cure{Words: "Tell " + p.Name + "; one message is enough."},
	}
	if p.Kind == outage.Fate {
		t.Words = fmt.Sprintf("%s is dead: all %d circuits that share it", p.Name, len(circuits))
		t.Repair.Words = "Tell whoever keeps " + p.Name + "; one message is enough."
	}
	s.add(t, func(t *tunnel.Tunnel) bool { return s.by(t, set) })
}

// by reports whether a tunnel goes by one of some circuits.
func (s *sorter) by(t *tunnel.Tunnel, circuits map[circuit]bool) bool {
	return circuits[circuit{t.A.Site, t.A.Link}] || circuits[circuit{t.B.Site, t.B.Link}]
}

// circuit finds one by its name, SITE/LINK.
func (s *sorter) circuit(name string) circuit {
	site, link, _ := strings.Cut(name, "/")
	i := s.plan.SiteIndex(site)
	return circuit{i, slices.IndexFunc(s.plan.Site(i).Links, func(l estate.Link) bool { return l.Key == link })}
}

// links finds those that are not known to be dead, and carry none of their tunnels; the one that
// explains most first.
func (s *sorter) links() {
	type idle struct {
		circuit
		left int
	}
	var list []idle
	for i := range s.plan.Estate.Sites {
		for j := range s.plan.Estate.Sites[i].Links {
			if left := s.unexplained(i, j); left >= 2 && s.Of(s.key(i)).Up {
				list = append(list, idle{circuit{i, j}, left})
			}
		}
	}
	slices.SortStableFunc(list, func(a, b idle) int { return cmp.Compare(b.left, a.left) })
	for _, is := range list {
		if s.unexplained(is.site, is.link) < 2 {
			continue // one that explains more had them
		}
		key, l := s.key(is.site), &s.plan.Site(is.site).Links[is.link]
		s.add(Trouble{
			Code: UDPBlocked, Sure: Likely, Site: key, Link: l.Key, Part: outage.Part{Kind: outage.Link, Name: key + "/" + l.Key}.String(),
			Words:  fmt.Sprintf("none of the tunnels of %s (%s) lives: its carrier may let no UDP through", key, l.Key),
			Repair: Cure{Words: "Ask why, for one of them; then tell " + orCarrier(l.Provider) + "."},
		}, func(t *tunnel.Tunnel) bool { return s.by(t, map[circuit]bool{is.circuit: true}) })
	}
}

// unexplained counts the tunnels of a circuit that are under no trouble, where all are dead; 0
// where one lives.
func (s *sorter) unexplained(site, link int) (left int) {
	for _, e := range s.plan.Ends(site) {
		local, _ := s.plan.Sides(e)
		_, _, t := s.plan.At(e)
		switch {
		case local.Link != link:
		case !s.dying[t]:
			return 0
		case !s.put[t]:
			left++
		}
	}
	return left
}

// rest adds the dead tunnels that nothing explains, one by one.
func (s *sorter) rest() {
	for _, p := range slices.Clone(s.left) {
		t := p.tunnel
		a, b := s.key(t.A.Site), s.key(t.B.Site)
		s.add(Trouble{
			Code: TunnelDead, Sure: Possible, Site: a, Link: s.plan.Link(&t.A).Key, Overlay: p.overlay, Pair: []string{a, b}, Unsettled: s.unsettled(t),
			Words:  fmt.Sprintf("the tunnel between %s (%s) and %s (%s) is dead", a, s.plan.Link(&t.A).Key, b, s.plan.Link(&t.B).Key),
			Repair: Cure{Words: "Ask why.", Where: "watch"},
		}, func(other *tunnel.Tunnel) bool { return other == t })
	}
}

// unsettled reports whether what a tunnel goes by, or is kept by, may be dead as a whole.
func (s *sorter) unsettled(t *tunnel.Tunnel) bool {
	for _, p := range []*tunnel.Port{&t.A, &t.B} {
		key := s.key(p.Site)
		l := s.plan.Link(p)
		w := s.linkState(key, l.Key)
		if g := s.Of(key); g.Joined && !g.Up || w != nil && !w.NextHopUp && len(l.NextHop) > 0 {
			return true
		}
	}
	return false
}

// poor finds tunnels that carry and are beyond their limits, by the link that most of them share.
func (s *sorter) poor() {
	left := map[*tunnel.Tunnel]bool{}
	for _, p := range s.tunnels {
		for _, port := range []*tunnel.Port{&p.tunnel.A, &p.tunnel.B} {
			if t := s.tunnelState(s.key(port.Site), port.Interface); t != nil && t.Up && t.Beyond && !s.dying[p.tunnel] {
				left[p.tunnel] = true
			}
		}
	}
	for len(left) > 0 {
		count := map[[2]int]int{}
		var most [2]int
		for _, p := range s.tunnels {
			if !left[p.tunnel] {
				continue
			}
			for _, port := range []*tunnel.Port{&p.tunnel.A, &p.tunnel.B} {
				at := [2]int{port.Site, port.Link}
				if count[at]++; count[at] > count[most] {
					most = at
				}
			}
		}
		site, l := s.plan.Site(most[0]), &s.plan.Site(most[0]).Links[most[1]]
		s.add(Trouble{
			Code: Lossy, Sure: Likely, Site: site.Key, Link: l.Key, Tunnels: count[most],
			Words:  fmt.Sprintf("%d tunnels of %s (%s) are beyond their limits of latency, jitter or loss", count[most], site.Key, l.Key),
			Repair: Cure{Words: "See its figures, and tell " + orCarrier(l.Provider) + ".", Where: "watch", Site: site.Key},
		}, nil)
		for t := range left {
			if t.A.Site == most[0] && t.A.Link == most[1] || t.B.Site == most[0] && t.B.Link == most[1] {
				delete(left, t)
			}
		}
	}
}

// add adds a trouble with the dead tunnels that are its, and what its failure does.
func (s *sorter) add(t Trouble, its func(*tunnel.Tunnel) bool) {
	t.Dead, t.CutSites = []string{}, []string{}
	left := s.left[:0]
	for _, p := range s.left {
		if its == nil || !its(p.tunnel) {
			left = append(left, p)
			continue
		}
		s.put[p.tunnel] = true
		t.Fresh = t.Fresh || s.rising(&p.tunnel.A) || s.rising(&p.tunnel.B)
		t.All = append(t.All, p.overlay+" "+s.plan.Ident(p.tunnel))
		if t.Tunnels++; len(t.Dead) < mostNamed {
			t.Dead = append(t.Dead, s.plan.Ident(p.tunnel))
		}
		for _, port := range []*tunnel.Port{&p.tunnel.A, &p.tunnel.B} {
			if state := s.tunnelState(s.key(port.Site), port.Interface); state != nil && !state.Up && state.Since != "" && (t.Since == "" || state.Since < t.Since) {
				t.Since = state.Since
			}
		}
	}
	s.left = left
	s.list = append(s.list, t)
}

// rising reports whether an end of a tunnel was never alive, at a gateway that called just now, or
// is of one whose tunnels are on their way up.
func (s *sorter) rising(p *tunnel.Port) bool {
	t := s.tunnelState(s.key(p.Site), p.Interface)
	g := s.Of(s.key(p.Site))
	return g.Rising || g.Fresh && (t == nil || t.Since == "" && t.HandshakeS == 0)
}

// foresee says what the failure of a trouble's part does by the design.
func (s *sorter) foresee(t *Trouble) {
	part, err := outage.ParsePart(t.Part)
	if err != nil {
		return
	}
	o, err := s.model.Fail(part)
	if err != nil {
		return
	}
	t.Foreseen, t.Moved, t.Squeezed, t.Cut = true, o.Moved, o.Squeezed, o.Cut
	t.CutSites = s.cutOff(&o)
}

// mostForeseen bounds for how many troubles it is worked out what they do.
const mostForeseen = 40

// weigh puts the worst first: who cuts somebody off, then what explains most.
func (s *sorter) weigh() {
	slices.SortStableFunc(s.list, func(a, b Trouble) int { return cmp.Compare(b.Tunnels, a.Tunnels) })
	for i := range s.list[:min(len(s.list), mostForeseen)] {
		if s.list[i].Part != "" {
			s.foresee(&s.list[i])
		}
	}
	slices.SortStableFunc(s.list, func(a, b Trouble) int {
		return cmp.Or(cmp.Compare(b.Cut, a.Cut), cmp.Compare(b.Squeezed, a.Squeezed), cmp.Compare(b.Tunnels, a.Tunnels), cmp.Compare(b.Moved, a.Moved), cmp.Compare(a.Sure.rank(), b.Sure.rank()))
	})
}
