package agent

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"

	"wideknot/core/gateway"
	"wideknot/core/words"
)

// move lets ways go by the tunnels that live.
func (a *Agent) move() {
	if a.running == nil {
		return
	}
	a.noteDead()
	c := a.spread(a.running.Config)
	choice := a.decide(c)
	uses, steers := moved(a.choice.Uses, choice.Uses), steered(c, a.choice.Steers, choice.Steers)
	if len(uses)+len(steers) == 0 {
		return
	}
	if err := a.plane.Use(c, uses, steers); err != nil {
		notes, err := a.plane.Mend(c, &choice)
		a.tell(notes)
		if err != nil {
			a.event(Trouble, "ways", "a way could not be moved: %v", err)
			return
		}
	}
	a.tellMoved(c, &choice)
	a.tellSteered(steers, &choice)
	a.choice = choice
}

// noteDead keeps which tunnels are dead for the next start, whether anything moves for it or not.
func (a *Agent) noteDead() {
	dead := a.prober.dead()
	if slices.Equal(dead, a.noted) {
		return
	}
	if err := a.store.jot("dead", dead); err != nil {
		a.Log.Warn("the state folder takes nothing", "reason", err)
		return
	}
	a.noted = dead
}

// spread returns a configuration as it is applied, see gateway.Config.Spread.
func (a *Agent) spread(c *gateway.Config) *gateway.Config {
	if a.spreadOf != c {
		a.spreadOf = c
		a.made, a.keeping = c.Spread()
	}
	return a.made
}

// decide chooses for a configuration as it is applied, by what lives and what was told.
func (a *Agent) decide(c *gateway.Config) Choice {
	alive, within := a.prober.alive()
	k := newChooser(c, a.keeping, func(name string) bool { return alive[name] }, func(name string) bool { return within[name] })
	return k.decide(a.prober.firsts())
}

// few is how many moves at once are told one by one.
const few = 4

// tellSteered writes which prefixes were moved by what hubs tell: a few, or else how many.
func (a *Agent) tellSteered(steers map[Place]int, choice *Choice) {
	by := map[int]string{}
	for i := range choice.Uses {
		by[choice.Uses[i].Way] = goes(choice.Uses[i].Members)
	}
	places := slices.SortedFunc(maps.Keys(steers), func(a, b Place) int { return cmp.Or(a.Prefix.Compare(b.Prefix), a.Table-b.Table) })
	for _, place := range places[:min(len(places), few)] {
		a.event(Steered, place.Prefix.String(), "%v %s, by what hubs tell", place.Prefix, by[steers[place]])
	}
	if more := len(places) - few; more > 0 {
		a.event(Steered, "", "%s with them", words.Many(more, "more prefix moves", "more prefixes move"))
	}
}

// tellMoved writes which ways go by another group: each of a few, or else how many.
func (a *Agent) tellMoved(c *gateway.Config, choice *Choice) {
	uses := choice.Uses
	var list []int
	for i := range choice.Groups {
		if i < len(a.choice.Groups) && choice.Groups[i] != a.choice.Groups[i] {
			list = append(list, i)
		}
	}
	for _, i := range list[:min(len(list), few)] {
		held := ""
		if a.keeping[c.Ways[i].ID] != 0 {
			held = ", for what is held to limits,"
		}
		a.event(WayMoved, strconv.Itoa(uses[i].Way), "the way by %s%s %s", c.Ways[i].Words(), held, goes(uses[i].Members))
	}
	if more := len(list) - few; more > 0 {
		a.event(WayMoved, "", "%s with them", words.Many(more, "more way moves", "more ways move"))
	}
}

func goes(members []gateway.Member) string {
	if len(members) == 0 {
		return "is dead: what would go by it is discarded"
	}
	names := make([]string, len(members))
	for i, m := range members {
		names[i] = m.Interface
	}
	return "goes by " + strings.Join(names, " + ")
}

// mend brings back what went with a link, and makes interfaces anew that are gone. One
// that somebody set down stays down.
func (a *Agent) mend() {
	if a.running == nil {
		return
	}
	notes, err := a.plane.Mend(a.spread(a.running.Config), &a.choice)
	a.tell(notes)
	if err == nil && a.gone() {
		err = a.apply(a.running.Config, a.running)
	}
	if err != nil {
		a.event(Trouble, "links", "what went with a link could not all be brought back: %v", err)
	}
	a.see()
}

// gone reports whether an interface of the configuration is not there at all.
func (a *Agent) gone() bool {
	r, err := a.plane.Read(a.running.Config)
	return err == nil && slices.ContainsFunc(a.running.Config.Tunnels, func(t gateway.Tunnel) bool { return !r.Tunnels[t.Interface].Present })
}
