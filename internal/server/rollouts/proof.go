package rollouts

import (
	"fmt"
	"slices"
	"time"

	"wideknot/core/gateway"
	"wideknot/core/rollout"
	"wideknot/internal/server/store"
)

// A Proof is what was seen after a round, beside what was expected.
type Proof struct {
	At      *time.Time   `json:"at,omitempty"`
	Ends    int          `json:"ends" doc:"ends of tunnels that are to be alive"`
	Alive   int          `json:"alive" doc:"that their gateways say are"`
	Ways    int          `json:"ways" doc:"ways of gateways that are to go by one of their groups"`
	As      int          `json:"as_expected" doc:"that go by it"`
	Unseen  int          `json:"unseen" doc:"of gateways that are away: nothing is known of those"`
	Before  int          `json:"dead_before" doc:"ends that were dead before the rollout began: they are not asked for"`
	Differ  []Unexpected `json:"differ" doc:"some of what is not as expected"`
	Missing int          `json:"missing" doc:"how much is not as expected"`
	Echoes  *Echoes      `json:"echoes,omitempty"`
	// Keys name all that is not as expected, for who accepts it.
	Keys []string `json:"keys,omitempty" hidden:"true"`
}

// A Unexpected is one thing that is not as expected.
type Unexpected struct {
	Site     string `json:"site"`
	What     string `json:"what"`
	Expected string `json:"expected"`
	Seen     string `json:"seen"`
	key, to  string // to: the other site of an echo
}

// differ keeps what is not as expected.
func (p *Proof) differ(list ...Unexpected) {
	for _, d := range list {
		p.Keys = append(p.Keys, d.key)
		if p.Missing++; len(p.Differ) < mostDiffer {
			p.Differ = append(p.Differ, d)
		}
	}
}

// mostDiffer is how much of what differs is kept.
const mostDiffer = 50

// deadEnds lists the ends of tunnels that states say are dead.
func deadEnds(states map[string]string) []string {
	out := []string{}
	for site, text := range states {
		s, err := gateway.ParseState([]byte(text))
		if err != nil {
			continue // what is no state says nothing
		}
		for i := range s.Tunnels {
			if !s.Tunnels[i].Up {
				out = append(out, site+"/"+s.Tunnels[i].Interface)
			}
		}
	}
	slices.Sort(out)
	return out
}

// prove compares what is expected in a state with what gateways reported since a time. Ready
// is false while some have not reported yet. What was accepted counts as what was before.
func prove(expected []rollout.Expected, plan *Stored, accepted []string, live []store.LiveGateway, states map[string]string, since time.Time) (out Proof, ready bool) {
	ready = true
	out.Differ = []Unexpected{}
	known := map[string]*seen{}
	for i := range live {
		g := &live[i]
		if plan.Bases[g.Site] == 0 || g.BarredAt != nil || !g.Up {
			continue
		}
		if g.StateAt == nil || g.StateAt.Before(since) {
			ready = false
			continue
		}
		if s, err := gateway.ParseState([]byte(states[g.Site])); err == nil {
			known[g.Site] = newSeen(s)
		}
	}
	dead := map[string]bool{}
	for _, name := range plan.Dead {
		dead[name] = true
	}
	for _, name := range accepted {
		dead[name] = true
	}
	for _, e := range expected {
		here := known[e.Site]
		switch {
		case here == nil || e.Interface != "" && known[e.Peer] == nil:
			out.Unseen++
		case e.Interface != "" && dead[e.Site+"/"+e.Interface]:
			out.Before++
		case e.Interface != "":
			out.Ends++
			if here.alive(&e) {
				out.Alive++
			} else {
				out.differ(Unexpected{e.Site, "tunnel " + e.Interface + " to " + e.Peer, "alive", "dead", e.Site + "/" + e.Interface, e.Peer})
			}
		case here.excused, dead[wayKey(&e)]:
		default:
			out.Ways++
			if here.ways[e.Way] == e.Group || here.deadBefore(e.Site, dead) {
				out.As++
			} else {
				out.differ(Unexpected{e.Site, fmt.Sprintf("way %d", e.Way), fmt.Sprintf("by its group %d", e.Group), fmt.Sprintf("by its group %d", here.ways[e.Way]), wayKey(&e), ""})
			}
		}
	}
	return out, ready
}

func wayKey(e *rollout.Expected) string { return fmt.Sprintf("%s way %d", e.Site, e.Way) }

// seen is what a gateway reported.
type seen struct {
	tunnels map[string]*gateway.TunnelState
	ways    map[int]int // the group that each uses
	excused bool        // some tunnel is beyond its limits: ways go by others meanwhile
}

func newSeen(s *gateway.State) *seen {
	out := &seen{tunnels: make(map[string]*gateway.TunnelState, len(s.Tunnels)), ways: make(map[int]int, len(s.Ways))}
	for i := range s.Tunnels {
		t := &s.Tunnels[i]
		out.tunnels[t.Interface] = t
		out.excused = out.excused || t.Beyond
	}
	for _, w := range s.Ways {
		out.ways[w.ID] = w.Group
	}
	return out
}

// alive reports whether a tunnel is said to be: by a probe that was answered, where there are
// any.
func (s *seen) alive(e *rollout.Expected) bool {
	t := s.tunnels[e.Interface]
	return t != nil && t.Up && (e.Detect == 0 || t.Answered > 0)
}

// deadBefore reports whether some tunnel of the gateway was dead before: its ways may go by
// others for that.
func (s *seen) deadBefore(site string, dead map[string]bool) bool {
	for name := range s.tunnels {
		if dead[site+"/"+name] {
			return true
		}
	}
	return false
}
