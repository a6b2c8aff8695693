package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"wideknot/core/estate"
	"wideknot/core/outage"
	"wideknot/core/tunnel"
)

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
		t := Trouble{
			Code: UDPBlocked, Sure: Likely, Site: key, Link: l.Key, Part: outage.Part{Kind: outage.Link, Name: key + "/" + l.Key}.String(),
			Words:  fmt.Sprintf("none of the tunnels of %s (%s) lives: its carrier may let no UDP through", key, l.Key),
			Repair: Cure{Words: "Ask why, for one of them; then tell " + orCarrier(l.Provider) + "."},
		}
		its := func(t *tunnel.Tunnel) bool { return s.by(t, map[circuit]bool{is.circuit: true}) }
		if steady, dead := s.steadying(its); steady > 0 { // they are answered, so UDP passes
			t.Code, t.Patient = Flapping, true
			t.Words = fmt.Sprintf("the circuit %s of %s came and went, and its tunnels are kept out until they are steady", l.Key, key)
			t.Repair = Cure{Words: "They come back by themselves. Where it goes on, tell " + orCarrier(l.Provider) + ": Over time shows when.", Where: "watch", Site: key}
			if steady == dead {
				t.Sure = Sure
			}
		}
		s.add(t, its)
	}
}

// steadying counts, of the tunnels that are under no trouble yet, those that are kept out because
// they came and went.
func (s *sorter) steadying(its func(*tunnel.Tunnel) bool) (steady, dead int) {
	for _, p := range s.left {
		if !its(p.tunnel) {
			continue
		}
		if dead++; s.steadies(p.tunnel) {
			steady++
		}
	}
	return steady, dead
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
