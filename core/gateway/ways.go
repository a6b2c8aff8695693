package gateway

import (
	"cmp"
	"hash/fnv"
	"slices"
	"strconv"

	"wideknot/core/route"
)

// ways collects the distinct ways of a gateway.
type ways struct {
	known map[*route.Hop]int // by the first of the hops, which routes share
	last  struct {           // of several routes in a row
		first *route.Hop
		n, at int
	}
	byText map[string]int // → place in made
	made   []Way
	texts  []string
	room   []byte
}

// of returns the place of the way that some hops make, from 1.
func (w *ways) of(hops []route.Hop) int {
	if w.last.first == &hops[0] && w.last.n == len(hops) {
		return w.last.at
	}
	at, ok := w.known[&hops[0]]
	if !ok || length(w.made[at-1].Groups) != len(hops) {
		at = w.add(groupsOf(hops))
		w.known[&hops[0]] = at
	}
	w.last.first, w.last.n, w.last.at = &hops[0], len(hops), at
	return at
}

// add returns the place of the way of some groups, from 1.
func (w *ways) add(groups []Group) int {
	if w.byText == nil {
		w.byText, w.known = map[string]int{}, map[*route.Hop]int{}
	}
	text := w.text(groups)
	at, ok := w.byText[string(text)]
	if !ok {
		w.made, w.texts = append(w.made, Way{Groups: groups}), append(w.texts, string(text))
		at = len(w.made)
		w.byText[string(text)] = at
	}
	return at
}

func length(groups []Group) (n int) {
	for i := range groups {
		n += len(groups[i].Members)
	}
	return n
}

// text writes groups so that equal ways, and no others, have equal texts.
func (w *ways) text(groups []Group) []byte {
	w.room = w.room[:0]
	for i := range groups {
		for _, m := range groups[i].Members {
			w.room = append(append(w.room, m.Interface...), ',')
			w.room = append(strconv.AppendInt(w.room, int64(m.Weight), 10), '/')
		}
		w.room[len(w.room)-1] = ' '
	}
	return w.room
}

func groupsOf(hops []route.Hop) []Group {
	members := make([]Member, len(hops))
	out := make([]Group, 0, len(hops))
	for at := 0; at < len(hops); {
		n := route.Sharing(hops[at:])
		group := members[at : at+n : at+n]
		for i := range group {
			group[i] = Member{Interface: hops[at+i].Interface, Weight: max(1, hops[at+i].Weight)}
		}
		kernelWeights(group)
		out = append(out, Group{Place: len(out) + 1, Members: group})
		at += n
	}
	return out
}

// kernelWeights divides the weights of a group by their common divisor and keeps them
// to 255, the most that a member of a next-hop group has.
func kernelWeights(group []Member) {
	divisor, most := 0, 1
	for _, m := range group {
		for a, b := divisor, m.Weight; ; a, b = b, a%b {
			if b == 0 {
				divisor = a
				break
			}
		}
	}
	for i := range group {
		group[i].Weight /= divisor
		most = max(most, group[i].Weight)
	}
	for i := range group {
		if most > 255 {
			group[i].Weight = max(1, group[i].Weight*255/most)
		}
	}
}

// number gives the ways their numbers, here and in routes, which know them by their
// places so far. The number follows from what a way is, not from what else
// there is: of two that would have the same, the one whose text sorts first has it.
func (w *ways) number(routes []Route) []Way {
	order := make([]int, len(w.made))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(w.texts[a], w.texts[b]) })
	taken := make(map[int]bool, len(order))
	for _, at := range order {
		hash := fnv.New32a()
		hash.Write([]byte(w.texts[at])) // never fails
		id := int(hash.Sum32() % WayNumbers)
		for taken[id] {
			id = (id + 1) % WayNumbers
		}
		taken[id] = true
		w.made[at].ID = FirstWay + id
	}
	for i := range routes {
		if at := routes[i].Way; at > 0 {
			routes[i].Way = w.made[at-1].ID
		}
	}
	return w.made
}
