package rollouts

import (
	"fmt"
	"net/netip"
	"testing"

	"wideknot/core/gateway"
	"wideknot/core/rollout"
	"wideknot/internal/server/store"
)

// What gateways heard is judged against what was expected.
func TestEchoesAreJudged(t *testing.T) {
	at := netip.MustParseAddr
	owners := map[netip.Addr]string{at("100.96.0.1"): "mill", at("100.96.0.2"): "weir"}
	by := func(hops ...string) (out []netip.Addr) {
		for _, h := range hops {
			out = append(out, at(h))
		}
		return out
	}
	two := rollout.Echo{Arrives: true, MTU: 1420, Hubs: []string{"mill", "weir"}}
	straight := rollout.Echo{Arrives: true, MTU: 1420}
	for _, c := range []struct {
		name    string
		is      rollout.Echo
		certain bool
		heard   *gateway.Echoed
		mark    byte
	}{
		{"as expected", two, true, &gateway.Echoed{Answered: 1420, Hops: by("100.96.0.1", "100.96.0.2")}, asIs},
		{"nothing is said", two, true, nil, silent},
		{"no answer", two, true, &gateway.Echoed{}, lostEcho},
		{"no answer where none was to come", rollout.Echo{}, true, &gateway.Echoed{}, asNone},
		{"an answer where none was to come", rollout.Echo{}, true, &gateway.Echoed{Answered: 84}, surprised},
		{"the same where a tunnel was dead before", rollout.Echo{}, false, &gateway.Echoed{Answered: 84}, asIs},
		{"a small one", two, true, &gateway.Echoed{Answered: 84, Hops: by("100.96.0.1", "100.96.0.2")}, small},
		{"by another", two, true, &gateway.Echoed{Answered: 1420, Hops: by("100.96.0.2", "100.96.0.1")}, otherWay},
		{"by fewer", two, true, &gateway.Echoed{Answered: 1420, Hops: by("100.96.0.1")}, otherWay},
		{"by more", straight, true, &gateway.Echoed{Answered: 1420, Hops: by("100.96.0.1")}, otherWay},
		{"by a stranger", straight, true, &gateway.Echoed{Answered: 1420, Hops: by("192.0.2.1")}, otherWay},
		{"straight", straight, true, &gateway.Echoed{Answered: 1420}, asIs},
		{"one says nothing", two, true, &gateway.Echoed{Answered: 1420, Hops: by("0.0.0.0", "100.96.0.2")}, asIs},
		{"both say nothing", two, true, &gateway.Echoed{Answered: 1420, Hops: by("0.0.0.0", "0.0.0.0")}, asIs},
		{"a wrong one, and then nothing", two, true, &gateway.Echoed{Answered: 1420, Hops: by("100.96.0.2", "0.0.0.0", "0.0.0.0")}, otherWay},
	} {
		q := question{from: "tarn", to: "beck", is: c.is, certain: c.certain}
		if mark, seen := q.judge(c.heard, owners); mark != c.mark || (seen == "") != (mark == asIs || mark == asNone || mark == silent) {
			t.Errorf("%s: %c %q, not %c", c.name, mark, seen, c.mark)
		}
	}
	q := question{from: "tarn", to: "beck", source: at("10.1.0.1"), target: at("10.2.0.1"), is: straight, certain: true}
	try := func(answered int) []store.Ask {
		output := fmt.Sprintf(`[{"from":"10.1.0.1","to":"10.2.0.1","answered":%d}]`, answered)
		return []store.Ask{{Site: "tarn", Output: &output}}
	}
	for name, c := range map[string]struct {
		tries [][]store.Ask
		mark  byte
	}{
		"answered in one try of three":       {[][]store.Ask{try(84), try(1420), try(0)}, asIs},
		"never whole, the last counts":       {[][]store.Ask{try(0), try(84)}, small},
		"its gateway said nothing in a try":  {[][]store.Ask{try(84), {{Site: "tarn"}}}, small},
		"its gateway said nothing in any":    {[][]store.Ask{{{Site: "tarn"}}, {}}, silent},
		"its gateway told in the second try": {[][]store.Ask{{}, try(1420)}, asIs},
	} {
		var tries []map[string]map[[2]netip.Addr]*gateway.Echoed
		for _, rows := range c.tries {
			tries = append(tries, heard(rows))
		}
		if mark, _ := q.best(tries, owners); mark != c.mark {
			t.Errorf("%s: %c, not %c", name, mark, c.mark)
		}
	}
	pairs := func(list ...[2]string) (out []Unexpected) {
		for _, p := range list {
			out = append(out, Unexpected{Site: p[0], to: p[1]})
		}
		return out
	}
	for want, list := range map[string][]Unexpected{
		", all of them from or to weir": pairs([2]string{"weir", "mill"}, [2]string{"tarn", "weir"}, [2]string{"weir", "tarn"}),
		", all of them from or to mill": pairs([2]string{"weir", "mill"}, [2]string{"tarn", "mill"}),
	} {
		if got := common(list); got != want {
			t.Errorf("%v: %q", list, got)
		}
	}
	if got := common(pairs([2]string{"weir", "mill"}, [2]string{"tarn", "beck"})) + common(pairs([2]string{"weir", "mill"})); got != "" {
		t.Errorf("of nothing in common, and of one: %q", got)
	}
	g := newGrid([]string{"a", "b"})
	g.put("a", "b", asIs)
	g.put("b", "elsewhere", lostEcho)
	if rows := g.rows(); rows[0] != ".a" || rows[1] != ".." {
		t.Errorf("the grid: %q", rows)
	}
	if few := thinned(make([]question, 1000), 400); len(few) != 400 {
		t.Errorf("%d of 1000", len(few))
	}
	there := []question{{from: "tarn", source: at("10.1.0.1"), target: at("10.2.0.1")}, {from: "tarn", source: at("10.1.0.1"), target: at("10.3.0.1")}, {from: "beck", source: at("10.3.0.1"), target: at("10.1.0.1")}}
	rows := []store.Ask{{Site: "tarn", Input: `[{"from":"10.1.0.1","to":"10.2.0.1"},{"from":"10.1.0.1","to":"10.4.0.1"}]`}}
	if list := asked(there, rows); len(list) != 1 || list[0].target != at("10.2.0.1") {
		t.Errorf("asked were %+v", list)
	}
	if list := asks(3, 101); len(list) != 2 || list[0] != 4 || list[1] != 53 {
		t.Errorf("of many it asks %v", list)
	}
}
