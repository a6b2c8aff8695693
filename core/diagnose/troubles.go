package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"wideknot/core/gateway"
	"wideknot/core/outage"
	"wideknot/core/tunnel"
	"wideknot/core/words"
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
	// Tunnels are those that it explains.
	Tunnels  int      `json:"tunnels"`
	Dead     []string `json:"dead" doc:"the first of its tunnels, by name"`
	Pair     []string `json:"pair,omitempty" doc:"two sites, where it is of tunnels between them"`
	Overlay  string   `json:"overlay,omitempty"`
	Foreseen bool     `json:"foreseen" doc:"all that is dead is what the outage of the part foresees"`
	Moved    int      `json:"moved" doc:"pairs of sites that are carried otherwise, as foreseen"`
	Squeezed int      `json:"squeezed" doc:"of which there is too little room"`
	Cut      int      `json:"cut" doc:"pairs of sites that are cut"`
	CutSites []string `json:"cut_sites" doc:"sites that are cut off, the first"`
	Repair   Cure     `json:"repair"`
	// All names all of its tunnels that are dead, and Unsettled says that it may soon be told as
	// part of another one: what its circuit says comes later.
	All       []string `json:"-"`
	Unsettled bool     `json:"-"`
	Patient   bool     `json:"-"` // it cuts nobody, and mostly passes: lines come back after tunnels
	Fresh     bool     `json:"-"` // one of its tunnels is on its way up for the first time
}

// Name tells troubles apart, whatever they explain at present.
func (t *Trouble) Name() string {
	return strings.Join([]string{string(t.Code), t.Site, t.Link, t.Part, t.Overlay, strings.Join(t.Pair, " ")}, "|")
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

// DeadTunnels counts the tunnels that are dead.
func (s *Situation) DeadTunnels() (n int) {
	for i := range s.Troubles {
		n += len(s.Troubles[i].All)
	}
	return n
}

// Look says what is not as designed, by what gateways reported last.
func Look(k *Known, m *outage.Model) Situation {
	s := &sorter{
		diagnoser: diagnoser{Known: k, plan: k.Routes.Plan, from: -1, to: -1, wants: map[string]*Want{}}, model: m,
		dying: map[*tunnel.Tunnel]bool{}, put: map[*tunnel.Tunnel]bool{}, silent: map[string]bool{}, gone: map[string]bool{}, list: []Trouble{},
	}
	s.collect()
	s.drilled()
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

// drilled adds tunnels that gateways hold down, which is nobody's fault.
func (s *sorter) drilled() {
	n := 0
	for _, p := range s.left {
		if s.held(p.tunnel) {
			n++
		}
	}
	if n > 0 {
		s.add(Trouble{Code: Drilled, Sure: Sure, Words: "a drill holds " + words.Many(n, "tunnel", "tunnels") + " down", Repair: letGo}, s.held)
	}
}

var letGo = Cure{Words: "They come back by themselves; the page of drills lets them go at once.", Where: "watch"}

// held reports whether an end of a tunnel holds it for a drill.
func (s *sorter) held(t *tunnel.Tunnel) bool {
	for _, p := range []*tunnel.Port{&t.A, &t.B} {
		if state := s.tunnelState(s.key(p.Site), p.Interface); state != nil && state.Held {
			return true
		}
	}
	return false
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

// rest adds the dead tunnels that nothing explains, together those of one overlay between two
// sites.
func (s *sorter) rest() {
	for len(s.left) > 0 {
		first := s.left[0]
		between := func(t *tunnel.Tunnel) bool { return t.A.Site == first.tunnel.A.Site && t.B.Site == first.tunnel.B.Site }
		var same []*tunnel.Tunnel
		for _, p := range s.left {
			if p.overlay == first.overlay && between(p.tunnel) {
				same = append(same, p.tunnel)
			}
		}
		a, b := s.key(first.tunnel.A.Site), s.key(first.tunnel.B.Site)
		n, is, keeps := len(same), "are", "are kept out until they are"
		if n == 1 {
			is, keeps = "is", "is kept out until it is"
		}
		t := Trouble{
			Code: TunnelDead, Sure: Possible, Site: a, Overlay: first.overlay, Pair: []string{a, b}, Unsettled: slices.ContainsFunc(same, s.unsettled),
			Words: fmt.Sprintf("%s of %s between %s and %s %s dead", words.Many(n, "tunnel", "tunnels"), first.overlay, a, b, is), Repair: Cure{Words: "Ask why.", Where: "watch"},
		}
		steadies := !slices.ContainsFunc(same, func(t *tunnel.Tunnel) bool { return !s.steadies(t) })
		if steadies {
			t.Code, t.Sure, t.Patient, t.Unsettled = Flapping, Sure, true, false
			t.Words = fmt.Sprintf("%s of %s between %s and %s came and went, and %s steady", words.Many(n, "tunnel", "tunnels"), first.overlay, a, b, keeps)
			t.Repair.Words = "They come back by themselves. Where it goes on, see why their circuits come and go: Over time shows when."
		}
		if steadies && len(same) == 1 {
			t.Words = fmt.Sprintf("the tunnel between %s (%s) and %s (%s) came and went, and is kept out until it is steady", a, s.plan.Link(&first.tunnel.A).Key, b, s.plan.Link(&first.tunnel.B).Key)
		} else if len(same) == 1 {
			t.Words = fmt.Sprintf("the tunnel between %s (%s) and %s (%s) is dead", a, s.plan.Link(&first.tunnel.A).Key, b, s.plan.Link(&first.tunnel.B).Key)
		}
		s.add(t, func(t *tunnel.Tunnel) bool { return slices.Contains(same, t) })
	}
}

// steadies reports whether an end keeps a tunnel out because it came and went.
func (s *sorter) steadies(t *tunnel.Tunnel) bool {
	for _, p := range []*tunnel.Port{&t.A, &t.B} {
		if state := s.tunnelState(s.key(p.Site), p.Interface); state != nil && state.SteadyIn > 0 {
			return true
		}
	}
	return false
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

// poor finds tunnels that carry and are beyond their limits, by the link that most of them share;
// those that a drill takes there together.
func (s *sorter) poor() {
	left := map[*tunnel.Tunnel]bool{}
	for _, p := range s.tunnels {
		for _, port := range []*tunnel.Port{&p.tunnel.A, &p.tunnel.B} {
			if t := s.tunnelState(s.key(port.Site), port.Interface); t != nil && t.Up && t.Beyond && !s.dying[p.tunnel] {
				left[p.tunnel] = true
			}
		}
	}
	drilled := 0
	for _, p := range s.tunnels {
		if left[p.tunnel] && s.held(p.tunnel) {
			drilled++
			delete(left, p.tunnel)
		}
	}
	if drilled > 0 {
		s.add(Trouble{Code: Drilled, Sure: Sure, Tunnels: drilled, Words: "a drill takes " + words.Many(drilled, "tunnel beyond its", "tunnels beyond their") + " limits", Repair: letGo}, nil)
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
		of := fmt.Sprintf("%s (%s)", site.Key, l.Key)
		s.add(Trouble{
			Code: Lossy, Sure: Likely, Site: site.Key, Link: l.Key, Tunnels: count[most],
			Words:  words.Many(count[most], "tunnel of "+of+" is beyond its", "tunnels of "+of+" are beyond their") + " limits of latency, jitter or loss",
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
