package diagnose

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"wideknot/core/outage"
	"wideknot/golden"
)

// What is said of each part of the demo's estate that fails, and of some that fail together,
// beside what gateways do of themselves.
func TestSituationsAreGolden(t *testing.T) {
	m := brindlewater(t)
	model := outage.New(m)
	random := rand.New(rand.NewPCG(8, 1))
	all := model.Parts()
	var text strings.Builder
	say := func(name string, k *Known) {
		is := Look(k, model)
		fmt.Fprintf(&text, "%s: cut %d, squeezed %d, moved %d, cut off %v\n", name, is.Cut, is.Squeezed, is.Moved, is.CutSites)
		for i := range is.Troubles {
			x := &is.Troubles[i]
			fmt.Fprintf(&text, "\t%s\n\t\t%s (%s), since %q, %d tunnels %v, pair %v, foreseen %v: cut %d %v, squeezed %d, moved %d\n\t\t%s %v\n\t\tunsettled %v, patient %v, fresh %v\n",
				x.Words, x.Name(), x.Sure, x.Since, x.Tunnels, x.Dead[:min(2, len(x.Dead))], x.Pair, x.Foreseen, x.Cut, x.CutSites, x.Squeezed, x.Moved, x.Repair.Words, [2]string{x.Repair.Where, x.Repair.Site}, x.Unsettled, x.Patient, x.Fresh)
		}
	}
	for _, p := range all {
		if p.Degree == outage.Dead && p.Kind != outage.Gateway {
			say(p.String(), reported(t, m, model, p))
		}
	}
	for range 25 {
		var parts []outage.Part
		var names []string
		for range 2 + random.IntN(3) {
			if p := all[random.IntN(len(all))]; p.Degree == outage.Dead {
				parts, names = append(parts, p), append(names, p.String())
			}
		}
		k := reported(t, m, model, parts...)
		for i := range m.Plan.Estate.Sites {
			g := k.Of(m.Plan.Estate.Sites[i].Key)
			switch random.IntN(40) {
			case 0:
				g.Clock = 70_000 - random.IntN(2)*140_000
			case 1:
				g.ByHand = true
			case 2:
				g.Failed = "no room"
			case 3:
				g.Joined = false
			case 4:
				g.Up = false
			case 5:
				g.Fresh = true
			case 6:
				g.Rising = true
			case 7:
				for j := range g.State.Tunnels {
					x := &g.State.Tunnels[j]
					x.Up, x.SteadyIn, x.Since = false, 60*random.IntN(2), "2026-12-01T02:00:00Z"
				}
			case 8:
				for j := range g.State.Tunnels {
					g.State.Tunnels[j].Beyond = true
				}
			case 9:
				for j := range g.State.Tunnels {
					g.State.Tunnels[j].Up, g.State.Tunnels[j].Held = random.IntN(2) == 0, true
				}
			case 10:
				g.State.Links[0].NextHopUp = false
			}
		}
		say(strings.Join(names, " and "), k)
	}
	golden.Text(t, "testdata/situations.txt", []byte(text.String()))
}
