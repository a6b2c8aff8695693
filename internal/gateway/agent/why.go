package agent

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"wideknot/core/addr"
	"wideknot/core/gateway"
)

// Why says in lines by which way a prefix or an address is reached from here, and why
// by that one: the most specific route of each table, who asks the table, and how each
// tunnel of the way is.
func (a *Agent) Why(ctx context.Context, to netip.Prefix) (lines []string, err error) {
	err = a.do(ctx, func() error {
		if a.running == nil {
			return errors.New("nothing was applied here yet")
		}
		lines = a.why(to)
		return nil
	})
	return lines, err
}

func (a *Agent) why(to netip.Prefix) (out []string) {
	c := a.spread(a.running.Config)
	best := map[int]*gateway.Route{}
	var tables []int
	for i := range c.Routes {
		r := &c.Routes[i]
		if !addr.Covers(r.Prefix, to) || carries(c, r.Table) {
			continue
		}
		if b := best[r.Table]; b == nil {
			tables = append(tables, r.Table)
			best[r.Table] = r
		} else if r.Prefix.Bits() > b.Prefix.Bits() {
			best[r.Table] = r
		}
	}
	for _, table := range tables {
		out = append(out, a.whyRoute(c, best[table])...)
	}
	if len(out) == 0 {
		out = append(out, fmt.Sprintf("%v is not behind any tunnel: what this gateway had before decides", to))
	}
	return out
}

func (a *Agent) whyRoute(c *gateway.Config, r *gateway.Route) []string {
	head := r.Prefix.String()
	if r.Table != gateway.DefaultTable {
		head += fmt.Sprintf(" in table %d, asked %s,", r.Table, who(c, r.Table))
	}
	if r.Way == 0 {
		return []string{fmt.Sprintf("%s leaves by %s at %s, outside all tunnels", head, r.Via, r.Device)}
	}
	now := time.Now()
	states := map[string]string{}
	a.prober.each(func(w *watched) { states[w.tunnel.Interface] = w.words(now) })
	for i := range c.Ways {
		w := &c.Ways[i]
		if w.ID != r.Way {
			continue
		}
		use, told := &a.choice.Uses[i], ""
		if way, ok := a.choice.Steers[Place{r.Table, r.Prefix}]; ok {
			for j := range a.choice.Uses {
				if a.choice.Uses[j].Way == way {
					use, told = &a.choice.Uses[j], ", as hubs tell that its way does not reach it"
				}
			}
		}
		out := []string{head + " " + goes(use.Members) + told}
		for _, g := range w.Groups {
			for _, m := range g.Members {
				mark := "  "
				if slices.Contains(use.Members, m) {
					mark = "* "
				}
				out = append(out, fmt.Sprintf("  %s%d. %s: %s", mark, g.Place, m.Interface, states[m.Interface]))
			}
		}
		return out
	}
	return nil
}

// carries reports whether a table is for the packets that carry tunnels alone.
func carries(c *gateway.Config, table int) bool {
	return slices.ContainsFunc(c.Links, func(l gateway.Link) bool { return l.Mark != 0 && l.Mark == table })
}

// who says which packets ask a table.
func who(c *gateway.Config, table int) string {
	var list []string
	for i := range c.Rules {
		r := &c.Rules[i]
		if r.Table != table {
			continue
		}
		switch {
		case len(r.Arriving) > 0:
			list = append(list, "by what comes from "+strings.Join(r.Arriving, ", "))
		case len(r.From) > 0:
			list = append(list, fmt.Sprintf("by what starts at %v", r.From))
		case r.Mark&gateway.PlaceMask != 0:
			list = append(list, fmt.Sprintf("by answers to what came by place %d", (r.Mark&gateway.PlaceMask)/gateway.PlaceUnit))
		case r.Mark&gateway.LimitMask != 0:
			list = append(list, "by all")
		}
		if len(list) == 1 && r.Mark&gateway.PlaceMask != 0 && len(r.Arriving)+len(r.From) > 0 {
			list[0] += fmt.Sprintf(" at place %d", (r.Mark&gateway.PlaceMask)/gateway.PlaceUnit)
		}
		if len(list) == 1 && r.Mark&gateway.LimitMask != 0 {
			list[0] += " that is held to the limits of " + strings.Join(overlaysOf(c, r.Mark), " and ")
		}
	}
	if len(list) == 0 {
		return "by nothing"
	}
	return list[0]
}

// overlaysOf names those to whose limits a mark holds packets.
func overlaysOf(c *gateway.Config, mark int) (out []string) {
	for i := range c.Held.Overlays {
		if o := &c.Held.Overlays[i]; o.Mark&mark != 0 {
			out = append(out, o.Overlay)
		}
	}
	return out
}

// words say how a tunnel is.
func (w *watched) words(now time.Time) string {
	since := ""
	if !w.life.since.IsZero() {
		since = fmt.Sprintf(" for %s", now.Sub(w.life.since).Round(time.Second))
	}
	switch {
	case !w.up:
		return "its interface is not up"
	case w.life.dead && now.Before(w.life.heldUntil):
		return fmt.Sprintf("dead%s; it came and went, so it stays out for %s more", since, w.life.heldUntil.Sub(now).Round(time.Second))
	case w.life.dead:
		return "dead" + since
	case w.farSaysDead(now):
		return "dead by the far end's probes, though this end's are answered"
	case !w.probes():
		return "up; nothing probes it"
	}
	latency, _ := w.quality.latency()
	if w.quality.Answered == 0 {
		return "taken for alive; no probe was answered yet"
	}
	beyond := ""
	if w.beyond {
		beyond = ", beyond its limits"
	}
	return fmt.Sprintf("alive%s, round trip %s%s", since, latency.Round(10*time.Microsecond), beyond)
}

func number(n int) string { return strconv.Itoa(n) }
